"""Parts of one mesh that were laid on each other and touch there, as the two halves of a mirrored thing do along its middle.

Where they touch both have equal positions and equal UVs, as neighbours in one island have. Three things tell them apart: neighbours lie side by side about the
point where they touch and these on each other; in the file each has rows of its own (where they share rows the island is folded over, and moving it cannot
part them); and both are of one size. A flap that was folded onto a larger part is a fault of one island.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..model.components import components
from ..model.scene import Floats, Ints

Numbers = NDArray[np.int64]

_CROWD = 8  # triangles at an edge of which each is looked at with each
MISS = 1e-3  # share of its area by which what lies on another in one shape may miss it
_SLIVER = 1e-4  # radians by which two that lie side by side may seem to lie on each other


def islands_apart(count: int, label: Numbers, rows: Numbers, corners: Floats, area: Floats) -> tuple[Ints, int] | None:
    """Islands of triangles (T,) of which some may lie on each other, numbered by their first, and how many there are; None where none do.

    Triangles that share rows or lie beside each other at an edge are of one island; so are those that touch in a point, unless they are of two parts of one
    size that lie on each other there.

    Parameters
    ----------
    count : how many there are when all that touch is joined
    label : (T, 3) number of every corner, equal where position and UV are
    rows : (T, 3) row of the file that each corner has its UV of
    corners : (T, 3, 2) UVs; area : (T,) signed, 0 for those that cover nothing
    """
    triangles = np.arange(len(rows))
    of_row = np.full(int(rows.max(initial=-1)) + 1, -1)
    of_row[rows[::-1].reshape(-1)] = np.repeat(triangles[::-1], 3)
    mine = np.column_stack([np.repeat(triangles, 3), of_row[rows].reshape(-1)])
    part = components(len(rows), *np.concatenate([mine, _beside(label, rows, area)]).T)
    if int(part.max(initial=-1)) + 1 == count:
        return None
    touching, on = _touching(label, part, corners, area)
    size = np.bincount(part, np.abs(area))
    alike = np.minimum(size[on[:, 0]], size[on[:, 1]]) > (1 - MISS) * np.maximum(size[on[:, 0]], size[on[:, 1]])
    root = _joined(len(size), [*touching.tolist(), *on[~alike].tolist()], on[alike].tolist())
    _, first, number = np.unique(root[part], return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(first)] = np.arange(len(first))
    return rank[number.reshape(-1)].astype(np.int32), len(first)


def _beside(label: Numbers, rows: Numbers, area: Floats) -> Numbers:
    """Pairs (k, 2) of triangles that share an edge by position and UV and lie on two sides of it.

    At edges of more than two triangles only those count that run along it in opposite directions: a sheet has its back on it in the same place.
    """
    a, b = label.reshape(-1), np.roll(label, -1, axis=1).reshape(-1)
    ra, rb = rows.reshape(-1), np.roll(rows, -1, axis=1).reshape(-1)
    real = np.flatnonzero(a != b)
    up = a < b
    key = np.where(up, a, b) * (int(label.max(initial=0)) + 1) + np.where(up, b, a)
    order = real[np.argsort(key[real], kind="stable")]
    k = key[order]
    first = np.flatnonzero(np.r_[True, k[1:] != k[:-1]]) if len(k) else np.zeros(0, np.int64)
    size = np.repeat(np.diff(np.r_[first, len(k)]), np.diff(np.r_[first, len(k)]))
    low, high = np.where(up, ra, rb), np.where(up, rb, ra)
    side = np.sign(np.repeat(area, 3)) * np.where(up, 1, -1)
    out = [np.zeros((0, 2), np.int64)]
    for step in range(1, _CROWD):
        at = np.flatnonzero(k[step:] == k[:-step])
        if not len(at):
            break
        one, other = order[at], order[at + step]
        apart = (low[one] != low[other]) & (high[one] != high[other])
        folded = apart & (side[one] * side[other] > 0)
        joined = ~folded & ((size[at] == 2) | (up[one] != up[other]))
        out.append(np.column_stack([one, other])[joined] // 3)
    return np.concatenate(out)


def _touching(label: Numbers, part: Numbers, corners: Floats, area: Floats) -> tuple[Numbers, Numbers]:
    """Pairs (k, 2) of parts that touch in a point: those that only lie side by side wherever they touch, and those that lie on each other somewhere."""
    labels, parts = label.reshape(-1), np.repeat(part, 3)
    order = np.lexsort((parts, labels))
    # Only points where more than one part is.
    first, last = np.empty(int(labels.max(initial=-1)) + 1, np.int64), np.empty(int(labels.max(initial=-1)) + 1, np.int64)
    first[labels[order[::-1]]], last[labels[order]] = parts[order[::-1]], parts[order]
    order = order[(first != last)[labels[order]]]
    along = np.stack([np.roll(corners, -1, axis=1) - corners, np.roll(corners, 1, axis=1) - corners], axis=2).reshape(-1, 2, 2)[order]
    along = np.where((area < 0)[order // 3, None, None], along[:, ::-1], along)  # counter-clockwise from the first to the second
    angle = np.arctan2(along[:, :, 1], along[:, :, 0])
    wide = np.where((area == 0)[order // 3], 0.0, (angle[:, 1] - angle[:, 0]) % (2 * np.pi))
    found = _pairs_at_points(labels[order], parts[order], angle[:, 0], wide, _SLIVER)
    if not len(found):
        return np.zeros((0, 2), np.int64), np.zeros((0, 2), np.int64)
    pairs, at = np.unique(found[:, :2], axis=0, return_inverse=True)
    on = np.zeros(len(pairs), bool)
    np.logical_or.at(on, at.reshape(-1), found[:, 2] > 0)
    return pairs[~on], pairs[on]


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _pairs_at_points(labels, parts, start, wide, sliver):  # type: ignore[no-untyped-def]
    """Rows (part, other part, whether they overlap) of two parts in one point, for corners sorted by point and part that take up `wide` radians from `start` on."""
    out = np.empty((16, 3), np.int64)
    n = 0
    a = 0
    while a < len(labels):
        b = a
        while b < len(labels) and labels[b] == labels[a]:
            b += 1
        for i in range(a, b):
            for j in range(i + 1, b):
                if parts[i] == parts[j]:
                    continue
                turn = (start[j] - start[i]) % (2 * np.pi)
                on = wide[i] > 0 and wide[j] > 0 and (turn < wide[i] - sliver or 2 * np.pi - turn < wide[j] - sliver)
                if n and out[n - 1, 0] == parts[i] and out[n - 1, 1] == parts[j]:
                    out[n - 1, 2] = max(out[n - 1, 2], 1 if on else 0)
                    continue
                if n == len(out):
                    more = np.empty((2 * n, 3), np.int64)
                    more[:n] = out
                    out = more
                out[n, 0], out[n, 1], out[n, 2] = parts[i], parts[j], 1 if on else 0
                n += 1
        a = b
    return out[:n]


def _joined(count: int, pairs: Iterable[list[int]], apart: Iterable[list[int]]) -> Numbers:
    """The root (count,) of each part after joining pairs one by one, never two that are to stay apart."""
    parent = list(range(count))
    never: dict[int, set[int]] = {}
    for a, b in apart:
        never.setdefault(a, set()).add(b)
        never.setdefault(b, set()).add(a)

    def root(x: int) -> int:
        while parent[x] != x:
            parent[x] = parent[parent[x]]
            x = parent[x]
        return x

    for a, b in pairs:
        keep, goes = root(a), root(b)
        if keep == goes or goes in never.get(keep, ()):
            continue
        parent[goes] = keep
        for other in never.pop(goes, set()):
            never[other].discard(goes)
            never[other].add(keep)
            never.setdefault(keep, set()).add(other)
    return np.array([root(x) for x in range(count)], np.int64)
