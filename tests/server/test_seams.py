"""Seams by hand in a project: cut, sewn, flattened, parted and projected, each one undo step, with rules that follow and files that leave so."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.model.scene import Scene
from quilt_core.uv.islands import find_islands
from quilt_server.projects.models import Job

from .test_api import Browser, quick


def grid(n: int = 4) -> bytes:
    """A flat sheet of n x n quads of 1 m, with UVs that are its plan at a tenth."""
    lines = ["o sheet"]
    lines += [f"v {x} {y} 0" for y in range(n + 1) for x in range(n + 1)]
    lines += [f"vt {x / 10} {y / 10}" for y in range(n + 1) for x in range(n + 1)]
    for y in range(n):
        for x in range(n):
            a = y * (n + 1) + x + 1
            lines.append("f " + " ".join(f"{k}/{k}" for k in (a, a + 1, a + n + 2, a + n + 1)))
    return "\n".join(lines).encode() + b"\n"


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def between(scene: Scene, axis: int, value: float) -> list[list[int]]:
    """[object, triangle, side] of all edges of the first object that lie on a plane."""
    m = scene.meshes[scene.objects[0].mesh]
    p = m.positions[m.triangles]
    out = []
    for t, k in np.argwhere(np.abs(p[:, :, axis] - value) < 1e-9):
        if abs(p[t, (k + 1) % 3, axis] - value) < 1e-9:
            out.append([0, int(t), int(k)])
    return out


def delivered(browser: Browser) -> Scene:
    quick(browser)
    assert browser.run("pack")["state"] == "done"
    done = browser.run("deliver")
    assert done["state"] == "done", done
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=done["id"]).output)) as z:
        name = next(n for n in z.namelist() if n.endswith(".obj"))
        return formats.read(z.read(name), name, 1.0, {})


def only(state: dict[str, Any]) -> dict[str, Any]:
    (found,) = state["objects"]
    return found


def asker(browser: Browser, **always: Any) -> Any:
    """Asks what follows from what is picked of the only object."""
    state = browser.state()

    def asked(expect: int = 200, **more: Any) -> dict[str, Any]:
        body = {"base": state["snapshot"], "file": only(state)["file"], "object": 0, **always, **more}
        return browser.post(f"/api/projects/{browser.project}/pick", body, expect)

    return asked


def test_a_cut_parts_an_island_and_its_rules_hold_for_the_parts(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    state = browser.state()
    file = only(state)["file"]
    browser.change(settings={**state["settings"], "weights": {f"{file}:0": 2.0}, "rotations": {f"{file}:0": "90"}})
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    done = browser.run("seams", operation="cut", edges={str(file): between(scene, 0, 2.0)}, relax=False)
    assert done["state"] == "done" and done["result"]["objects"][0]["now"]["islands"] == 2, done
    after = browser.state()
    new = only(after)["file"]
    assert after["settings"]["weights"] == {f"{new}:0": 2.0, f"{new}:1": 2.0}
    assert after["settings"]["rotations"] == {f"{new}:0": "90", f"{new}:1": "90"}
    assert only(after)["islands"] == 2
    read = delivered(browser)
    m = read.meshes[0]
    assert find_islands(m, m.channels[0]).count == 2
    assert np.array_equal(m.positions, scene.meshes[0].positions), "nothing but UVs is other"


def test_what_was_cut_is_sewn_to_what_it_was(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    before = browser.state()
    edges = between(scene, 1, 1.0)
    browser.run("seams", operation="cut", edges={str(only(before)["file"]): edges}, relax=False)
    cut = browser.state()
    assert only(cut)["islands"] == 2
    done = browser.run("seams", operation="sew", edges={str(only(cut)["file"]): edges})
    assert done["state"] == "done", done
    sewn = browser.state()
    assert only(sewn)["islands"] == 1
    assert sewn["figures"]["coverage"] == pytest.approx(before["figures"]["coverage"], rel=1e-6)
    assert sewn["figures"]["density"] == pytest.approx(before["figures"]["density"], rel=1e-6)
    for _ in range(2):
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert browser.state()["objects"] == before["objects"]


def test_what_cannot_be_is_refused_in_words_and_changes_nothing(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    state = browser.state()
    file = str(only(state)["file"])
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    m = scene.meshes[0]
    # The diagonal of a quad belongs to no edge of the file.
    t = m.triangles
    inner = next(
        [0, int(a), k] for a in range(len(t)) for k in range(3) if abs(np.diff(m.positions[t[a]][[k, (k + 1) % 3]], axis=0)).sum() > 1.5
    )
    for params, word in (
        ({"operation": "cut", "edges": {file: [inner]}}, "inside polygons"),
        ({"operation": "sew", "edges": {file: between(scene, 0, 2.0)}}, "None of these edges is a seam"),
        ({"operation": "cut", "edges": {file: between(scene, 0, 0.0)}}, "border of the surface"),
        ({"operation": "cut", "edges": {file: [[0, 99999, 0]]}}, "not there any more"),
        ({"operation": "cut", "edges": {file: [[7, 0, 0]]}}, "not there any more"),
    ):
        done = browser.run("seams", **params)
        assert done["state"] == "failed" and word in done["error"], (params, done)
    assert browser.state()["snapshot"] == state["snapshot"]
    r = browser.post(
        f"/api/projects/{browser.project}/jobs", {"base": state["snapshot"], "kind": "seams", "params": {"operation": "knit"}}, 422
    )
    assert "knit" in r["detail"]


def test_one_edge_gives_its_loop_its_way_and_its_faces(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    line = between(scene, 0, 2.0)
    first, last = line[0][1:], line[-1][1:]
    asked = asker(browser, edge=first)

    t = scene.meshes[0].triangles
    p = scene.meshes[0].positions

    def ends(edges: list[list[int]]) -> set[frozenset[tuple[float, ...]]]:
        return {frozenset((tuple(p[t[a, k]]), tuple(p[t[a, (k + 1) % 3]]))) for a, k in edges}

    straight = ends([e[1:] for e in line])
    assert ends(asked(way="loop")["edges"]) == straight and len(straight) == 4
    assert ends(asked(way="path", goal=last)["edges"]) <= straight
    assert len(asked(way="bend")["faces"]) == 32
    assert "no seam" in asked(422, way="seam")["detail"]
    assert "second edge" in asked(422, way="path")["detail"]


def test_a_way_between_points_and_a_line_across_an_island(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    t, p = scene.meshes[0].triangles, scene.meshes[0].positions
    asked = asker(browser, edge=[0, 0])

    def corner(x: int, y: int) -> list[int]:
        (found, *_) = np.argwhere((p[t] == (x, y, 0)).all(axis=2)).tolist()
        return list(found)

    way = asked(way="points", edge=corner(1, 1), goal=corner(1, 4))["edges"]
    assert len(way) == 3 and all(p[t[f, k]][0] == p[t[f, (k + 1) % 3]][0] == 1 for f, k in way)
    # UVs are the plan at a tenth: a line just beside y = 2.
    across = asked(way="line", line=[[-1.0, 0.21], [1.0, 0.21]])["edges"]
    assert {p[t[f, k]][1] for f, k in across} == {2.0} and len(across) == 8
    assert "two ends" in asked(422, way="line", line=[[0.0, 0.1]])["detail"]
    assert "does not cross" in asked(422, way="line", line=[[0.0, 0.9], [1.0, 0.9]])["detail"]


def test_picked_points_stay_where_an_island_is_laid_flat(browser: Browser) -> None:
    browser.upload(sheet__obj=grid().replace(b"vt 0.2 0.2\n", b"vt 0.22 0.23\n"))
    state = browser.state()
    file = str(only(state)["file"])
    points = {file: [[0, 0, 0], [0, 31, 1]]}
    done = browser.run("seams", operation="relax", islands={file: [0]}, points=points)
    assert done["state"] == "done", done
    after = browser.client.get(f"/api/projects/{browser.project}").json()["objects"][0]
    assert after["islands"] == 1
    bad = browser.post(
        f"/api/projects/{browser.project}/jobs",
        {"base": browser.state()["snapshot"], "kind": "seams", "params": {"operation": "relax", "islands": {}, "points": {file: [[0, 1]]}}},
        422,
    )
    assert "corner" in bad["detail"]


def test_the_mirror_image_and_the_material_of_what_is_picked(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    t, p = scene.meshes[0].triangles, scene.meshes[0].positions
    asked = asker(browser)

    # The sheet is 4 wide and as high, and mirrors itself in both middles; whichever was found turns one coordinate round.
    found = asked(way="mirror", faces=[0, 1], edges=[[0, k] for k in range(3)])
    assert sorted(t[f].shape[0] for f in found["faces"]) == [3, 3]
    was, now = (p[t[f]].reshape(-1, 3) for f in ([0, 1], found["faces"]))
    corners = {tuple(c) for c in now}
    assert corners in ({(4 - x, y, z) for x, y, z in was}, {(x, 4 - y, z) for x, y, z in was})
    assert len(found["edges"]) == 2, "not the diagonal, which is inside a quad"
    assert sorted(asked(way="material", edge=[5, 0])["faces"]) == list(range(32))
    assert "mirror image" in asked(422, way="mirror")["detail"]
    for wrong in ({"faces": [99]}, {"edges": [[0, 7]]}, {"edges": [[-1, 0]]}):
        assert "anew" in asked(422, way="mirror", **wrong)["detail"]


def test_seams_say_what_they_are_worth_and_the_worthless_are_sewn(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    scene = formats.read(grid(), "sheet.obj", 1.0, {})
    edges = between(scene, 0, 2.0)
    browser.run("seams", operation="cut", edges={str(only(browser.state())["file"]): edges}, relax=False)
    found = browser.run("seam_worth")["result"]["seams"]
    assert len(found) == 1
    (seam,) = found
    assert (
        seam["free"] and seam["length"] == pytest.approx(4.0) and seam["after"] == pytest.approx(1.0) and seam["open"] == pytest.approx(1.0)
    )
    state = browser.state()
    file = only(state)["file"]
    done = browser.run("seams", operation="sew_free", islands={str(file): [0, 1]})
    assert done["state"] == "done" and only(browser.state())["islands"] == 1


def test_projecting_gives_islands_in_metres_that_wait_beside_the_tile(browser: Browser) -> None:
    browser.upload(sheet__obj=grid())
    state = browser.state()
    done = browser.run("seams", operation="project", way="plane", islands={str(only(state)["file"]): [0]})
    assert done["state"] == "done", done
    row = done["result"]["objects"][0]
    assert row["now"]["islands"] == 1 and row["now"]["stretch"]["l2"] == pytest.approx(1.0)


def test_a_long_island_is_cut_across_and_its_rules_hold_for_the_parts(browser: Browser) -> None:
    browser.upload(sheet__obj=grid(4))
    file = browser.state()["files"][0]["id"]
    browser.change(settings={**browser.state()["settings"], "rotations": {f"{file}:0": "none"}})
    done = browser.run("seams", operation="across", islands={str(file): [0]}, parts=4)
    assert done["state"] == "done", done
    after = browser.state()
    new = after["files"][0]["id"]
    assert after["objects"][0]["islands"] == 4 and after["undo"] == "Cut across"
    assert set(after["settings"]["rotations"]) == {f"{new}:{k}" for k in range(4)}
    assert done["result"]["objects"][0]["now"]["seam_m"] == pytest.approx(12), "three cuts of four metres"
    refused = browser.run("seams", operation="across", islands={str(new): [0]}, parts=64)
    assert refused["state"] in ("done", "failed")


def test_what_is_cut_and_laid_flat_finds_a_free_place(browser: Browser) -> None:
    """Squeezed UVs: laid flat, both halves grow into each other, and into what lies beside them. They lay over each other, with no offer to part them."""
    squeezed = [f"vt {x / 40 + 0.4} {y / 10 + 0.3}" for y in range(5) for x in range(5)]
    lines = grid().decode().splitlines()
    text = "\n".join([x for x in lines if x[:2] in ("o ", "v ")] + squeezed + [x for x in lines if x.startswith("f ")])
    beside = (
        "o post\nv 9 0 0\nv 9.2 0 0\nv 9.2 2 0\nv 9 2 0\nvt 0.51 0.3\nvt 0.53 0.3\nvt 0.53 0.6\nvt 0.51 0.6\nf 26/26 27/27 28/28 29/29\n"
    )
    data = f"{text}\n{beside}".encode()
    browser.upload(sheet__obj=data)
    state = browser.state()
    assert state["figures"]["overlap"]["pairs"] == 0
    file = str(state["objects"][0]["file"])
    scene = formats.read(data, "sheet.obj", 1.0, {})
    done = browser.run("seams", operation="cut", edges={file: between(scene, 0, 2.0)}, relax=True)
    assert done["state"] == "done", done
    state = browser.state()
    assert state["figures"]["overlap"]["pairs"] == 0 and state["figures"]["islands"] == 3 and state["undo"] == "Cut"
    assert state["sheets"][0]["figures"]["smallest_gap_px"] >= state["settings"]["padding_px"] - 1e-3


def test_what_finds_no_place_lies_beside_the_tiles_over_nothing(browser: Browser) -> None:
    """A tile that is full: what two cuts leave without a place came to lie on each other beside it."""
    lines, v = list[str](), 0
    for name, left in (("one", 0.30), ("two", 0.60)):
        lines += [f"o {name}"] + [f"v {x} {y} {left}" for y in range(5) for x in range(5)]
        lines += [f"vt {x / 40 + left} {y / 10 + 0.3}" for y in range(5) for x in range(5)]
        lines += [
            f"f {' '.join(f'{v + k}/{v + k}' for k in (a, a + 1, a + 6, a + 5))}"
            for y in range(4)
            for x in range(4)
            for a in [5 * y + x + 1]
        ]
        v += 25
    fill = [(0.01, 0.01, 0.29, 0.99), (0.41, 0.01, 0.59, 0.99), (0.71, 0.01, 0.99, 0.99), (0.3, 0.01, 0.4, 0.29), (0.6, 0.01, 0.7, 0.29)]
    fill += [(0.3, 0.71, 0.4, 0.99), (0.6, 0.71, 0.7, 0.99)]
    for n, (a, b, c, d) in enumerate(fill):
        corners = [(a, b), (c, b), (c, d), (a, d)]
        lines += [f"o fill{n}"] + [f"v {9 + 3 * x} {3 * y} {n}" for x, y in corners] + [f"vt {x} {y}" for x, y in corners]
        lines.append("f " + " ".join(f"{v + k}/{v + k}" for k in (1, 2, 3, 4)))
        v += 4
    browser.upload(full__obj="\n".join(lines).encode())
    assert browser.state()["figures"]["overlap"]["pairs"] == 0
    scene = formats.read("\n".join(lines).encode(), "full.obj", 1.0, {})
    edges = between(scene, 0, 2.0)
    for number in (0, 1):
        file = str(browser.state()["objects"][0]["file"])
        done = browser.run("seams", operation="cut", edges={file: [[number, t, k] for _, t, k in edges]}, relax=True)
        assert done["state"] == "done", done
        state = browser.state()
        assert state["figures"]["overlap"]["pairs"] == 0, number
    assert state["figures"]["outside"] == 2, "of each one half has room where it was"
