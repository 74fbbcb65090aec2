"""Boxes in reading order: by arithmetic on corners."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.edit.rows import along, in_rows

sides = st.floats(0.001, 0.7)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(sides, sides), min_size=1, max_size=40), st.floats(0, 0.02), st.floats(0, 0.05))
def test_rows_read_from_the_upper_left_and_keep_their_gaps(boxes: list[tuple[float, float]], gap: float, margin: float) -> None:
    sizes = np.array(boxes)
    at, factor = in_rows(sizes, gap, margin)
    w, h = (factor * sizes).T
    assert 0 < factor <= 1
    assert (at >= margin - 1e-9).all() and (at[:, 0] + w <= 1 - margin + 1e-9).all() and (at[:, 1] + h <= 1 - margin + 1e-9).all()
    row = 0
    for k in range(1, len(sizes)):
        if at[k, 1] == at[k - 1, 1] and at[k, 0] > at[k - 1, 0]:
            # In a row: one gap after the one before, whichever they are.
            assert at[k, 0] - (at[k - 1, 0] + w[k - 1]) == pytest.approx(gap, abs=1e-9)
        else:
            # A new row begins at the left, under all of the row before.
            assert at[k, 0] == margin and at[k, 1] + h[k] <= at[row:k, 1].min() - gap + 1e-9
            row = k


def test_what_fits_keeps_its_size_and_what_does_not_is_as_large_as_fits() -> None:
    assert in_rows(np.full((4, 2), 0.4), 0.05, 0.05)[1] == 1
    corners, factor = in_rows(np.full((9, 2), 0.4), 0.0, 0.0)
    # Nine squares fill three rows of three.
    assert factor == pytest.approx(1 / 3 / 0.4) and len(np.unique(np.round(corners[:, 1], 6))) == 3
    assert in_rows(np.zeros((0, 2)), 0.1, 0.1)[0].shape == (0, 2)
    # More gaps than room: they give way.
    _, factor = in_rows(np.full((5000, 2), 0.1), 0.05, 0.0)
    assert factor > 0


def test_places_along_a_path_count_from_its_beginning() -> None:
    path = np.array([[0.0, 0, 0], [2, 0, 0], [2, 3, 0]])
    found = along(path, np.array([[0.5, 1, 0], [2.5, 2, 0], [-4, 0, 0], [2, 9, 1]]))
    assert found == pytest.approx([0.5, 4.0, 0.0, 5.0])
