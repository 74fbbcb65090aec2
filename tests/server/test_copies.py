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
    """A bent sheet with UVs; a turned copy in another order of vertices and faces; its mirror image; one that hangs together alike but is bent; and a
    ball."""
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
    ball = trimesh.creation.icosphere(1)
    return {
        "good__obj": chair(points, faces, uvs, "good").encode(),
        "turned__obj": chair(turned, back[faces][rng.permutation(len(faces))], None, "turned").encode(),
        "mirrored__obj": chair(mirrored, faces[:, ::-1], None, "mirrored").encode(),
        "bent__obj": chair(points * [1, 1, 2], faces, None, "bent").encode(),
        "ball__obj": chair(np.asarray(ball.vertices), np.asarray(ball.faces), None, "ball").encode(),
    }


def shape_of(mesh: Mesh) -> Floats:
    """Edge lengths (k,) of the UVs' triangles over those of the surface's, by the surface's triangle: sorted by area."""
    uv = mesh.channels[0].uvs[mesh.channels[0].triangles]
    p = mesh.positions[mesh.triangles]

    def lengths(t: Floats) -> Floats:
        return np.linalg.norm(t - np.roll(t, 1, axis=1), axis=2)

    world = lengths(p)
    return np.sort((lengths(uv) / world).reshape(-1)) * np.median(world)


@pytest.mark.parametrize("chosen", [["good"], ["good", "turned", "ball", "bent"]])
def test_the_uvs_of_one_go_to_its_copies(browser: Browser, chosen: list[str]) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    done = browser.run("copies", objects=[keys[n] for n in chosen])
    assert done["state"] == "done", done["error"]
    told = {o["name"] for o in done["result"]["objects"]}
    assert told == ({"turned", "mirrored"} if len(chosen) == 1 else {"turned", "bent"})
    assert len(done["result"]["refused"]) == (0 if len(chosen) == 1 else 1) and all("ball" in r for r in done["result"]["refused"])
    assert all("bent" in r for r in done["result"]["told"]) and len(done["result"]["told"]) == len(chosen) // 4
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
    assert {o["name"]: o["islands"] for o in browser.state()["objects"]} == {"good": 1, "turned": 1, "mirrored": 1, "bent": 0, "ball": 0}
    browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert {o["name"]: o["islands"] for o in browser.state()["objects"]} == {"good": 1, "turned": 0, "mirrored": 0, "bent": 0, "ball": 0}


def test_what_cannot_be_is_said(browser: Browser) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    assert "Unwrap one of them first" in browser.run("copies", objects=[keys["turned"]])["error"]
    assert "not of the shape" in browser.run("copies", objects=[keys["good"], keys["ball"]])["error"]


def corners(browser: Browser, name: str) -> Floats:
    """Corners of the triangles (T, 3, 2) of a delivered object."""
    out = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        mesh = formats.read(z.read(f"{name}.obj"), f"{name}.obj").meshes[0]
    return mesh.channels[0].uvs[mesh.channels[0].triangles]


def by_place(corners: Floats) -> Floats:
    """The same corners in an order that does not depend on that of the triangles."""
    flat = np.round(corners.reshape(-1, 2), 6)
    return flat[np.lexsort(flat.T)]


def test_copies_share_the_texels_of_the_good_one(browser: Browser) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    done = browser.run("copies", objects=[keys["good"]], onto=True)
    assert done["state"] == "done", done["error"]
    state = browser.state()
    assert len(state["settings"]["twins"]) == 1 and len(state["settings"]["twins"][0]) == 3
    good = by_place(corners(browser, "good"))
    # As read from the files: the same texels, the mirror image's too.
    for name in ("turned", "mirrored"):
        assert by_place(corners(browser, name)) == pytest.approx(good, abs=2e-6)
    quick(browser)
    assert browser.run("pack")["state"] == "done"
    assert by_place(corners(browser, "turned")) == pytest.approx(by_place(corners(browser, "good")), abs=2e-6)


@pytest.mark.parametrize("onto", [True, False])
def test_a_later_change_of_one_is_made_to_all_that_are_linked(browser: Browser, onto: bool) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    browser.run("copies", objects=[keys["good"]], onto=onto, linked=True)
    state = browser.state()
    assert [(len(x["members"]), x["onto"]) for x in state["settings"]["links"]] == [(3, onto)]
    turned = next(o for o in state["objects"] if o["name"] == "turned")
    file = turned["key"].split("/")[0]
    # The copy is cut, not the one that gave its UVs.
    done = browser.run("seams", operation="across", parts=2, islands={file: [0]})
    assert done["state"] == "done", done["error"]
    state = browser.state()
    assert {o["name"]: o["islands"] for o in state["objects"]} == {"good": 2, "turned": 2, "mirrored": 2, "bent": 0, "ball": 0}
    assert state["label"].endswith("and 2 linked copies") if "label" in state else True
    if onto:
        assert sorted(len(g) for g in state["settings"]["twins"]) == [3, 3]
        assert by_place(corners(browser, "good")) == pytest.approx(by_place(corners(browser, "turned")), abs=2e-6)
    browser.post(f"/api/projects/{browser.project}/undo", {"base": state["snapshot"]})
    assert {o["islands"] for o in browser.state()["objects"]} == {0, 1}


def test_objects_of_one_shape_are_found_with_how_far_they_differ(browser: Browser) -> None:
    browser.upload(**files())
    done = browser.run("shapes")
    (group,) = done["result"]["groups"]
    names = {o["key"]: o["name"] for o in browser.state()["objects"]}
    assert {names[k] for k in group["objects"]} == {"good", "turned", "mirrored"}
    # The files hold nine digits.
    assert 0 <= group["away_m"] < 1e-6


def test_a_link_ends_for_those_that_are_taken_out(browser: Browser) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    browser.run("copies", objects=[keys["good"]], linked=True)
    settings = browser.state()["settings"]
    twice = [settings["links"][0], settings["links"][0]]
    assert "one shape only" in browser.change(422, settings={**settings, "links": twice})["detail"]
    browser.change(settings={**settings, "links": []})
    file = next(o["key"] for o in browser.state()["objects"] if o["name"] == "turned").split("/")[0]
    browser.run("seams", operation="across", parts=2, islands={file: [0]})
    assert {o["name"]: o["islands"] for o in browser.state()["objects"]}["good"] == 1


def test_new_uvs_of_one_are_those_of_all_and_keep_their_places(browser: Browser) -> None:
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    browser.run("copies", objects=[keys["good"]], linked=True)
    quick(browser)
    assert browser.run("pack")["state"] == "done"
    state = browser.state()
    mirrored = next(o["key"] for o in state["objects"] if o["name"] == "mirrored")
    assert browser.run("unwrap", objects=[mirrored], hard_edges=None)["state"] == "done"
    after = {o["name"]: o for o in browser.state()["objects"]}
    assert after["good"]["islands"] == after["turned"]["islands"] == after["mirrored"]["islands"] > 0
    # One undo takes all three back, and the link goes on afterwards.
    browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    state = browser.state()
    assert len(state["settings"]["links"][0]["members"]) == 3 and {o["key"] for o in state["objects"]} >= set(
        state["settings"]["links"][0]["members"]
    )


def test_what_became_another_shape_does_not_follow(browser: Browser) -> None:
    """A member of a link that was named by hand, though it is of another shape, stays as it is, and nothing fails."""
    browser.upload(**files())
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    settings = browser.state()["settings"]
    browser.change(settings={**settings, "links": [{"members": [keys["good"], keys["ball"]], "onto": False}]})
    file = keys["good"].split("/")[0]
    assert browser.run("seams", operation="across", parts=2, islands={file: [0]})["state"] == "done"
    assert {o["name"]: o["islands"] for o in browser.state()["objects"]} == {"good": 2, "turned": 0, "mirrored": 0, "bent": 0, "ball": 0}


def test_a_fold_in_the_best_one_is_said_and_does_not_keep_it_from_the_others(browser: Browser) -> None:
    """Real layouts have a fold here and there: of two that have one the better gives its UVs, and what is wrong with them is told."""
    every = files()
    lines = every["good__obj"].decode().splitlines()
    # One inner vertex lies beyond its neighbour in the plane: a few triangles are turned over.
    vt = [n for n, line in enumerate(lines) if line.startswith("vt")]
    lines[vt[14]] = "vt " + " ".join(f"{float(x) + 0.02:.6f}" for x in lines[vt[16]].split()[1:])
    browser.upload(good__obj="\n".join(lines).encode(), turned__obj=every["turned__obj"])
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    done = browser.run("copies", objects=list(keys.values()), linked=True)
    assert done["state"] == "done", done["error"]
    assert done["result"]["changed"] == 1
    assert any("good has faults of its own" in t and "folded over" in t and "the copies follow" in t for t in done["result"]["told"])


def test_copies_in_places_of_their_own_are_as_dense_as_the_sheet(browser: Browser) -> None:
    """The UVs of the good one are a tenth of its metres: what it gives, on a copy half as large again, has the density that the sheet has, not ten times less."""
    every = files()
    browser.upload(good__obj=every["good__obj"], turned__obj=every["turned__obj"])
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    before = next(o for o in browser.state()["objects"] if o["name"] == "good")["density"]["median"]
    assert browser.run("copies", objects=[keys["good"]])["state"] == "done"
    after = {o["name"]: o["density"]["median"] for o in browser.state()["objects"]}
    assert after["good"] == pytest.approx(before, rel=1e-6) and after["turned"] == pytest.approx(before, rel=0.02)
