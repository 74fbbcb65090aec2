"""The UVs of one object for its copies, in a project: turned, mirrored and renumbered ones, one undo step, re-read from what is delivered."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pytest
import trimesh

from quilt_core import formats
from quilt_core.model.scene import Floats, Mesh
from quilt_server.projects.models import Job

from .test_api import Browser, quick


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def chair(points: Floats, faces: np.ndarray, uvs: Floats | None, name: str) -> str:
    """An object of an OBJ; its UVs are by vertex."""
    lines = [f"o {name}", *("v {:.9g} {:.9g} {:.9g}".format(*p) for p in points)]
    lines += [] if uvs is None else ["vt {:.9g} {:.9g}".format(*p) for p in uvs]
    return "\n".join([*lines, *("f " + " ".join(f"{k + 1}/{k + 1}" if uvs is not None else f"{k + 1}" for k in f) for f in faces)]) + "\n"


def files() -> dict[str, bytes]:
    """A bent sheet with UVs; a turned copy in another order of vertices and faces; its mirror image; and another shape."""
    rng = np.random.default_rng(1)
    n = 6
    x, y = (a.reshape(-1) for a in np.meshgrid(np.arange(n), np.arange(n)))
    points = np.column_stack([x, y, 0.1 * x**2 + 0.03 * x * y]).astype(float)
    faces = np.array(
        [f for r in range(n - 1) for c in range(n - 1) for a in [r * n + c] for f in ((a, a + 1, a + n + 1), (a, a + n + 1, a + n))]
    )
    uvs = np.column_stack([x, y]) / 10 + 0.05
    turn = trimesh.transformations.rotation_matrix(0.7, (1, 2, 3))[:3, :3]
    order = rng.permutation(len(points))
    back = np.argsort(order)
    turned = (points @ turn.T * 1.5 + [9, 0, 4])[order]
    mirrored = points * [-1, 1, 1]
    return {
        "good__obj": chair(points, faces, uvs, "good").encode(),
        "turned__obj": chair(turned, back[faces][rng.permutation(len(faces))], None, "turned").encode(),
        "mirrored__obj": chair(mirrored, faces[:, ::-1], None, "mirrored").encode(),
        "other__obj": chair(points * [1, 1, 2], faces, None, "other").encode(),
    }


def shape_of(mesh: Mesh) -> Floats:
    """Edge lengths (k,) of the UVs' triangles over those of the surface's, by the surface's triangle: sorted by area."""
    uv = mesh.channels[0].uvs[mesh.channels[0].triangles]
    p = mesh.positions[mesh.triangles]

    def lengths(t: Floats) -> Floats:
        return np.linalg.norm(t - np.roll(t, 1, axis=1), axis=2)

    world = lengths(p)
    return np.sort((lengths(uv) / world).reshape(-1)) * np.median(world)


@pytest.mark.parametrize("chosen", [["good"], ["good", "turned", "other"]])
def test_the_uvs_of_one_go_to_its_copies(browser: Browser, chosen: list[str]) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    done = browser.run("copies", objects=[keys[n] for n in chosen])
    assert done["state"] == "done", done["error"]
    told = {o["name"] for o in done["result"]["objects"]}
    assert told == ({"turned", "mirrored"} if len(chosen) == 1 else {"turned"})
    assert len(done["result"]["refused"]) == (0 if len(chosen) == 1 else 1) and all("other" in r for r in done["result"]["refused"])
    quick(browser)
    assert browser.run("pack")["state"] == "done"
    out = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        good, copy = (formats.read(z.read(f"{n}.obj"), f"{n}.obj").meshes[0] for n in ("good", "turned"))
    # Up to one scale every triangle of the copy lies as its original does.
    a, b = shape_of(good), shape_of(copy)
    assert a / a.mean() == pytest.approx(b / b.mean(), rel=1e-4)


def test_it_is_one_step(browser: Browser) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    browser.run("copies", objects=[keys["good"]])
    assert {o["name"]: o["islands"] for o in browser.state()["objects"]} == {"good": 1, "turned": 1, "mirrored": 1, "other": 0}
    browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert {o["name"]: o["islands"] for o in browser.state()["objects"]} == {"good": 1, "turned": 0, "mirrored": 0, "other": 0}


def test_what_cannot_be_is_said(browser: Browser) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    assert "good" in browser.run("copies", objects=[keys["turned"]])["error"]
    assert "not of the shape" in browser.run("copies", objects=[keys["good"], keys["other"]])["error"]
