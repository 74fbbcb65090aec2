"""Straight edges on whole texels, checked by arithmetic on the polygons themselves."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from quilt_cli.main import main
from quilt_core.arrange.texel_grid import Apart, fitted, on_grid, snap_of, straight

from .test_faults import squares

ALONE = np.array([-1])


def whole(values: np.ndarray) -> bool:
    return bool((np.abs(values - np.round(values)) < 1e-9).all())


def test_a_rectangle_gets_whole_sides_within_the_tolerance() -> None:
    box = shapely.box(10.3, 20.6, 110.7, 81.1)
    snap = snap_of(box, 0.01)
    after = shapely.transform(box, snap)
    assert whole(np.array(after.bounds))
    wide, high = after.bounds[2] - after.bounds[0], after.bounds[3] - after.bounds[1]
    assert abs(wide / 100.4 - 1) <= 0.01 and abs(high / 60.5 - 1) <= 0.01
    assert snap.change == pytest.approx(max(abs(wide / 100.4 - 1), abs(high / 60.5 - 1)))
    assert on_grid([box]) == (0, 4) and on_grid([after]) == (4, 4)


def test_a_narrow_strip_keeps_its_width_and_has_one_side_on_the_grid() -> None:
    """7.4 px can only become 7 or 8: more than one percent."""
    strip = shapely.box(5.3, 10.2, 12.7, 210.4)
    after = shapely.transform(strip, snap_of(strip, 0.01))
    assert after.bounds[2] - after.bounds[0] == pytest.approx(7.4)
    assert on_grid([after]) == (3, 4)
    assert on_grid([shapely.transform(strip, snap_of(strip, 0.06))]) == (4, 4)


def test_inner_edges_follow_where_sizes_allow() -> None:
    bent = shapely.Polygon([(0.2, 0.3), (200.6, 0.3), (200.6, 80.7), (90.4, 80.7), (90.4, 160.2), (0.2, 160.2)])
    after = shapely.transform(bent, snap_of(bent, 0.01))
    assert on_grid([bent]) == (0, 6) and on_grid([after]) == (6, 6)
    assert whole(shapely.get_coordinates(after))


def test_slanted_and_curved_edges_are_no_straight_ones() -> None:
    disc = shapely.Point(50, 50).buffer(30.3, quad_segs=32)
    assert straight(disc, 0)[0].size == 0
    assert shapely.equals_exact(shapely.transform(disc, snap_of(disc, 0.01)), disc, 0)
    # Sides of one place count once, those of holes too.
    ring = shapely.box(0, 0, 40, 40).difference(shapely.box(10.5, 10, 30, 30))
    assert straight(ring, 0)[0] == pytest.approx([0, 10.5, 30, 40])


def test_what_would_come_too_near_stays() -> None:
    """Two with exactly the padding between them, so that neither may grow towards the other."""
    at = np.array([shapely.box(10.5, 10, 110.5, 60), shapely.box(114.5, 10, 214.5, 60)], object)
    found = fitted(list(at), at, np.array([-1, -1]), np.ones(2, bool), 0.01, 4.0, 2.0, 512)
    now = [r if s is None else shapely.transform(r, s) for r, s in zip(at, found, strict=True)]
    assert shapely.distance(*now) >= 4 - 0.011
    held = fitted(list(at), at, np.array([-1, -1]), np.array([False, True]), 0.01, 4.0, 2.0, 512)
    assert held[0] is None
    border = np.array([shapely.box(2.0, 2.0, 100.6, 60.6)], object)
    (one,) = fitted(list(border), border, ALONE, np.ones(1, bool), 0.01, 4.0, 2.0, 512)
    assert one is None or shapely.transform(border[0], one).bounds[0] >= 2 - 0.011


def test_islands_of_two_materials_keep_their_wider_gap() -> None:
    at = np.array([shapely.box(10.5, 10, 110.5, 60), shapely.box(118.5, 10, 218.5, 60)], object)
    free, alone = np.ones(2, bool), np.array([-1, -1])
    for kinds, least in (((0, 1), 8.0), ((0, 0), 4.0)):
        found = fitted(list(at), at, alone, free, 0.01, 4.0, 2.0, 512, Apart(np.array(kinds), 8.0))
        now = [r if s is None else shapely.transform(r, s) for r, s in zip(at, found, strict=True)]
        assert shapely.distance(*now) >= least - 1e-3
    # Without the wider gap both may move; with it one of them has to stay.
    assert all(s is not None for s in found)


def test_twins_go_together() -> None:
    a = shapely.box(10.5, 10.49999999, 110.5, 60.2)
    b = shapely.box(10.5, 10.50000001, 110.5, 60.2)
    at = np.array([a, b], object)
    one, two = fitted([a, b], at, np.array([0, 0]), np.ones(2, bool), 0.01, 4.0, 2.0, 512)
    assert one is two and one is not None
    assert fitted([a, b], at, np.array([0, 0]), np.array([True, False]), 0.01, 4.0, 2.0, 512) == [None, None]


def test_the_command_line_lays_edges_on_texels(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Read back line by line, apart from the readers."""
    source = tmp_path / "tiles.obj"
    source.write_bytes(squares([(0.1 * k, 0.0, 0.1 * k + 0.05 + 0.007 * k, 0.031 + 0.011 * k) for k in range(7)]))
    out = tmp_path / "out"
    assert main(["pack", str(source), "--out", str(out), "--map", "1024", "--seconds", "0.5", "--texel-grid", "2", "--json"]) == 0
    figures = json.loads(capsys.readouterr().out)
    assert figures["texel_grid"]["on"] == figures["texel_grid"]["edges"] == 28 and 0 < figures["texel_grid"]["change"] <= 0.02
    vt = np.array(
        [[float(x) for x in line.split()[1:3]] for line in (out / "tiles.obj").read_text().splitlines() if line.startswith("vt ")]
    )
    assert np.abs(vt * 1024 - np.round(vt * 1024)).max() < 0.01
    assert main(["pack", str(source), "--out", str(out), "--texel-grid", "40"]) == 2


@given(
    st.lists(st.floats(0.5, 60), min_size=2, max_size=7), st.floats(0, 1), st.floats(0, 0.05),
)  # fmt: skip
def test_no_size_changes_by_more_than_the_tolerance(steps: list[float], start: float, tolerance: float) -> None:
    """A staircase with steps of any size: each part keeps its size within the tolerance, and nothing turns over."""
    x = start + np.concatenate([[0.0], np.cumsum(steps)])
    heights = 5.0 * np.arange(len(x), 0, -1)
    stairs = [p for k in range(len(x) - 2, -1, -1) for p in ((float(x[k + 1]), heights[k]), (float(x[k]), heights[k]))]
    shape = shapely.Polygon([(float(x[0]), 0.0), (float(x[-1]), 0.0), *stairs])
    assert shape.is_valid and straight(shape, 0)[0] == pytest.approx(x)
    snap = snap_of(shape, tolerance)
    assert snap.change <= tolerance + 1e-12
    moved = snap(np.column_stack([x, x]))
    assert (np.diff(moved[:, 0]) > 0).all()
    assert np.abs(moved[:, 0] - x).max() <= 1.0 + tolerance * (x[-1] - x[0])
