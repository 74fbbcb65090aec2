"""Straight edges on whole texels: proven by reading back what is delivered, with code of its own."""

from __future__ import annotations

import json

import numpy as np
import pytest
import shapely

from quilt_server.projects.models import Job, SourceFile

from .test_api import Browser
from .test_deliver import delivered
from .test_sheets import sheet
from .test_tile_rules import squares

SIZES = ((1.0, 0.63), (0.81, 1.37), (0.5, 0.5), (2.1, 0.33), (0.9, 1.1), (0.7, 0.29))


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def boards() -> bytes:
    """Boards of odd sizes in metres, all of one density, each an object."""
    lines, row = list[str](), 0
    for n, (w, h) in enumerate(SIZES):
        lines.append(f"o board{n}")
        lines += [f"v {3 * n + x * w:.6f} {y * h:.6f} 0" for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))]
        lines += [f"vt {0.1 * x * w:.6f} {0.1 * y * h:.6f}" for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))]
        lines.append("f " + " ".join(f"{row + i}/{row + i}" for i in (1, 2, 3, 4)))
        row += 4
    return "\n".join(lines).encode()


def start(browser: Browser, **more: object) -> None:
    browser.upload(boards__obj=boards())
    settings = {**browser.state()["settings"], "map_px": 512, "seconds": 0.6, "padding_px": 4, "margin_px": 2, "texel_grid": True, **more}
    assert browser.run("settings", settings=settings)["state"] == "done"


def exported(browser: Browser) -> dict[str, np.ndarray]:
    with delivered(browser) as z:
        return squares(z.read("boards.obj"))


def off(found: dict[str, np.ndarray], px: int) -> float:
    """How far the corners of all squares are from whole texels, at most."""
    every = np.concatenate(list(found.values())).reshape(-1, 2) * px
    return float(np.abs(every - np.round(every)).max())


def test_all_edges_lie_on_whole_texels_in_the_file_that_is_delivered(browser: Browser) -> None:
    start(browser)
    assert browser.run("pack")["state"] == "done"
    found = exported(browser)
    assert off(found, 512) < 0.01
    boxes = [shapely.Polygon(v[0]) for v in found.values()]
    gaps = [a.distance(b) * 512 for i, a in enumerate(boxes) for b in boxes[i + 1 :]]
    assert min(gaps) >= 4 - 0.01 and min(b.bounds[0] for b in boxes) * 512 >= 2 - 0.01
    # Each side is within one percent of one density for all.
    sides = np.array([np.linalg.norm(np.roll(v[0], -1, axis=0) - v[0], axis=1)[:2] * 512 for v in found.values()])
    density = sides / np.array(SIZES)
    assert density.max() / density.min() < 1.0205
    state = browser.state()
    grid = state["sheets"][0]["figures"]["grid"]
    assert (grid["edges"], grid["on"]) == (24, 24) and 0 < grid["change"] <= 0.01
    assert state["sheets"][0]["stale"] == [] and state["sheets"][0]["moved"] == 0
    with delivered(browser) as z:
        assert next(iter(json.loads(z.read("report.json"))["sheets"].values()))["grid"]["on"] == 24


def test_sizes_do_not_wander_when_it_is_packed_again(browser: Browser) -> None:
    start(browser)
    for seed in range(4):
        browser.change(settings={**browser.state()["settings"], "seed": seed})
        assert browser.run("pack")["state"] == "done"
    assert off(exported(browser), 512) < 0.01
    assert browser.state()["sheets"][0]["figures"]["grid"]["change"] <= 0.01
    # Every file lies behind the one that came, not behind the one before.
    last = SourceFile.objects.get(pk=browser.state()["files"][0]["id"])
    assert last.operation == {"name": "grid"} and last.before is not None and last.before.revision == ""
    # One step back, and the sizes are those of that packing.
    state = browser.state()
    browser.post(f"/api/projects/{browser.project}/undo", {"base": state["snapshot"]})
    assert browser.state()["sheets"][0]["figures"]["grid"]["on"] == 24


def test_rules_follow_and_held_islands_stay(browser: Browser) -> None:
    start(browser, texel_grid=False)
    assert browser.run("pack")["state"] == "done"
    before = exported(browser)
    state = browser.state()
    held = [f"{state['files'][0]['id']}:{state['objects'][2]['first_island']}"]
    browser.change(settings={**state["settings"], "held": held, "texel_grid": True, "weights": {state["objects"][0]["key"]: 1.5}})
    assert browser.run("pack")["state"] == "done"
    after, state = exported(browser), browser.state()
    assert np.allclose(after["board2"], before["board2"], atol=1e-6)
    file = state["files"][0]["id"]
    assert state["settings"]["held"] == [f"{file}:2"] and state["settings"]["weights"] == {f"{file}/0": 1.5}
    rest = {k: v for k, v in after.items() if k != "board2"}
    assert off(rest, 512) < 0.01


def test_what_no_tolerance_lets_change_is_counted(browser: Browser) -> None:
    start(browser, grid_percent=0.0)
    assert browser.run("pack")["state"] == "done"
    grid = browser.state()["sheets"][0]["figures"]["grid"]
    # Nothing may change its size: one edge for each axis of an island lies on the grid, the other one where it falls.
    assert grid["edges"] == 24 and 12 <= grid["on"] < 24 and grid["change"] == 0
    refused = browser.change(422, settings={**browser.state()["settings"], "grid_percent": 50.0})
    assert "0 to 20 %" in refused["detail"]


def test_a_stopped_packing_keeps_its_best_on_the_grid(browser: Browser) -> None:
    start(browser, seconds=60.0)
    state = browser.state()
    body = {"kind": "pack", "base": state["snapshot"], "params": {}}
    job = browser.post(f"/api/projects/{browser.project}/jobs", body)
    Job.objects.filter(pk=job["id"]).update(cancel=True)
    assert browser.work(job)["state"] == "done"
    assert off(exported(browser), 512) < 0.01


def test_recipes_are_tried_without_the_grid_and_that_is_said(browser: Browser) -> None:
    start(browser)
    done = browser.run("pack", variants=[{"padding_px": 4.0}, {"padding_px": 6.0}])
    assert done["state"] == "done" and "pack once more" in done["result"]["note"]
    state = browser.state()
    assert len(state["tries"]) == 2 and "edges on whole texels changed" in state["sheets"][0]["stale"]
    assert state["files"][0]["id"] == SourceFile.objects.get().pk


def test_what_is_not_packed_stays_to_the_last_digit(browser: Browser) -> None:
    """A held tile, and the other tiles where one is packed alone, are not laid on the grid."""
    start(browser, texel_grid=False, sheets=[sheet(1, columns=2)])
    file = browser.state()["files"][0]["id"]
    browser.change(settings={**browser.state()["settings"], "tile_of": {f"{file}/{n}": 1001 + n % 2 for n in range(6)}})
    assert browser.run("pack")["state"] == "done"
    before = exported(browser)
    browser.change(settings={**browser.state()["settings"], "texel_grid": True})
    assert browser.run("pack", tiles=[1002])["state"] == "done"
    after = exported(browser)
    even, odd = ([f"board{n}" for n in range(k, 6, 2)] for k in (0, 1))
    assert all(np.array_equal(after[k], before[k]) for k in even)
    assert off({k: after[k] for k in odd}, 512) < 0.01
    # A tile that is held stays too.
    settings = browser.state()["settings"]
    held = [{**settings["sheets"][0], "held_tiles": [1001]}]
    assert browser.run("settings", settings={**settings, "sheets": held, "tile_of": {}, "seed": 3})["state"] == "done"
    assert browser.run("pack")["state"] == "done"
    assert all(np.array_equal(exported(browser)[k], before[k]) for k in even)
