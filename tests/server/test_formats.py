"""PLY and USD through the whole server: in, packed, out; read again by usd-core itself."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
import shapely
from pxr import Usd, UsdGeom

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.formats.pictures import pictures
from quilt_core.uv.analysis import analyse
from tests.core.test_faults import squares
from tests.core.test_ply import CORNERS
from tests.core.test_usd import CRATES, SHED, layered

from .test_api import Browser
from .test_deliver import MTL, delivered, painted_obj
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


@pytest.mark.parametrize("format", ["obj", "glb", "ply", "usdc", "usdz"])
def test_everything_in_one_file_with_one_material(browser: Browser, format: str) -> None:
    """An OBJ and a USD scene become one file; its material shows the carried map, whose path or body is found from the file."""
    browser.upload(parts__obj=painted_obj(), old__mtl=MTL, wheel__png=png("wheel"), sack__png=png("sack"), shed__usda=SHED.encode())
    packed(browser)
    archive = delivered(browser, paint=True, per_sheet=True, format=format, joined=True, templates="none")
    files = {n: archive.read(n) for n in archive.namelist()}
    main = next(n for n in files if n.endswith(f".{format}"))
    assert [n for n in files if n.endswith((".obj", ".usda", ".glb", ".ply", ".usdz", ".usdc"))] == [main]
    scene = formats.read(files[main], main, 1.0, files)
    assert [m.name.replace(".", "_") for m in scene.materials][:1] == ["Sheet_1_base_colour_1001" if format == "ply" else "Sheet_1"]
    assert pictures(scene, files)[0]["base colour"] == files["textures/Sheet_1.base_colour.1001.png"]
    report = json.loads(files["report.json"])
    assert report["ok"] and report["islands"] == 5
    merged = np.concatenate([p.outlines.regions for p in analyse(scene, 0) if p is not None])
    assert len(merged) == 5 and not any(a.intersects(b) for k, a in enumerate(merged) for b in merged[:k])


def test_each_file_in_another_format(browser: Browser) -> None:
    """Without carry-over the old pictures come along, each under a name of its own."""
    browser.upload(parts__obj=painted_obj(), old__mtl=MTL, wheel__png=png("wheel"), sack__png=png("sack"), crate__ply=CORNERS)
    packed(browser, channel_out=1)
    archive = delivered(browser, format="glb", templates="none")
    files = {n: archive.read(n) for n in archive.namelist()}
    assert {n for n in files if n.endswith(".glb")} == {"parts.glb", "crate.glb"}
    scene = formats.read(files["parts.glb"], "parts.glb")
    assert sorted(scene.meshes[0].channels) == [0, 1], "an OBJ can leave with a second channel"
    assert [p["base colour"] for p in pictures(scene, {})] == [png("wheel"), png("sack")]
    assert job(browser, "deliver", 422, format="fbx")["detail"].startswith("Files leave as they came")
    assert job(browser, "deliver", 422, joined=True)["detail"].startswith("Choose the format")


def test_channels_are_arranged_and_what_is_lost_is_told(browser: Browser) -> None:
    """The layout first and the tiling UVs behind it; then the layout alone, where the texture has nothing to be read by any more."""
    browser.upload(iron__glb=two_channels([box(Part("a"), (0, 0, 0), (1, 1, 1)).uv(0.1)], 1.0, png("crane")))
    job(browser, "channel", channel=1)
    packed(browser)
    asked = [{"from": "layout"}, {"from": 0}]
    scene = formats.read(delivered(browser, channels=asked).read("iron.glb"), "iron.glb")
    piece = analyse(scene, 0)[0]
    assert piece is not None and piece.islands.box.min() >= 0 and piece.islands.box.max() <= 1
    assert scene.materials[0].channels == {"baseColorTexture": 1} and sorted(scene.meshes[0].channels) == [0, 1]
    usd = delivered(browser, channels=[{"from": 0, "name": "tiling"}, {"from": "layout", "name": "atlas"}], format="usda")
    assert {"tiling", "atlas"} <= {n for m in formats.read(usd.read("iron.usda"), "iron.usda").meshes for n in m.key.names}
    alone = delivered(browser, channels=[{"from": "layout"}])
    assert "left out" in json.loads(alone.read("report.json"))["notes"][0]
    for wrong in ([{"from": 0}], [{"from": "layout"}] * 2, [{"from": "layout", "name": "a b"}], ["layout"], [{"from": 9}]):
        job(browser, "deliver", 422, channels=wrong)


@pytest.mark.parametrize("format", ["", "glb"])
def test_files_of_one_name_leave_in_their_folders(browser: Browser, format: str) -> None:
    browser.upload(
        kit__zip=zipped({f"{side}/crate.obj": squares([(0.1, 0.1, 0.4 + 0.1 * k, 0.4)]) for k, side in enumerate(("left", "right"))})
    )
    packed(browser)
    names = delivered(browser, templates="none", format=format).namelist()
    ending = format or "obj"
    assert {f"left/crate.{ending}", f"right/crate.{ending}"} <= set(names)
