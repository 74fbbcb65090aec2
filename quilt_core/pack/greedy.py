"""The constructive phase: islands one after the other, each at the lowest free place (then the leftmost).

Free places are found for 64 columns at a time: a grown run of length L is free where its cells are, and
whether any of 2^k cells from a column on is taken is kept ready for every k, so that a run of any length
costs two ORs of shifted rows.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .raster import Raster

_ROWS = 32  # rows searched together
# How an island remembers where the last like it went: classes to a doubling of length, or of length and of width. The finer, the less is
# overlooked, and the longer a pass takes.
ROUGH, FINE = 4, 8


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _widen(taken, y0, y1):  # type: ignore[no-untyped-def]
    """taken[k, y] bit c: whether any of the columns c .. c + 2^k - 1 of row y is taken. taken[0] is given."""
    levels, _, words = taken.shape
    for k in range(1, levels):
        shift = 1 << (k - 1)
        skip, low = shift >> 6, np.uint64(shift & 63)
        high = np.uint64((64 - (shift & 63)) & 63)
        for y in range(y0, y1):
            for c in range(words):
                v = np.uint64(0)
                if c + skip < words:
                    v = taken[k - 1, y, c + skip] >> low
                    if low != 0 and c + skip + 1 < words:
                        v |= taken[k - 1, y, c + skip + 1] << high
                taken[k, y, c] = taken[k - 1, y, c] | v


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _or_shifted(row, need, source, shift):  # type: ignore[no-untyped-def]
    """The first `need` words of row |= source shifted down by `shift` columns."""
    words = source.shape[0]
    skip, low = shift >> 6, np.uint64(shift & 63)
    high = np.uint64((64 - (shift & 63)) & 63)
    n = min(need, words - skip)
    if n <= 0:
        return
    if low == 0:
        for c in range(n):
            row[c] |= source[c + skip]
    else:
        whole = min(n, words - skip - 1)
        for c in range(whole):
            row[c] |= (source[c + skip] >> low) | (source[c + skip + 1] << high)
        if whole < n:
            row[n - 1] |= source[words - 1] >> low


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _room(taken, y0, y1, columns, room):  # type: ignore[no-untyped-def]
    """room[y]: the longest stretch of free columns in each of the rows y0 to y1."""
    for y in range(y0, y1):
        longest = stretch = 0
        for c in range(columns):
            v = taken[0, y, c >> 6]
            if v & (np.uint64(1) << np.uint64(c & 63)):
                stretch = 0
            else:
                stretch += 1
                longest = max(longest, stretch)
        room[y] = longest


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _lowest(runs, a, b, taken, room, block, open_, y, y_end, x_end, levels):  # type: ignore[no-untyped-def]
    """The first free (row, column) of an island's grown runs from row y to y_end; (-1, -1) for none.

    The runs come in an order that spreads over the island, so that full rows are known after a few of them.
    """
    full = ~np.uint64(0)
    need = (x_end >> 6) + 1
    beyond = np.uint64(0) if (x_end & 63) == 63 else full << np.uint64((x_end & 63) + 1)
    while y <= y_end:
        n = min(block.shape[0], y_end - y + 1)
        block[:n, :need] = 0
        block[:n, need - 1] = beyond
        open_[:n] = True
        left = n
        for r in range(a, b):
            for q in range(n):
                if open_[q] and room[y + q + runs[r, 0]] < runs[r, 2]:
                    open_[q] = False
                    left -= 1
            if left == 0:
                break
        if left == 0:
            y += n
            continue
        for r in range(a, b):
            k = 0
            while (1 << (k + 1)) <= runs[r, 2] and k + 1 < levels:
                k += 1
            for q in range(n):
                if not open_[q]:
                    continue
                source = taken[k, y + q + runs[r, 0]]
                _or_shifted(block[q], need, source, runs[r, 1])
                rest = runs[r, 2] - (1 << k)
                while rest > 0:
                    _or_shifted(block[q], need, source, runs[r, 1] + rest)
                    rest -= 1 << k
            if (r - a) & 3 == 3:
                for q in range(n):
                    if open_[q]:
                        c = 0
                        while c < need and block[q, c] == full:
                            c += 1
                        if c == need:
                            open_[q] = False
                            left -= 1
                if left == 0:
                    break
        for q in range(n):
            if not open_[q]:
                continue
            for c in range(need):
                free = ~block[q, c]
                if free != 0:
                    bit = 0
                    while not (free >> np.uint64(bit)) & np.uint64(1):
                        bit += 1
                    return y + q, c * 64 + bit
        y += n
    return -1, -1


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _take(taken, runs, a, b, y0, x0):  # type: ignore[no-untyped-def]
    """Mark runs a to b at a place as taken; parts beyond the bitmap are left out."""
    for r in range(a, b):
        y = y0 + runs[r, 0]
        if y < 0 or y >= taken.shape[1]:
            continue
        for x in range(max(0, x0 + runs[r, 1]), min(taken.shape[2] * 64, x0 + runs[r, 1] + runs[r, 2])):
            taken[0, y, x >> 6] |= np.uint64(1) << np.uint64(x & 63)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _place(  # type: ignore[no-untyped-def]
    order, poses, grown, grown_at, touched, touched_at, size, border, width, height, group, col, row, turn, tile, taken, room, block, stop
):
    """Place islands in `order` into tiles of width[t] x height[t] cells, stacked in one bitmap.

    An island starts its search where the last one of its size class (`group`) was found: with thousands of
    islands the rows below are full for its like. Returns the greatest row reached in the last tile used, the
    number of islands that found no place (their `tile` is -1), and whether it was stopped.
    """
    levels = taken.shape[0]
    open_ = np.empty(block.shape[0], np.bool_)
    angles = size.shape[1]
    tiles = width.shape[0]
    stride = height.max() + border
    start = np.zeros((tiles, (group.max() + 1) * angles), np.int64)
    top = lost = 0
    for o in range(order.shape[0]):
        if stop[0] != 0:
            return top, lost, True
        i = order[o]
        best = np.int64(1) << 60
        tile[i] = -1
        for t in range(tiles):
            for k in range(angles):
                w, h = size[i, k, 0], size[i, k, 1]
                if poses[i, k] < 0 or w > width[t] or h > height[t]:
                    continue
                y_end = height[t] - h
                if tile[i] >= 0:
                    y_end = min(y_end, (best >> 20) - h)
                s = group[i] * angles + k
                f = i * angles + k
                y0 = t * stride
                y, x = _lowest(
                    grown, grown_at[f], grown_at[f + 1], taken, room, block, open_, y0 + start[t, s], y0 + y_end, width[t] - w, levels
                )
                if y >= 0:
                    y -= y0
                    key = ((y + h) << 20) + x + w
                    if key < best:
                        best = key
                        col[i], row[i], turn[i], tile[i] = x, y, k, t
                elif group[i] > 0:
                    # Nothing of this class fits below where the best pose does: its like need not look there again.
                    start[t, s] = max(start[t, s], y_end + 1)
            if tile[i] >= 0:
                break
        if tile[i] < 0:
            lost += 1
            continue
        k, y0 = turn[i], tile[i] * stride + row[i]
        if group[i] > 0:
            start[tile[i], group[i] * angles + k] = max(start[tile[i], group[i] * angles + k], row[i])
        f = i * angles + k
        _take(taken, touched, touched_at[f], touched_at[f + 1], y0, col[i])
        _widen(taken, y0, y0 + size[i, k, 1] + 2 * border)
        _room(taken, y0, y0 + size[i, k, 1] + 2 * border, width.max() + 2 * border, room)
        if tile[i] == tiles - 1:
            top = max(top, row[i] + size[i, k, 1])
        turn[i] = poses[i, k]
    return top, lost, False


Hint = Literal["rough", "fine"] | None


class Placement:
    """What a pass found: per island column, row, pose and tile (-1: no place), and the height used in the last tile."""

    def __init__(self, count: int) -> None:
        self.column, self.row, self.pose, self.tile = (np.zeros(count, np.int64) for _ in range(4))
        self.top = self.lost = 0
        self.stopped = False


def size_groups(raster: Raster, fine: bool) -> NDArray[np.int64]:
    """Class (n,) of like islands, from 1 on; class 0 would search from the bottom each time.

    Rough: by length. Fine: by length and by width (area over length, with the padding).

    Parameters
    ----------
    raster : the islands as cells; fine : by length and width, else by the longer side alone

    Returns
    -------
    (n,) int64
    """
    longest = raster.size.max(axis=(1, 2)).astype(float)
    kind = np.log2(longest + 1)[:, None] * (FINE if fine else ROUGH)
    if fine:
        area = raster.shapes.area / raster.cell**2 + 2 * longest * raster.border
        kind = np.hstack([kind, np.log2(area / longest + 1)[:, None] * FINE])
    return 1 + np.unique(kind.astype(np.int64), axis=0, return_inverse=True)[1].reshape(-1)


@dataclass(frozen=True)
class Held:
    """Cells that are taken before a pass begins: runs (row, column, length) in a tile, from its margin's corner."""

    tile: int
    runs: NDArray[np.int32]


def place(
    raster: Raster,
    order: NDArray[np.int64],
    width: NDArray[np.int64],
    height: NDArray[np.int64],
    hint: Hint = None,
    held: Sequence[Held] = (),
    stop: NDArray[np.int64] | None = None,
) -> Placement:
    """One greedy pass over the islands of the given order.

    Parameters
    ----------
    width, height : (tiles,) cells of the tiles inside their margins
    hint : remember per size class where the last island went ("rough": much faster with thousands, and looser; "fine": in between)
    held : what is taken already
    stop : (1,) another thread may set it; the pass then ends with `stopped`
    """
    border = raster.border
    levels = max(2, min(9, int(math.log2(max(2, raster.size[:, :, 0].max() + 2 * border))) + 1))
    columns = int(width.max()) + 2 * border
    words = (columns + 63) // 64 + 1
    stride = int(height.max()) + border
    taken = np.zeros((levels, len(width) * stride + 2 * border + 2, words), np.uint64)
    room = np.full(taken.shape[1], columns)
    for h in held:
        _take(taken, h.runs, 0, len(h.runs), h.tile * stride + border, border)
    if held:
        _widen(taken, 0, taken.shape[1])
        _room(taken, 0, len(room), columns, room)
    block = np.zeros((_ROWS, words), np.uint64)
    found = Placement(raster.shapes.count)
    group = size_groups(raster, hint == "fine") if hint else np.zeros(raster.shapes.count, np.int64)
    found.top, found.lost, found.stopped = _place(
        order, raster.poses, raster.grown, raster.grown_at, raster.touched, raster.touched_at, raster.size, border,
        width, height, group, found.column, found.row, found.pose, found.tile, taken, room, block,
        np.zeros(1, np.int64) if stop is None else stop,
    )  # fmt: skip
    return found
