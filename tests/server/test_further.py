"""A further channel: a light map's and a copy of the layout, as another library reads them from what is delivered."""

from __future__ import annotations

import io
import json
import zipfile

import numpy as np
import pygltflib
import pytest
import shapely
from pxr import Usd, UsdGeom

from demo.glb import two_channels
from demo.shapes import Part, box
from quilt_core.model.scene import Floats
from quilt_server.projects.models import Job

from .test_api import Browser
from .test_hand import sheet
from .test_sheets import png


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def crate() -> bytes:
    """Two boxes, whose first channel tiles a picture and whose second one lays all sides out."""
    parts = [box(Part("crate"), (0, 0, 0), (1, 2, 1)).uv(0.1), box(Part("lid"), (3, 0, 0), (1, 0.2, 1)).uv(0.1)]
    return two_channels(parts, 4.0, png("crane"))


def channels(browser: Browser) -> dict[str, list[Floats]]:
    """By pygltflib: for each mesh the corners (T, 3, 2) of its triangles in each channel, v upward."""
    out = browser.run("deliver")
    assert out["state"] == "done", out["error"]
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        g = pygltflib.GLTF2.load_from_bytes(z.read("b.glb"))
    blob = g.binary_blob()

    def read(number: int) -> np.ndarray:
        a = g.accessors[number]
        view = g.bufferViews[a.bufferView]
        kind = {5126: np.float32, 5123: np.uint16, 5125: np.uint32}[a.componentType]
        wide = {"VEC2": 2, "VEC3": 3, "SCALAR": 1}[a.type]
        at = (view.byteOffset or 0) + (a.byteOffset or 0)
        return np.frombuffer(blob, kind, a.count * wide, at).reshape(-1, wide)

    found: dict[str, list[Floats]] = {}
    for m in g.meshes:
        p = m.primitives[0]
        index = read(p.indices).reshape(-1, 3)
        sets = [getattr(p.attributes, f"TEXCOORD_{k}", None) for k in range(3)]
        found[m.name] = [read(s)[index].astype(float) * [1, -1] + [0, 1] for s in sets if s is not None]
    return found


def test_a_light_map_channel_in_one_action(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    before = channels(browser)
    assert browser.state()["channels"] == [0, 1]
    done = browser.run("further", into=2, what="light", px=64, texels=2.0)
    assert done["state"] == "done", done["error"]
    state = browser.state()
    assert state["channels"] == [0, 1, 2] and state["settings"]["channel_in"] == 0
    after = channels(browser)
    for name, old in before.items():
        for k in (0, 1):
            assert after[name][k] == pytest.approx(old[k], abs=1e-6)
        uv = after[name][2]
        shapes = shapely.polygons(uv)
        # Each object has the square for itself, and nothing in it lies double: the parts' areas add up to that of all.
        assert uv.min() >= -1e-6 and uv.max() <= 1 + 1e-6
        assert shapely.union_all(shapes).area == pytest.approx(shapely.area(shapes).sum(), rel=1e-5)
        parts = shapely.get_parts(shapely.union_all(shapely.buffer(shapes, 1e-6)))
        gaps = [a.distance(b) * 64 for i, a in enumerate(parts) for b in parts[i + 1 :]]
        assert min(gaps) >= 2 - 1e-3
    # It can be worked on like any other channel, and is gone with one undo.
    assert browser.run("channel", channel=2)["state"] == "done"
    assert all(o["islands"] >= 2 for o in browser.state()["objects"])
    for _ in range(2):
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert browser.state()["channels"] == [0, 1]


def test_a_copy_of_the_layout_for_one_object(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    lid = next(o for o in browser.state()["objects"] if o["name"] == "lid")
    done = browser.run("further", into=2, what="copy", objects=[lid["key"]])
    assert done["state"] == "done", done["error"]
    found = channels(browser)
    assert len(found["crate"]) == 2 and found["lid"][2] == pytest.approx(found["lid"][0], abs=1e-6)
    assert {o["name"]: o["channels"] for o in browser.state()["objects"]} == {"crate": [0, 1], "lid": [0, 1, 2]}


@pytest.mark.parametrize("what", ["unwrap", "project"])
def test_picked_faces_get_uvs_of_their_own(browser: Browser, what: str) -> None:
    """The lid's upper side, as the page counts its triangles: only these two have UVs in the new channel, in its square; read there, the others have none."""
    browser.upload(b__glb=crate())
    state = browser.state()
    lid = next(o for o in state["objects"] if o["name"] == "lid")
    file, number = lid["key"].split("/")
    raw = browser.client.get(f"/api/files/{file}/channels/0/geometry").content
    size = int.from_bytes(raw[:4], "little")
    header = json.loads(raw[4 : 4 + size])
    at, found = 4 + size, {}
    for name, kind, count, wide in header["arrays"]:
        found[name] = np.frombuffer(raw, kind, count * wide, at).reshape(count, wide)
        at += 4 * count * wide
    first, count = header["objects"][int(number)]["index"]
    corners = found["position"][found["index"][first : first + count]]
    top = np.flatnonzero(np.ptp(corners[..., 1], axis=1) + np.abs(corners[..., 1].mean(axis=1) - corners[..., 1].max()) < 1e-6)
    assert len(top) == 2
    done = browser.run("further", into=2, what=what, faces={file: [[int(number), int(t)] for t in top]})
    assert done["state"] == "done", done["error"]
    assert browser.run("channel", channel=2)["state"] == "done"
    state = browser.state()
    assert {o["name"]: (o["islands"], o["bare"]) for o in state["objects"]} == {"crate": (0, 12), "lid": (1, 10)}
    # What is written where it is read stays so.
    assert state["settings"]["channel_out"] == 2


def test_a_channel_is_named_and_taken_off_again(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    browser.run("further", into=2, what="light", px=64)
    settings = browser.state()["settings"]
    assert "at most 60" in browser.change(422, settings={**settings, "channel_names": {"2": "x" * 61}})["detail"]
    browser.change(settings={**settings, "channel_names": {"0": "paint", "2": "light"}})
    out = browser.run("deliver", format="usda")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        stage = Usd.Stage.CreateInMemory()
        stage.GetRootLayer().ImportFromString(z.read("b.usda").decode())
    (one, *_) = [UsdGeom.PrimvarsAPI(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)]
    assert {"paint", "light"} <= {v.GetPrimvarName() for v in one.GetPrimvars()}
    assert browser.run("further", into=2, what="drop")["state"] == "done"
    assert browser.state()["channels"] == [0, 1]
    assert "Nothing was made here" in browser.run("further", into=1, what="drop")["error"]


def test_what_cannot_be_is_refused(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet(3))
    assert "one UV channel" in browser.run("further", into=1, what="light")["error"]
    for params, says in (
        ({"into": 0}, "worked on"),
        ({"what": "music"}, "nothing that a channel"),
        ({"px": 7}, "wide"),
        ({"into": 9}, "0 to 7"),
    ):
        body = {"kind": "further", "base": browser.state()["snapshot"], "params": params}
        assert says in browser.post(f"/api/projects/{browser.project}/jobs", body, 422)["detail"]


def test_a_copy_has_the_islands_of_its_source(browser: Browser) -> None:
    """Two quads that hang together by a corner, and a third that a face without area ties to them: 551 islands were 697 in their copy."""
    squares = [[(0, 0), (1, 0), (1, 1), (0, 1)], [(1, 1), (2, 1), (2, 2), (1, 2)], [(2, 0.5), (2.5, 0.5), (2.5, 0.8), (2, 0.8)]]
    flat = [(2, 1), (2, 0.9), (2, 0.8)]
    part = Part("bow", [[((x, y, 0), (0.1 * x, 0.1 * y)) for x, y in corners] for corners in (*squares, flat)])
    browser.upload(b__glb=two_channels([part], 0.1, png("crane")))
    assert browser.run("channel", channel=1)["state"] == "done"
    assert [o["islands"] for o in browser.state()["objects"]] == [1]
    assert browser.run("further", into=2, what="copy")["state"] == "done"
    assert browser.run("channel", channel=2)["state"] == "done"
    assert [o["islands"] for o in browser.state()["objects"]] == [1]
