"""The constructive phase: islands one after the other, each at the lowest free place (then the leftmost).

Free places are found for 64 columns at a time: a grown run of length L is free where its cells are, and
whether any of 2^k cells from a column on is taken is kept ready for every k, so that a run of any length
costs two ORs of shifted rows.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .raster import Raster

_ROWS = 32  # rows searched together


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
def _or_shifted(block, row, source, shift):  # type: ignore[no-untyped-def]
    """block[row] |= source shifted down by `shift` columns."""
    words = source.shape[0]
    skip, low = shift >> 6, np.uint64(shift & 63)
    high = np.uint64((64 - (shift & 63)) & 63)
    n = words - skip
    if n <= 0:
        return
    if low == 0:
        for c in range(n):
            block[row, c] |= source[c + skip]
    else:
        for c in range(n - 1):
            block[row, c] |= (source[c + skip] >> low) | (source[c + skip + 1] << high)
        block[row, n - 1] |= source[words - 1] >> low


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _lowest(runs, a, b, taken, block, y, y_end, x_end, levels):  # type: ignore[no-untyped-def]
    """The first free (row, column) of an island's grown runs from row y to y_end; (-1, -1) for none."""
    while y <= y_end:
        n = min(block.shape[0], y_end - y + 1)
        block[:n] = 0
        for r in range(a, b):
            k = 0
            while (1 << (k + 1)) <= runs[r, 2] and k + 1 < levels:
                k += 1
            for q in range(n):
                source = taken[k, y + q + runs[r, 0]]
                _or_shifted(block, q, source, runs[r, 1])
                rest = runs[r, 2] - (1 << k)
                while rest > 0:
                    _or_shifted(block, q, source, runs[r, 1] + rest)
                    rest -= 1 << k
        for q in range(n):
            for c in range((x_end >> 6) + 1):
                free = ~block[q, c]
                if free != 0:
                    bit = 0
                    while not (free >> np.uint64(bit)) & np.uint64(1):
                        bit += 1
                    if c * 64 + bit <= x_end:
                        return y + q, c * 64 + bit
                    break
        y += n
    return -1, -1


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _place(order, grown, grown_at, touched, touched_at, size, border, width, height, tiles, group, col, row, turn, tile, taken, block):  # type: ignore[no-untyped-def]
    """Place islands in `order` into `tiles` fields of width x height cells, stacked in one bitmap.

    An island starts its search where the last one of its size class (`group`) was found: with thousands of
    islands the rows below are full for its like. Returns the greatest row reached in the last tile used, and the
    number of islands that found no place (their `tile` is -1).
    """
    levels = taken.shape[0]
    angles = size.shape[1]
    stride = height + border
    start = np.zeros((tiles, 64 * angles), np.int64)
    top = lost = 0
    for o in range(order.shape[0]):
        i = order[o]
        best = np.int64(1) << 60
        tile[i] = -1
        for t in range(tiles):
            for k in range(angles):
                w, h = size[i, k, 0], size[i, k, 1]
                if w > width or h > height:
                    continue
                y_end = height - h
                if tile[i] >= 0:
                    y_end = min(y_end, (best >> 20) - h)
                s = group[i] * angles + k
                f = i * angles + k
                y0 = t * stride
                y, x = _lowest(grown, grown_at[f], grown_at[f + 1], taken, block, y0 + start[t, s], y0 + y_end, width - w, levels)
                if y >= 0:
                    y -= y0
                    key = ((y + h) << 20) + x + w
                    if key < best:
                        best = key
                        col[i], row[i], turn[i], tile[i] = x, y, k, t
                elif group[i] > 0 and tile[i] < 0 and y_end == height - h:
                    start[t, s] = y_end + 1
            if tile[i] >= 0:
                break
        if tile[i] < 0:
            lost += 1
            continue
        k, y0 = turn[i], tile[i] * stride + row[i]
        if group[i] > 0:
            start[tile[i], group[i] * angles + k] = max(start[tile[i], group[i] * angles + k], row[i])
        f = i * angles + k
        for r in range(touched_at[f], touched_at[f + 1]):
            y = y0 + touched[r, 0]
            for x in range(col[i] + touched[r, 1], col[i] + touched[r, 1] + touched[r, 2]):
                taken[0, y, x >> 6] |= np.uint64(1) << np.uint64(x & 63)
        _widen(taken, y0, y0 + size[i, k, 1] + 2 * border)
        top = max(top, tile[i] * height + row[i] + size[i, k, 1])
    return top, lost


class Placement:
    """What a pass found: per island column, row, turn and tile (-1: no place), and the height used."""

    def __init__(self, count: int) -> None:
        self.column, self.row, self.turn, self.tile = (np.zeros(count, np.int64) for _ in range(4))
        self.top = self.lost = 0


def size_groups(raster: Raster) -> NDArray[np.int64]:
    """Size class 1 to 63 of each island, four to a doubling; class 0 would search from the bottom each time."""
    longest = raster.size.max(axis=(1, 2))
    return np.clip((np.log2(longest + 1) * 4).astype(np.int64), 1, 63)


def place(raster: Raster, order: NDArray[np.int64], width: int, height: int, tiles: int = 1, hint: bool = False) -> Placement:
    """One greedy pass over all islands in the given order.

    Parameters
    ----------
    width, height : cells of one tile inside its margin; tiles : how many there are
    hint : remember per size class where the last island went (much faster with thousands, a little looser)
    """
    border = raster.border
    levels = max(2, min(9, int(math.log2(max(2, raster.size[:, :, 0].max() + 2 * border))) + 1))
    words = (width + 2 * border + 63) // 64 + 1
    taken = np.zeros((levels, tiles * (height + border) + 2 * border + 2, words), np.uint64)
    block = np.zeros((_ROWS, words), np.uint64)
    found = Placement(raster.shapes.count)
    group = size_groups(raster) if hint else np.zeros(raster.shapes.count, np.int64)
    found.top, found.lost = _place(
        order, raster.grown, raster.grown_at, raster.touched, raster.touched_at, raster.size, border,
        width, height, tiles, group, found.column, found.row, found.turn, found.tile, taken, block,
    )  # fmt: skip
    return found
