"""The last millimetres by hand: the nearest free place for islands, and the largest size at which they still fit."""

from __future__ import annotations

import math

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats

_CELLS = 512  # of a tile's side, for looking around; the place itself is found exactly
_CLOSE = 24  # candidates that are tried exactly


def fits(mine: shapely.Geometry, others: shapely.STRtree, room: shapely.Geometry, gap: float) -> bool:
    """Whether something keeps `gap` from all others and lies inside `room`."""
    if not shapely.covers(room, mine):
        return False
    near = others.query(mine, predicate="dwithin", distance=gap * (1 - 1e-9)) if gap > 0 else others.query(mine, predicate="intersects")
    if gap > 0:
        return len(near) == 0
    touched = shapely.area(shapely.intersection(others.geometries[near], mine))
    return bool((touched <= 1e-12).all())


def settle(
    regions: NDArray[np.object_], others: NDArray[np.object_], corner: tuple[float, float], gap: float, margin: float
) -> Floats | None:
    """The shortest shift (2,) that brings regions, moved as one, to a free place in a tile; None where there is none.

    Parameters
    ----------
    regions, others : in UV units; corner : lower left corner of the tile; gap, margin : UV units that must stay free
    """
    mine = shapely.union_all(regions)
    tree = shapely.STRtree(others)
    u, v = corner
    room = shapely.box(u + margin - 1e-9, v + margin - 1e-9, u + 1 - margin + 1e-9, v + 1 - margin + 1e-9)
    if fits(mine, tree, room, gap):
        return np.zeros(2)
    here = tree.query(shapely.box(u, v, u + 1, v + 1))
    start = _into(mine, room)
    if start is None:
        return None
    blocked = _cells(shapely.buffer(shapely.union_all(others[here]), gap, quad_segs=8) if len(here) else shapely.Polygon(), corner)
    base = shapely.transform(mine, lambda xy: xy + start)
    for shift in _places(base, blocked, corner, margin):
        total = start + shift
        if fits(_moved(mine, total), tree, room, gap):
            return _nearer(mine, total, tree, room, gap)
    return None


def _moved(region: shapely.Geometry, by: Floats) -> shapely.Geometry:
    return shapely.transform(region, lambda xy: xy + by)


def _into(mine: shapely.Geometry, room: shapely.Geometry) -> Floats | None:
    """The shortest shift that brings the box of something into a room; None where it is too large."""
    a, b = np.array(mine.bounds), np.array(room.bounds)
    if ((a[2:] - a[:2]) > (b[2:] - b[:2])).any():
        return None
    return np.maximum(b[:2] - a[:2], 0.0) + np.minimum(b[2:] - a[2:], 0.0)  # type: ignore[no-any-return]


def _cells(region: shapely.Geometry, corner: tuple[float, float]) -> NDArray[np.bool_]:
    """Which cell middles of a tile a region covers, (rows, columns)."""
    at = (np.arange(_CELLS) + 0.5) / _CELLS
    x, y = np.meshgrid(at + corner[0], at + corner[1])
    shapely.prepare(region)
    return np.asarray(shapely.contains_xy(region, x.ravel(), y.ravel()).reshape(_CELLS, _CELLS))


def _places(mine: shapely.Geometry, blocked: NDArray[np.bool_], corner: tuple[float, float], margin: float) -> Floats:
    """Shifts (k, 2) at which the cells of something meet none that is blocked, the shortest first."""
    own = _cells(mine, corner)
    if not own.any():
        x, y = (np.array(mine.centroid.coords[0]) - corner) * _CELLS
        own[min(_CELLS - 1, max(0, int(y))), min(_CELLS - 1, max(0, int(x)))] = True
    from scipy.signal import fftconvolve  # it loads half a second of what nothing else here needs

    meets = fftconvolve(blocked.astype(np.float32), own[::-1, ::-1].astype(np.float32), mode="full")
    rows, columns = np.nonzero(meets < 0.5)
    shift = np.column_stack([columns, rows]) - (_CELLS - 1)
    b, edge = np.array(mine.bounds), margin - 1e-9
    low = np.array([corner[0] + edge - b[0], corner[1] + edge - b[1]]) * _CELLS
    high = np.array([corner[0] + 1 - edge - b[2], corner[1] + 1 - edge - b[3]]) * _CELLS
    shift = shift[((shift >= low) & (shift <= high)).all(axis=1)]
    order = np.argsort((shift**2).sum(axis=1), kind="stable")
    # Neighbouring cells tell the same: some of the nearest, then ever sparser ones.
    take = np.unique(np.r_[np.arange(min(_CLOSE, len(order))), np.geomspace(1, max(1, len(order)), 4 * _CLOSE).astype(int) - 1])
    return shift[order[take[take < len(order)]]] / _CELLS  # type: ignore[no-any-return]


def _nearer(mine: shapely.Geometry, shift: Floats, tree: shapely.STRtree, room: shapely.Geometry, gap: float) -> Floats:
    """A good shift drawn back toward where it came from, as far as it stays good: along the line, then along each axis."""
    for axis in (np.array([1.0, 1.0]), np.array([1.0, 0.0]), np.array([0.0, 1.0])):
        good, bad = 1.0, 0.0
        for _ in range(24):
            middle = 0.5 * (good + bad)
            tried = shift * np.where(axis > 0, middle, 1.0)
            if fits(_moved(mine, tried), tree, room, gap):
                good = middle
            else:
                bad = middle
        shift = shift * np.where(axis > 0, good, 1.0)
    return shift


def grow(
    regions: NDArray[np.object_], others: NDArray[np.object_], corner: tuple[float, float], gap: float, margin: float, most: float = 64.0
) -> float:
    """The largest factor by which regions, scaled as one about their middle, still keep their gaps; below 1 where they do not now.

    Gaps among the regions themselves grow with them and are not looked at.

    Parameters
    ----------
    regions, others : in UV units; corner : lower left corner of the tile; gap, margin : UV units that must stay free; most : the limit
    """
    mine = shapely.union_all(regions)
    x0, y0, x1, y1 = mine.bounds
    middle = np.array([0.5 * (x0 + x1), 0.5 * (y0 + y1)])
    tree = shapely.STRtree(others)
    u, v = corner
    room = shapely.box(u + margin, v + margin, u + 1 - margin, v + 1 - margin)

    def good(k: float) -> bool:
        return fits(shapely.transform(mine, lambda xy: middle + k * (xy - middle)), tree, room, gap)

    low, high = (1.0, most) if good(1.0) else (1e-6, 1.0)
    if not good(low):
        return 0.0
    for _ in range(48):
        k = math.sqrt(low * high)
        if good(k):
            low = k
        else:
            high = k
    return low
