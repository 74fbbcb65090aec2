"""Islands of one shape in one place are measured once; what is told is what all pairs tell, bit for bit."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.measure import lie as lies
from quilt_core.measure import places
from quilt_core.measure.lie import Measure, measured, updated
from quilt_core.measure.shapes import IslandShapes, joined, shapes_of
from quilt_core.uv.analysis import analyse
from tests.core.test_faults import squares


def heap(chance: np.random.Generator, count: int, kinds: int, spread: float) -> IslandShapes:
    """Islands of which many are the same box: leaves on each other."""
    corner, size = chance.random((kinds, 2)) * spread, 0.02 + 0.05 * chance.random((kinds, 2))
    boxes = [(*corner[k], *(corner[k] + size[k])) for k in chance.integers(0, kinds, count)]
    (piece,) = analyse(formats.read(squares(boxes), "leaves.obj"), 0)
    return joined([shapes_of(piece)])


def same(a: lies.Lie, b: lies.Lie) -> None:
    for f in dataclasses.fields(lies.Lie):
        assert np.array_equal(getattr(a, f.name), getattr(b, f.name), equal_nan=getattr(a, f.name).dtype.kind == "f"), f.name


@pytest.mark.parametrize("seed", range(6))
def test_places_tell_what_all_pairs_tell(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(places, "_LEAST", 2)
    chance = np.random.default_rng(seed)
    shapes = heap(chance, 900, (3, 12, 30)[seed % 3], (0.05, 0.4, 0.9)[seed // 2])
    n = shapes.count
    rows = np.tile([0.0, 1.0, 1.0, 0.0, 0.0], (n, 1))
    moves = [(0.0, 1.0, 1.0, 0.0, 0.0), (np.pi / 2, 1.0, 1.0, 0.6, 0.1), (0.0, -1.0, 0.5, 0.5, 0.2)]
    rows = np.array(moves)[chance.integers(0, 3 if seed % 2 else 1, n)] if seed else rows
    sheet = chance.integers(-1 if seed == 5 else 0, 2, n) * 1
    m = Measure(shapes, rows, sheet, shapes.boxes(rows), lambda: False)
    grouped = places.places_of(shapes, rows, sheet, m.here)
    assert grouped is not None and len(grouped.size) * 2 <= len(m.here)
    found = lies._by_place(m, grouped)
    assert found is not None
    same(found, lies._by_pairs(Measure(shapes, rows, sheet, shapes.boxes(rows), lambda: False)))


def test_a_tree_of_leaves_on_each_other_is_measured_whole_and_again_after_a_move() -> None:
    """With 18,051 of them the pairs passed a bound, and every change measured the whole for a minute."""
    shapes = heap(np.random.default_rng(1), 6000, 8, 0.01)
    n = shapes.count
    rows, sheet = np.tile([0.0, 1.0, 1.0, 0.0, 0.0], (n, 1)), np.zeros(n, np.int64)
    lie = measured(shapes, rows, sheet)
    assert not lie.cut[0] and lie.overlaps.min() == n - 1 and lie.twins.min() > 500, "18 million pairs, all of them known"
    moved = rows.copy()
    moved[17, 3:] += 0.5
    after = updated(shapes, lie, rows, moved, sheet)
    same(after, measured(shapes, moved, sheet))
    assert after.overlaps[17] == 0 and after.overlaps[0] == n - 2
