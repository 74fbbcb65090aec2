"""Hand moves of the core: the nearest free place and the largest size, checked with shapely and arithmetic."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.edit.settle import grow, settle


def boxes(*sides: tuple[float, float, float, float]) -> np.ndarray:
    return np.array([shapely.box(*s) for s in sides], object)


def test_what_lies_free_stays() -> None:
    assert settle(boxes((0.4, 0.4, 0.5, 0.5)), boxes((0.7, 0.7, 0.9, 0.9)), (0, 0), 0.01, 0.01) == pytest.approx([0, 0])


def test_an_overlapping_island_goes_the_shortest_way() -> None:
    """Arithmetic: the right edge at 0.5 has to come to 0.45 - 0.01, a way of 0.06 to the left; every other way is longer."""
    mine, other = boxes((0.4, 0.4, 0.5, 0.5)), boxes((0.45, 0.2, 0.9, 0.8))
    shift = settle(mine, other, (0, 0), 0.01, 0.01)
    assert shift is not None and shift == pytest.approx([-0.06, 0], abs=1e-4)


def test_what_lies_outside_comes_into_its_tile() -> None:
    shift = settle(boxes((2.9, 0.2, 3.1, 0.4)), boxes((0.1, 0.1, 0.2, 0.2)), (2, 0), 0.02, 0.05)
    assert shift is not None and shift == pytest.approx([-0.15, 0], abs=1e-6)


def test_no_room_is_told() -> None:
    assert settle(boxes((0, 0, 0.3, 0.3)), boxes((0, 0, 1, 1)), (0, 0), 0.01, 0) is None
    assert settle(boxes((0, 0, 1.5, 0.3)), boxes((0, 0.9, 1, 1)), (0, 0), 0.01, 0) is None


@settings(deadline=None, max_examples=30)
@given(st.lists(st.tuples(st.floats(0, 0.8), st.floats(0, 0.8), st.floats(0.02, 0.2)), min_size=1, max_size=12), st.floats(0.02, 0.2))
def test_a_settled_island_keeps_its_gaps(others: list[tuple[float, float, float]], size: float) -> None:
    rest = boxes(*((u, v, u + s, v + s) for u, v, s in others))
    mine = boxes((0.5, 0.5, 0.5 + size, 0.5 + size))
    shift = settle(mine, rest, (0, 0), 0.01, 0.02)
    if shift is None:
        return
    laid = shapely.transform(mine[0], lambda xy: xy + shift)
    assert shapely.distance(laid, shapely.union_all(rest)) >= 0.01 - 1e-7
    u0, v0, u1, v1 = laid.bounds
    assert min(u0, v0) >= 0.02 - 1e-7 and max(u1, v1) <= 0.98 + 1e-7


def test_growing_stops_at_the_gap() -> None:
    """Arithmetic: half a side of 0.05 may become 0.1 - 0.02 = 0.08 before the gap to the neighbour is reached, a factor of 1.6."""
    k = grow(boxes((0.45, 0.45, 0.55, 0.55)), boxes((0.6, 0.4, 0.7, 0.6)), (0, 0), 0.02, 0.01)
    assert k == pytest.approx(1.6, rel=1e-6)
    assert grow(boxes((0.45, 0.45, 0.55, 0.55)), boxes(), (0, 0), 0.02, 0.01) == pytest.approx(0.49 / 0.05, rel=1e-6)
    assert grow(boxes((0.45, 0.45, 0.55, 0.55)), boxes((0.53, 0.4, 0.7, 0.6)), (0, 0), 0.01, 0.01) == pytest.approx(0.4, rel=1e-6)
    assert grow(boxes((0.45, 0.45, 0.55, 0.55)), boxes((0.4, 0.4, 0.7, 0.6)), (0, 0), 0.01, 0.01) == 0
