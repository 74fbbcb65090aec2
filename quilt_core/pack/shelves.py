"""Islands on shelves by their boxes: a layout at once, of any number and shape, for as long as nothing better is there.

Next fit by falling height (Coffman, Garey, Johnson and Tarjan 1980: at most twice the least height, and one shelf). Boxes keep the padding from
each other, so their islands do.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats
from .compact import State
from .search import Search

_STEPS = 24  # of the bisection: a millionth of the side


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _shelve(width, height, order, room, pad, x, y):  # type: ignore[no-untyped-def]
    """Put boxes (n,) in `order` on shelves of length `room` with `pad` between them; returns the height that they take, infinite where one is longer
    than a shelf. x, y (n,) their lower left corners. O(n)."""
    at, floor, top = 0.0, 0.0, 0.0
    for i in order:
        if width[i] > room:
            return np.inf
        if at > 0.0 and at + width[i] > room:
            at = 0.0
            floor = top + pad
        x[i], y[i] = at, floor
        at += width[i] + pad
        top = max(top, floor + height[i])
    return top


def shelved(search: Search) -> State | None:
    """A layout of all islands in the first tile, in the smallest one that shelves come to; None where a held density has no room for it, or islands
    are held.

    Notes
    -----
    O(n log n). Not proven yet.
    """
    shapes, gaps = search.shapes, search.gaps
    if search.frame.held.any():
        return None
    size = shapes.extent[:, :, 2:] - shapes.extent[:, :, :2]
    # Of the poses that an island may take the flattest, so that shelves are low.
    pose = np.where(shapes.allowed, size[:, :, 1], np.inf).argmin(axis=1).astype(np.int64)
    every = np.arange(shapes.count)
    width, height = (np.ascontiguousarray(size[every, pose, k]) for k in (0, 1))
    order = np.argsort(-height, kind="stable")
    ratio = float(search.frame.ratio[0])
    x, y = np.empty(shapes.count), np.empty(shapes.count)

    def fits(side: float) -> bool:
        room = side * ratio - 2 * gaps.margin(side)
        return room > 0 and bool(_shelve(width, height, order, room, gaps.pad(side), x, y) <= room)

    side = _least(fits, search)
    if side is None or not fits(side):
        return None
    low = shapes.extent[every, pose, :2]
    at: Floats = np.column_stack([x, y]) - low + gaps.margin(side)
    tile: NDArray[np.int64] = np.zeros(shapes.count, np.int64)
    return State(at, pose, tile, side)


def _least(fits: Callable[[float], bool], search: Search) -> float | None:
    """The least side at which shelves fit, by bisection; the held one where a density is held."""
    if search.hold is not None:
        return search.hold if fits(search.hold) else None
    high = max(float(np.sqrt(search.shapes.area.sum())), search.shapes.least_side())
    for _ in range(200):
        if fits(high):
            break
        high *= 1.5
    else:
        return None
    low = high / 1.5
    for _ in range(_STEPS):
        middle = 0.5 * (low + high)
        low, high = (low, middle) if fits(middle) else (middle, high)
    return high
