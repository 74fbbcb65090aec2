"""Islands as runs of grid cells: the cells they touch, and the cells within the padding of them.

An island is placed where its grown cells meet no touched cell of another. A point of one and a point of
another that were closer than the padding would put the centre of the second one's cell within padding plus
half a cell diagonal of the first: so that is how far the grown cells reach, and the test is conservative.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats
from .shapes import Shapes

HALF_DIAGONAL = 0.70711


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _stamp(x, y, follows, base, reach, mask):  # type: ignore[no-untyped-def]
    """Mark in `mask` (h, w) the cells whose centre lies inside the rings or within `reach` of an edge.

    x, y (V,) in cells, relative to the mask's lower left corner. Cost: cells near edges plus a scan line each row.
    """
    h, w = mask.shape
    crossings = np.zeros((h, w + 1), np.int32)
    r2 = reach * reach
    for i in range(x.shape[0]):
        j = follows[i] - base
        ax, ay, bx, by = x[i], y[i], x[j], y[j]
        dx, dy = bx - ax, by - ay
        length2 = dx * dx + dy * dy
        for row in range(max(0, int(math.floor(min(ay, by) - reach - 0.5))), min(h, int(math.ceil(max(ay, by) + reach + 0.5)))):
            cy = row + 0.5
            if (ay <= cy) != (by <= cy):
                cross = ax + (cy - ay) * dx / dy
                column = min(max(int(math.ceil(cross - 0.5)), 0), w)
                crossings[row, column] += 1
            # columns that the edge's reach can touch in this row
            lo, hi = min(ax, bx) - reach, max(ax, bx) + reach
            if length2 > 4.0 * r2 and abs(dy) > 1e-12:
                t0 = (cy - reach * math.sqrt(length2) / abs(dx) - ay) / dy if abs(dx) > 1e-12 else 0.0
                t1 = (cy + reach * math.sqrt(length2) / abs(dx) - ay) / dy if abs(dx) > 1e-12 else 1.0
                if t0 > t1:
                    t0, t1 = t1, t0
                t0, t1 = min(max(t0, 0.0), 1.0), min(max(t1, 0.0), 1.0)
                xa, xb = ax + t0 * dx, ax + t1 * dx
                lo, hi = max(lo, min(xa, xb) - reach), min(hi, max(xa, xb) + reach)
            for column in range(max(0, int(math.floor(lo - 0.5))), min(w, int(math.ceil(hi + 0.5)))):
                if mask[row, column]:
                    continue
                px, py = column + 0.5 - ax, cy - ay
                t = 0.0 if length2 <= 0.0 else min(1.0, max(0.0, (px * dx + py * dy) / length2))
                px -= t * dx
                py -= t * dy
                if px * px + py * py <= r2:
                    mask[row, column] = True
    for row in range(h):
        inside = 0
        for column in range(w):
            inside += crossings[row, column]
            if inside & 1:
                mask[row, column] = True


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _runs_of(mask, runs, n):  # type: ignore[no-untyped-def]
    """Append (row, first column, length) of every run in a mask; the new count, or -1 when `runs` is full."""
    for row in range(mask.shape[0]):
        begin = -1
        for column in range(mask.shape[1] + 1):
            on = column < mask.shape[1] and mask[row, column]
            if on and begin < 0:
                begin = column
            elif not on and begin >= 0:
                if n >= runs.shape[0]:
                    return -1
                runs[n, 0], runs[n, 1], runs[n, 2] = row, begin, column - begin
                n += 1
                begin = -1
    return n


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _rasterise(xy, follows, first, extent, pose, list_, cell, border, reach, sizes, runs, offsets):  # type: ignore[no-untyped-def]
    """Runs of every island in the poses of its list (n, A; -1 for none); -1 when the room in `runs` does not suffice."""
    n = 0
    many = list_.shape[1]
    for i in range(first.shape[0] - 1):
        a, b = first[i], first[i + 1]
        for k in range(many):
            offsets[i * many + k + 1] = n
            p = list_[i, k]
            if p < 0:
                continue
            x, y = np.empty(b - a), np.empty(b - a)
            for v in range(a, b):
                x[v - a] = (pose[p, 0] * xy[v, 0] + pose[p, 1] * xy[v, 1] - extent[i, p, 0]) / cell + border
                y[v - a] = (pose[p, 2] * xy[v, 0] + pose[p, 3] * xy[v, 1] - extent[i, p, 1]) / cell + border
            mask = np.zeros((sizes[i, k, 1] + 2 * border, sizes[i, k, 0] + 2 * border), np.bool_)
            _stamp(x, y, follows[a:b], a, reach, mask)
            n = _runs_of(mask, runs, n)
            if n < 0:
                return -1
            offsets[i * many + k + 1] = n
    return n


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _one(x, y, follows, base, reach, room):  # type: ignore[no-untyped-def]
    """Runs (row, column, length) of one outline at its place on the grid, in cells from (0, 0)."""
    left, low = int(math.floor(x.min() - reach)), int(math.floor(y.min() - reach))
    mask = np.zeros((int(math.ceil(y.max() + reach)) - low + 1, int(math.ceil(x.max() + reach)) - left + 1), np.bool_)
    _stamp(x - left, y - low, follows, base, reach, mask)
    runs = np.empty((room, 3), np.int32)
    n = _runs_of(mask, runs, 0)
    for r in range(n):
        runs[r, 0] += low
        runs[r, 1] += left
    return runs[: max(n, 0)], n


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _spread(runs, at):  # type: ignore[no-untyped-def]
    """Reorder the runs of each part by the reversed bits of their number, so that any first few cover the whole."""
    for p in range(at.shape[0] - 1):
        n = at[p + 1] - at[p]
        bits = 1
        while (1 << bits) < n:
            bits += 1
        old = runs[at[p] : at[p + 1]].copy()
        to = at[p]
        for q in range(1 << bits):
            r = 0
            for b in range(bits):
                r |= ((q >> b) & 1) << (bits - 1 - b)
            if r < n:
                runs[to] = old[r]
                to += 1


def pose_list(shapes: Shapes, most: NDArray[np.int64]) -> NDArray[np.int64]:
    """Up to `most` (n,) poses of each island, (n, greatest of most), spread evenly over those that it may take, unmirrored first; -1 for none.

    Parameters
    ----------
    most : (n,) poses that an island gets at most

    Returns
    -------
    (n, p) numbers of poses, -1 for none
    """
    out = np.full((shapes.count, int(most.max(initial=1))), -1)
    plain = shapes.mirror > 0
    for i in range(shapes.count):
        may = np.flatnonzero(shapes.allowed[i] & plain)
        if len(may) > most[i]:
            may = may[np.arange(most[i]) * len(may) // most[i]]
        out[i, : len(may)] = may
    return out


class Raster:
    """Touched and grown runs of all islands on a grid of `cell` units for a padding of `padding` units.

    `poses` (n, A) lists the poses that are tried for each island, -1 for none; sizes (n, A, 2) in cells.
    """

    def __init__(self, shapes: Shapes, cell: float, padding: float, poses: NDArray[np.int64]) -> None:
        self.shapes, self.cell, self.padding, self.poses = shapes, cell, padding, poses
        reach = padding / cell + HALF_DIAGONAL
        self.border = int(math.ceil(reach))
        extent = shapes.extent[np.arange(shapes.count)[:, None], poses]
        size = np.ceil((extent[:, :, 2:] - extent[:, :, :2]) / cell - 1e-9).astype(np.int64)
        self.size = np.maximum(size, 1)
        self.touched, self.touched_at = self._runs(HALF_DIAGONAL)
        self.grown, self.grown_at = self._runs(reach)
        _spread(self.grown, self.grown_at)

    def _runs(self, reach: float) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
        sh = self.shapes
        room = int((self.size[:, :, 1] + 2 * self.border).sum()) * 3 + 1000
        while True:
            runs = np.empty((room, 3), np.int32)
            offsets = np.zeros(self.poses.size + 1, np.int64)
            n = _rasterise(
                sh.xy, sh.follows, sh.first, sh.extent, sh.pose, self.poses, self.cell, self.border, reach, self.size, runs, offsets
            )
            if n >= 0:
                return runs[:n].copy(), offsets
            room *= 2

    def touched_by(self, outline: Floats, i: int) -> NDArray[np.int32]:
        """Runs (row, column, length) of island i's outline (v, 2) where it lies, in units from the grid's corner."""
        a, b = self.shapes.first[i], self.shapes.first[i + 1]
        room = 4000
        while True:
            runs, n = _one(outline[:, 0] / self.cell, outline[:, 1] / self.cell, self.shapes.follows[a:b], a, HALF_DIAGONAL, room)
            if n >= 0:
                return runs  # type: ignore[no-any-return]
            room *= 4

    def positions(self, column: NDArray[np.int64], row: NDArray[np.int64], pose: NDArray[np.int64], margin: float) -> Floats:
        """Centres (n, 2) in units of islands whose boxes start at the given cells."""
        low = self.shapes.extent[np.arange(self.shapes.count), pose, :2]
        return margin + np.column_stack([column, row]) * self.cell - low
