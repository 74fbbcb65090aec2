"""Points and the brush in a project: what the page is shown while a hand drags, and the one step that follows, re-read from what is delivered."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.model.scene import Floats
from quilt_core.uv.areas import signed_areas
from quilt_server.projects.models import Job

from .test_api import Browser


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def sheet(n: int = 8, bend: float = 0.0) -> bytes:
    """A flat sheet of quads with UVs by vertex, from 0.1 on, 0.4 wide; pushed about inside by `bend`."""
    y, x = (a.reshape(-1) / n for a in np.meshgrid(np.arange(n + 1), np.arange(n + 1), indexing="ij"))
    inner = bend * np.sin(np.pi * x) * np.sin(np.pi * y)
    uv = 0.1 + 0.4 * np.column_stack([x + inner * np.sin(9 * y), y + inner * np.sin(7 * x)])
    lines = [f"v {a:.6f} {b:.6f} 0" for a, b in zip(x, y, strict=True)] + ["vt {:.6f} {:.6f}".format(*p) for p in uv]
    for r in range(n):
        for c in range(n):
            k = [r * (n + 1) + c + 1, r * (n + 1) + c + 2, (r + 1) * (n + 1) + c + 2, (r + 1) * (n + 1) + c + 1]
            lines.append("f " + " ".join(f"{i}/{i}" for i in k))
    return "\n".join(["o sheet", *lines]).encode()


def delivered(browser: Browser) -> tuple[Floats, Floats]:
    """Positions and UVs (T, 3, 2) of the sheet's triangles as they are delivered."""
    out = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        m = formats.read(z.read("sheet.obj"), "sheet.obj").meshes[0]
    return m.positions[m.triangles], m.channels[0].uvs[m.channels[0].triangles]


def at(file: int, browser: Browser, place: tuple[float, float]) -> list[int]:
    """The picked point [object, triangle, corner] at a place of the surface, as the page counts it."""
    positions, _ = delivered(browser)
    k = int(np.argmin(np.abs(positions[..., :2] - place).sum(axis=2).reshape(-1)))
    return [0, k // 3, k % 3]


def file_of(browser: Browser) -> int:
    return int(browser.state()["files"][0]["id"])


def test_a_point_is_dragged_with_what_is_near(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet())
    file = file_of(browser)
    point = at(file, browser, (0.5, 0.5))
    shown = browser.post(f"/api/projects/{browser.project}/grab", {"base": browser.state()["snapshot"], "file": file, "object": 0, "points": [point[1:]], "reach": 0.16})  # fmt: skip
    _, before = delivered(browser)
    done = browser.run("hand", operation="move", points={file: [point]}, by=[0.01, 0.02], reach=0.16)
    assert done["state"] == "done", done["error"]
    _, after = delivered(browser)
    # What the page was shown is what came out: each corner by its weight.
    weight = np.zeros(before.shape[0] * 3)
    weight[shown["corners"]] = shown["weights"]
    assert after.reshape(-1, 2) == pytest.approx(before.reshape(-1, 2) + weight[:, None] * [0.01, 0.02], abs=2e-6)
    assert weight.max() == 1 and 0 < (weight > 0).sum() < len(weight)
    browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert delivered(browser)[1] == pytest.approx(before, abs=1e-9)


def test_moves_are_meant_on_the_sheet_wherever_the_layout_has_the_island(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet())
    file = file_of(browser)
    # Turned by a right angle, mirrored, half as large.
    moved = browser.run("mend", action="move", rows={file: [[0, float(np.pi / 2), -1.0, 0.5, 0.6, 0.4]]}, islands={file: [0]})
    assert moved["state"] == "done", moved["error"]
    point = at(file, browser, (0.5, 0.5))
    _, before = delivered(browser)
    assert browser.run("hand", operation="move", points={file: [point]}, by=[0.01, 0.0])["state"] == "done"
    _, after = delivered(browser)
    went = (after - before).reshape(-1, 2)
    moved = np.abs(went).max(axis=1) > 1e-6
    assert moved.sum() == 6 and went[moved] == pytest.approx(np.tile([0.01, 0.0], (6, 1)), abs=2e-6)


def test_a_fold_is_refused_and_nothing_is_lost(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet())
    file = file_of(browser)
    point = at(file, browser, (0.5, 0.5))
    head = browser.state()["snapshot"]
    refused = browser.run("hand", operation="move", points={file: [point]}, by=[0.2, 0.0])
    assert refused["state"] == "failed" and "fold over" in refused["error"] and browser.state()["snapshot"] == head
    assert browser.run("hand", operation="move", points={file: [point]}, by=[0.2, 0.0], refuse=False)["state"] == "done"


def test_points_are_parted_and_welded_again(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet())
    file = file_of(browser)
    line = [at(file, browser, (k / 8, 0.5)) for k in range(9)]
    assert browser.run("hand", operation="part", points={file: line})["state"] == "done"
    state = browser.state()
    assert state["objects"][0]["islands"] == 2
    file = file_of(browser)
    assert browser.run("hand", operation="weld", points={file: line}, near=0.001)["state"] == "done"
    assert browser.state()["objects"][0]["islands"] == 1


def stroke(browser: Browser, file: int, dabs: list[list[float]], done: int = 0, **more: Any) -> dict[str, Any]:
    body = {"base": browser.state()["snapshot"], "file": file, "object": 0, "island": 0, "token": "one", "done": done, "dabs": dabs, **more}
    return dict(browser.post(f"/api/projects/{browser.project}/brush", body))


def test_the_brush_shows_what_moves_and_its_stroke_is_one_step(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet(10, 0.06))
    file = file_of(browser)
    positions, before = delivered(browser)
    dabs = [[0.1 + 0.4 * u, 0.1 + 0.4 * v, 0.15, 1.0] for _ in range(4) for u in (0.2, 0.5, 0.8) for v in (0.2, 0.5, 0.8)]
    first = stroke(browser, file, dabs[:5])
    assert first["done"] == 5 and not first["again"] and len(first["uv"]) == 2 * len(first["corners"]) > 0
    assert stroke(browser, file, dabs[5:], 3)["again"]
    assert stroke(browser, file, dabs[5:], 5)["done"] == len(dabs)
    assert stroke(browser, file, dabs, 7, token="another")["again"]
    assert delivered(browser)[1] == pytest.approx(before, abs=1e-12)
    done = browser.run("hand", operation="brush", strokes=[{"file": file, "island": 0, "held": True, "dabs": dabs}])
    assert done["state"] == "done", done["error"]
    _, after = delivered(browser)

    def stretch(uv: Floats) -> Floats:
        lengths = [np.linalg.norm(x - np.roll(x, -1, axis=1), axis=2) for x in (uv, positions)]
        return np.abs(lengths[0] / lengths[1] / 0.4 - 1)

    assert stretch(after).mean() < 0.3 * stretch(before).mean() and (signed_areas(after) > 0).all()
    rim = (np.abs(positions[..., :2] - 0.5).max(axis=2) > 0.499).reshape(-1)
    assert after.reshape(-1, 2)[rim] == pytest.approx(before.reshape(-1, 2)[rim], abs=1e-9)


@pytest.mark.parametrize(
    ("params", "says"),
    [
        ({"operation": "shake"}, "nothing that a hand does"),
        ({"operation": "move"}, "Pick points"),
        ({"operation": "move", "points": {"1": [[0, 1]]}}, "object, triangle and corner"),
        ({"operation": "move", "points": {"1": [[0, 1, 2]]}, "by": [1.0]}, "two numbers"),
        ({"operation": "line", "points": {"1": [[0, 1, 2]]}, "how": "circle"}, "no line"),
        ({"operation": "brush"}, "Brush over"),
        ({"operation": "brush", "strokes": [{"file": 1, "island": 0, "dabs": [[0.0, 0.0, -1.0, 1.0]]}]}, "radius above 0"),
    ],
)
def test_what_cannot_be_is_refused_in_words(browser: Browser, params: dict[str, Any], says: str) -> None:
    browser.upload(sheet__obj=sheet())
    answer = browser.post(f"/api/projects/{browser.project}/jobs", {"kind": "hand", "base": browser.state()["snapshot"], "params": params}, 422)  # fmt: skip
    assert says in answer["detail"]


def test_points_that_are_not_there_are_refused(browser: Browser) -> None:
    browser.upload(sheet__obj=sheet())
    file = file_of(browser)
    body = {"base": browser.state()["snapshot"], "file": file, "object": 0, "points": [[9999, 0]], "reach": 0.0}
    assert "Pick it anew" in browser.post(f"/api/projects/{browser.project}/grab", body, 422)["detail"]
    assert browser.run("hand", operation="move", points={file: [[0, 9999, 0]]}, by=[0.1, 0.0])["state"] == "failed"
    assert "not there" in stroke_refused(browser, file)


def stroke_refused(browser: Browser, file: int) -> str:
    body = {
        "base": browser.state()["snapshot"],
        "file": file,
        "object": 0,
        "island": 7,
        "token": "t",
        "done": 0,
        "dabs": [[0.1, 0.1, 0.1, 1.0]],
    }
    return str(browser.post(f"/api/projects/{browser.project}/brush", body, 422)["detail"])
