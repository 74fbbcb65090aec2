"""The unit of a file changed after it came: densities follow, the layout stays, and what is written is the file that came."""

from __future__ import annotations

import json

import numpy as np
import pytest

from quilt_core import formats
from quilt_server.projects.models import Layout, SourceFile
from quilt_server.projects.opened import arrays_of
from tests.shapes import gltf_plane, grid_obj

from .test_api import Browser
from .test_deliver import delivered


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def rows(browser: Browser) -> list[np.ndarray]:
    return list(arrays_of(Layout.objects.get(pk=browser.state()["layout"]), "transforms").values())


def test_a_file_in_centimetres_is_a_hundredth_as_large(browser: Browser) -> None:
    browser.upload(grid__obj=grid_obj(3))
    settings = browser.state()["settings"] | {"seconds": 0.3, "map_px": 512}
    assert browser.run("settings", settings=settings)["state"] == "done"
    assert browser.run("pack")["state"] == "done"
    before, laid = browser.state(), rows(browser)
    assert before["files"][0]["unit_m"] == 1.0 and before["files"][0]["size_m"] == pytest.approx([5, 1, 0])
    weights = {before["objects"][0]["key"]: 2.0}
    browser.change(settings={**before["settings"], "weights": weights})
    done = browser.run("units", units={str(before["files"][0]["id"]): 0.01})
    assert done["state"] == "done", done["error"]
    after = browser.state()
    assert after["files"][0]["unit_m"] == 0.01 and after["files"][0]["size_m"] == pytest.approx([0.05, 0.01, 0])
    # A hundredth of the length, so a hundred times the texels a metre, by arithmetic; nothing moved, and the rules went along.
    assert after["figures"]["density"] == pytest.approx(100 * before["figures"]["density"])
    assert all(np.array_equal(a, b) for a, b in zip(laid, rows(browser), strict=True))
    assert list(after["settings"]["weights"].values()) == [2.0] and "the unit of a file changed" in after["sheets"][0]["stale"]
    with delivered(browser) as z:
        came, left = formats.read(grid_obj(3), "a.obj"), formats.read(z.read("grid.obj"), "a.obj")
    assert np.array_equal(came.meshes[0].positions, left.meshes[0].positions)
    # One step back is the other unit again.
    browser.post(f"/api/projects/{browser.project}/undo", {"base": after["snapshot"]})
    assert browser.state()["files"][0]["unit_m"] == 1.0


def test_a_file_that_says_its_unit_can_be_wrong_about_it(browser: Browser) -> None:
    """A glTF is in metres (its specification, 3.4); one that was written from centimetres is a hundred times too large."""
    body = gltf_plane([{"mesh": 0, "scale": [130, 130, 130]}])
    browser.upload(plane__gltf=body)
    before = browser.state()
    assert before["files"][0]["size_m"] == pytest.approx([130, 130, 0])
    assert browser.run("units", units={str(before["files"][0]["id"]): 0.01})["state"] == "done"
    after = browser.state()
    assert after["files"][0]["size_m"] == pytest.approx([1.3, 1.3, 0])
    assert after["figures"]["density"] == pytest.approx(100 * before["figures"]["density"])
    with delivered(browser) as z:
        assert json.loads(z.read("plane.gltf"))["nodes"] == json.loads(body)["nodes"]
    # Another format gets the size that is meant.
    with delivered(browser, format="obj") as z:
        (name,) = (n for n in z.namelist() if n.endswith(".obj"))
        assert np.ptp(formats.read(z.read(name), name).meshes[0].positions, axis=0).max() == pytest.approx(1.3)


def test_the_unit_that_is_chosen_is_for_files_that_do_not_say(browser: Browser) -> None:
    from django.core.files.uploadedfile import SimpleUploadedFile

    data = {"files": [SimpleUploadedFile("p.gltf", gltf_plane([{"mesh": 0}]))], "paths": ["p.gltf"], "unit_m": "0.01"}
    browser.work(browser.client.post(f"/api/projects/{browser.project}/files", data).json())
    assert browser.state()["files"][0]["unit_m"] == 1.0 and browser.state()["files"][0]["size_m"] == pytest.approx([1, 1, 0])


def test_units_that_cannot_be_are_refused(browser: Browser) -> None:
    browser.upload(grid__obj=grid_obj(2))
    state = browser.state()
    number = str(state["files"][0]["id"])
    path, base = f"/api/projects/{browser.project}/jobs", state["snapshot"]
    for units in ({number: 0}, {number: -1.0}, {number: 1e9}, {"x": 1.0}, {}):
        assert browser.post(path, {"kind": "units", "base": base, "params": {"units": units}}, 422)["detail"]
    assert "have that unit already" in browser.run("units", units={number: 1.0})["error"]
    assert SourceFile.objects.count() == 1
