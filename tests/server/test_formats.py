"""PLY and USD through the whole server: in, packed, out; read again by usd-core itself."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import numpy as np
import pytest
import shapely
from pxr import Usd, UsdGeom

from quilt_core import formats
from quilt_core.sheet import analyse
from tests.core.test_ply import CORNERS
from tests.core.test_usd import CRATES, SHED, layered

from .test_api import Browser
from .test_deliver import delivered
from .test_sheets import QUICK, job

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def browser() -> Browser:
    return Browser()


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for path, body in files.items():
            archive.writestr(path, body)
    return out.getvalue()


def packed(browser: Browser, **more: object) -> None:
    browser.change(settings={**browser.state()["settings"], **QUICK, **more})
    job(browser, "pack")


def test_the_layers_of_a_scene_come_in_as_one_file(browser: Browser, tmp_path: Path) -> None:
    browser.upload(scene__zip=zipped(layered()))
    state = browser.state()
    assert [f["name"] for f in state["files"]] == ["root.usda"] and len(state["objects"]) == 7
    packed(browser)
    archive = delivered(browser)
    archive.extractall(tmp_path)
    stage = Usd.Stage.Open(str(tmp_path / "root.usda"))
    boxes = []
    for path, name in (("/Two/Body", "UVMap"), ("/West/Mirror", "st")):
        uv = np.array(UsdGeom.PrimvarsAPI(stage.GetPrimAtPath(path)).GetPrimvar(name).ComputeFlattened())
        assert uv.min() >= 0 and uv.max() <= 1
        boxes.append(shapely.MultiPoint(uv).convex_hull)
    assert not boxes[0].intersects(boxes[1]), "meshes of two layers lie beside each other on the sheet"


def test_a_free_channel_of_usd_and_ply_beside_it(browser: Browser, tmp_path: Path) -> None:
    browser.upload(shed__usda=SHED.encode(), crates__usda=CRATES.encode())
    packed(browser, channel_out=3)
    archive = delivered(browser)
    archive.extractall(tmp_path)
    stage = Usd.Stage.Open(str(tmp_path / "shed.usda"))
    wall = UsdGeom.PrimvarsAPI(stage.GetPrimAtPath("/Shed/Wall"))
    assert np.array(wall.GetPrimvar("st").Get())[4] == pytest.approx((0.6, 0.6)), "the old UVs stay"
    assert np.array(wall.GetPrimvar("st3").ComputeFlattened()).min() >= 0


def test_ply_in_and_out(browser: Browser) -> None:
    browser.upload(crate__ply=CORNERS)
    packed(browser)
    archive = delivered(browser)
    scene = formats.read(archive.read("crate.ply"), "crate.ply")
    piece = analyse(scene, 0)[0]
    assert piece is not None and piece.islands.count == 2
    assert piece.islands.box.min() >= 0 and piece.islands.box.max() <= 1
    assert not piece.outlines.regions[0].intersects(piece.outlines.regions[1])
    browser.change(settings={**browser.state()["settings"], "channel_out": 1})
    made = job(browser, "deliver")
    assert made["state"] == "failed" and "one UV channel" in made["error"]
