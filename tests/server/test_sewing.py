"""Sewing in a project whose layout has moved the islands: the larger one stays where it is, whichever has more triangles."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.model.scene import Floats
from quilt_server.projects.models import Job

from .test_api import Browser


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def strip(widths: list[float], cuts: list[int]) -> bytes:
    """Upright rectangles side by side, 1 high, each an island of its own, so many triangles' columns in each."""
    lines, faces = ["o strip"], []
    x = 0.0
    n = 0
    seen: dict[tuple[float, float], int] = {}
    for w, c in zip(widths, cuts, strict=True):
        for k in range(c):
            left, right = x + w * k / c, x + w * (k + 1) / c
            face = []
            for px, py in ((left, 0.0), (right, 0.0), (right, 1.0), (left, 1.0)):
                key = (round(px, 6), py)
                if key not in seen:
                    seen[key] = len(seen) + 1
                    lines.append(f"v {px:.6f} {py:.6f} 0")
                n += 1
                faces.append(f"vt {0.1 * px + 0.02 * cuts[0]:.6f} {0.1 * py + 0.3 * widths.index(w):.6f}")
                face.append(f"{seen[key]}/{n}")
            faces.append("f " + " ".join(face))
        x += w
    return "\n".join(lines + faces).encode()


def by_column(browser: Browser) -> tuple[Floats, Floats]:
    """Positions and UVs of all corners as delivered."""
    out = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        m = formats.read(z.read("strip.obj"), "strip.obj").meshes[0]
    return m.positions[m.triangles].reshape(-1, 3), m.channels[0].uvs[m.channels[0].triangles].reshape(-1, 2)


def moved(browser: Browser, island: int, row: list[float]) -> None:
    file = browser.state()["files"][0]["id"]
    done = browser.run("mend", action="move", rows={file: [[island, *row]]}, islands={file: [island]})
    assert done["state"] == "done", done["error"]


def test_the_larger_one_stays_where_it_is_though_the_other_has_more_triangles(browser: Browser) -> None:
    browser.upload(strip__obj=strip([2.0, 1.0], [1, 6]))
    moved(browser, 0, [0.5, -1.0, 1.5, 0.3, 0.2])
    moved(browser, 1, [-0.4, 1.0, 0.7, 0.1, 0.4])
    place, before = by_column(browser)
    large = place[:, 0] <= 2.0
    file = browser.state()["files"][0]["id"]
    corners = place.reshape(-1, 3, 3)
    # The side of the large one's triangle that lies at x = 2.
    t, k = next((t, k) for t in range(2) for k in range(3) if corners[t, k, 0] == corners[t, (k + 1) % 3, 0] == 2.0)
    body = {"base": browser.state()["snapshot"], "file": file, "object": 0, "edges": [[t, k]]}
    shown = browser.post(f"/api/projects/{browser.project}/sewn", body)
    done = browser.run("seams", operation="sew", edges={file: [[0, t, k]]}, relax=False)
    assert done["state"] == "done", done["error"]
    assert browser.state()["objects"][0]["islands"] == 1
    _, after = by_column(browser)
    mine = np.repeat(large.reshape(-1, 3).all(axis=1), 3)
    assert after[mine] == pytest.approx(before[mine], abs=2e-6)
    # What was shown before is what came across.
    assert shown["islands"] == 1
    corner = np.round(np.array(shown["lines"]).reshape(-1, 2), 5)
    there = np.round(after[~mine], 5)
    assert {tuple(p) for p in corner} <= {tuple(p) for p in there} and np.ptp(corner, axis=0) == pytest.approx(np.ptp(there, axis=0))
    # The other one fits onto it: all lengths at one scale.
    a, b = after.reshape(-1, 3, 2), corners
    ratio = np.linalg.norm(a - np.roll(a, 1, axis=1), axis=2) / np.linalg.norm(b - np.roll(b, 1, axis=1), axis=2)
    assert ratio == pytest.approx(np.full(ratio.shape, ratio[0, 0]), rel=1e-4)


def test_three_are_sewn_to_where_the_first_pair_lies(browser: Browser) -> None:
    browser.upload(strip__obj=strip([1.5, 1.2, 1.9], [1, 2, 1]))
    rows = {0: [0.3, 1.0, 0.9, 0.2, 0.1], 1: [1.0, 1.0, 1.1, 0.5, 0.2], 2: [2.0, 1.0, 0.8, 0.6, 0.6]}
    for island, row in rows.items():
        moved(browser, island, row)
    place, before = by_column(browser)
    file = browser.state()["files"][0]["id"]
    corners = place.reshape(-1, 3, 3)
    sides = [[0, t, k] for t in range(len(corners)) for k in range(3) for x in (1.5, 2.7) if corners[t, k, 0] == corners[t, (k + 1) % 3, 0] == x]  # fmt: skip
    assert browser.run("seams", operation="sew", edges={file: sides}, relax=False)["state"] == "done"
    assert browser.state()["objects"][0]["islands"] == 1
    _, after = by_column(browser)
    still = [np.abs(after[m] - before[m]).max() < 1e-5 for x in ((0, 1.5), (1.5, 2.7), (2.7, 4.6)) for m in [np.repeat(((corners[..., 0] >= x[0] - 1e-6) & (corners[..., 0] <= x[1] + 1e-6)).all(axis=1), 3)]]  # fmt: skip
    assert sum(still) == 1


def test_a_mirrored_half_is_turned_over_before_it_is_sewn(browser: Browser) -> None:
    body = strip([2.0, 1.0], [2, 2]).decode().split("\n")
    # The second island's UVs mirrored: a half that was made from the other one.
    uvs = [k for k, line in enumerate(body) if line.startswith("vt")]
    for k in uvs[8:]:
        _, u, v = body[k].split()
        body[k] = f"vt {1 - float(u):.6f} {v}"
    browser.upload(strip__obj="\n".join(body).encode())
    assert browser.state()["figures"]["flipped"] == 1
    place, _ = by_column(browser)
    corners = place.reshape(-1, 3, 3)
    t, k = next((t, k) for t in range(len(corners)) for k in range(3) if corners[t, k, 0] == corners[t, (k + 1) % 3, 0] == 2.0)
    file = browser.state()["files"][0]["id"]
    assert browser.run("seams", operation="sew", edges={file: [[0, t, k]]}, relax=False)["state"] == "done"
    state = browser.state()
    assert state["objects"][0]["islands"] == 1 and state["figures"]["flipped"] == 0
    _, after = by_column(browser)
    a, b = after.reshape(-1, 3, 2), corners
    ratio = np.linalg.norm(a - np.roll(a, 1, axis=1), axis=2) / np.linalg.norm(b - np.roll(b, 1, axis=1), axis=2)
    assert ratio == pytest.approx(np.full(ratio.shape, ratio[0, 0]), rel=1e-4)


def test_edges_that_are_no_seams_bring_nothing(browser: Browser) -> None:
    browser.upload(strip__obj=strip([2.0, 1.0], [1, 1]))
    file = browser.state()["files"][0]["id"]
    place, _ = by_column(browser)
    corners = place.reshape(-1, 3, 3)
    t, k = next((t, k) for t in range(len(corners)) for k in range(3) if corners[t, k, 0] == corners[t, (k + 1) % 3, 0] == 0.0)
    body = {"base": browser.state()["snapshot"], "file": file, "object": 0, "edges": [[t, k]]}
    shown = browser.post(f"/api/projects/{browser.project}/sewn", body)
    assert "is a seam" in shown["why"] and shown["islands"] == 0, "it is only looked at: no error"
