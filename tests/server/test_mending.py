"""Faults, repairs, evening, channels and tries over the API, with jobs run as the worker runs them."""

from __future__ import annotations

import csv
import io
import zipfile

import numpy as np
import pytest

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.measure.proof import flipped
from quilt_core.uv.analysis import analyse
from quilt_core.uv.density import densities
from tests.core.test_faults import squares
from tests.shapes import PLANE

from .test_api import Browser, quick

pytestmark = pytest.mark.django_db(transaction=True)
FAULTY = squares([(0.1, 0.1, 0.3, 0.3), (4.1, 4.1, 4.5, 4.5), (0.9, 0.4, 1.1, 0.6)], flip=frozenset({0}))


@pytest.fixture
def browser() -> Browser:
    return Browser()


def kinds(browser: Browser) -> dict[str, dict]:
    return {f["kind"]: f for f in browser.client.get(f"/api/projects/{browser.project}/faults").json()}


def mend(browser: Browser, expect: int = 200, **params: object) -> dict:
    body = {"kind": "mend", "base": browser.state()["snapshot"], "params": params}
    job = browser.post(f"/api/projects/{browser.project}/jobs", body, expect)
    return browser.work(job) if expect == 200 else job


def test_every_fault_is_found_mended_and_counted_again(browser: Browser) -> None:
    browser.upload(faulty__obj=FAULTY)
    file = browser.state()["files"][0]["id"]
    before = kinds(browser)
    assert before["flipped"]["islands"] == [[file, 0]] and before["outside"]["islands"] == [[file, 1]]
    assert before["astride"]["islands"] == [[file, 2]] and browser.state()["objects"][0]["points"] >= 3
    assert mend(browser, action="flip")["result"]["changed"] == 1
    assert "flipped" not in kinds(browser)
    assert mend(browser, action="into_tile", islands={str(file): [1]})["result"]["changed"] == 1
    found = kinds(browser)
    assert "outside" not in found and "astride" in found, "only what was chosen moves"
    mend(browser, action="into_tile")
    assert not {"outside", "astride"} & kinds(browser).keys()
    assert mend(browser, action="into_tile")["result"]["changed"] == 0
    steps = [browser.state()["undo"]]
    for _ in range(3):
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
        steps.append(browser.state()["undo"])
    assert steps[0].startswith("Bring islands into the tile") and kinds(browser) == before


def test_repairs_reach_the_file_that_is_delivered(browser: Browser) -> None:
    browser.upload(faulty__obj=FAULTY)
    mend(browser, action="flip")
    mend(browser, action="even", density=256.0)
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    piece = analyse(formats.read(archive.read("faulty.obj"), "faulty.obj"), 0)[0]
    assert piece is not None and not flipped(piece).any()
    d = densities(piece.islands.area, piece.world_area, 2048)
    assert d.max() / d.min() < 1.001 and d[0] == pytest.approx(256, rel=1e-4)


def test_weights_are_kept_by_evening_and_by_packing(browser: Browser) -> None:
    browser.upload(plain__obj=squares([(0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.9, 0.9)]) + b"\n", plane__obj=PLANE)
    state = browser.state()
    sole, file = state["objects"][1]["key"], state["objects"][0]["file"]
    quick(browser, weights={sole: 0.5, f"{file}:1": 2.0})
    mend(browser, action="even", density=300.0)
    rows = browser.client.get(f"/api/projects/{browser.project}/density.json").json()
    assert [r["px_per_m"] for r in rows] == pytest.approx([300, 600, 150], rel=1e-4)
    browser.run("pack")
    text = browser.client.get(f"/api/projects/{browser.project}/density.csv").content.decode()
    packed = [float(r["px_per_m"]) for r in csv.DictReader(io.StringIO(text))]
    assert packed[1] / packed[0] == pytest.approx(2, rel=1e-4) and packed[2] / packed[0] == pytest.approx(0.5, rel=1e-4)
    assert not {"starved", "lavish"} & kinds(browser).keys(), "what is meant is no fault"
    browser.change(422, settings={**browser.state()["settings"], "weights": {sole: 0}})
    browser.change(422, settings={**browser.state()["settings"], "weights": {"x": 1}})


def test_bad_repairs_are_refused(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    before = browser.state()
    for bad in ({"action": "melt"}, {"action": "straighten", "way": "up "}, {"action": "even", "density": "a"},
                {"action": "even", "density": -1}, {"action": "flip", "islands": [1]}, {"action": "flip", "islands": {"a": [1]}}):  # fmt: skip
        assert mend(browser, 422, **bad)["detail"]
    assert browser.state() == before
    assert mend(browser, action="flip", islands={"999": [0], "1": [77]})["result"]["changed"] == 0


def bollards() -> bytes:
    return two_channels([box(Part("bollard"), (0, 0, 0), (1, 1, 1)).uv(0.1)], 4.0, png("crane"))


def test_the_tiling_channel_stays_as_it_was(browser: Browser) -> None:
    """The layout is read from channel 1 and written there; channel 0 keeps its tiling UVs byte for byte."""
    data = bollards()
    browser.upload(bollard__glb=data)
    assert browser.state()["channels"] == [0, 1]
    body = {"kind": "channel", "base": browser.state()["snapshot"], "params": {"channel": 1}}
    assert browser.work(browser.post(f"/api/projects/{browser.project}/jobs", body))["state"] == "done"
    state = browser.state()
    assert state["settings"]["channel_in"] == 1 and state["figures"]["islands"] == 6
    quick(browser, channel_in=1, channel_out=1)
    browser.run("pack")
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    old, new = formats.read(data, "a.glb"), formats.read(archive.read("bollard.glb"), "a.glb")
    assert np.array_equal(old.meshes[0].channels[0].uvs, new.meshes[0].channels[0].uvs)
    assert not np.array_equal(old.meshes[0].channels[1].uvs, new.meshes[0].channels[1].uvs)
    geometry = browser.client.get(f"/api/files/{state['files'][0]['id']}/channels/1/geometry")
    assert geometry.status_code == 200


def test_a_channel_that_nobody_has_changes_nothing(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    before = browser.state()
    body = {"kind": "channel", "base": before["snapshot"], "params": {"channel": 3}}
    job = browser.work(browser.post(f"/api/projects/{browser.project}/jobs", body))
    assert job["state"] == "failed" and "channel 3" in job["error"] and browser.state() == before
    body["params"] = {"channel": 99}
    browser.post(f"/api/projects/{browser.project}/jobs", body, 422)
    browser.change(422, settings={**before["settings"], "channel_in": 1})


def test_tries_are_deleted_but_not_the_layout(browser: Browser) -> None:
    browser.upload(plain__obj=squares([(0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.9, 0.9)]))
    quick(browser)
    browser.run("pack")
    browser.run("pack")
    first, second = browser.state()["tries"]
    path = f"/api/projects/{browser.project}/tries/discard"
    refused = browser.post(path, {"base": browser.state()["snapshot"], "layout": second["id"]}, 422)
    assert "Keep another" in refused["detail"]
    left = browser.post(path, {"base": browser.state()["snapshot"], "layout": first["id"]})
    assert [t["id"] for t in left["tries"]] == [second["id"]]
    back = browser.post(path, {"base": browser.state()["snapshot"], "layout": first["id"], "discarded": False})
    assert len(back["tries"]) == 2


def test_objects_that_share_a_mesh_say_so(browser: Browser) -> None:
    from tests.shapes import gltf_plane

    browser.upload(two__gltf=gltf_plane([{"mesh": 0, "name": "left"}, {"mesh": 0, "name": "right", "translation": [5, 0, 0]}]))
    assert [o["shares"] for o in browser.state()["objects"]] == [["right"], ["left"]]
