"""A simpler copy of a large surface, to decide on it where seams go, and those seams drawn on the surface itself.

The copy is made by edge collapses that keep quadric errors small (Garland and Heckbert 1997, from memory; by the package fast-simplification), piece by piece, so that what
must be cut stays cut. A seam of the copy becomes the cheapest way along the edges of the surface from one end to the other, near to where it was.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from heapq import heappop, heappush

import fast_simplification
import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.spatial import cKDTree

from ..model.scene import Floats
from .topology import Cut, Mask, Numbers, Surface, cut, grouped, surface_of

_SMALL = 200  # faces of a piece: below, it stays as it is
_EAGER = 5  # of the package's collapses: how fast the error that is let pass grows
_AWAY = 4.0  # how much dearer an edge is for being away from the seam by the seam's own length, squared
_CHEAPEST = 0.3  # of its length: no edge of the surface is cheaper, however sharp


@dataclass(frozen=True)
class Simpler:
    """surface : of fewer faces; cut : of the surface itself, along what must be seams; row (v,) of it that each point of the copy stands for"""

    surface: Surface
    cut: Cut
    row: Numbers


def simpler(s: Surface, must: Mask, faces: int) -> Simpler:
    """A copy with about as many faces as are wished; pieces that seams (3 F,) which must be keep apart are made simpler each by itself."""
    c = cut(s, must)
    size = np.bincount(c.chart, minlength=c.charts)
    fits = size <= _SMALL
    share = max(faces - int(size[fits].sum()), 0) / max(int(size[~fits].sum()), 1)
    rows_of = grouped(c.chart_of_row, c.charts)
    local = np.empty(c.count, np.int64)
    points, triangles, piece, total = [], [], [], 0
    for k in range(c.charts):
        rows = rows_of[k]
        local[rows] = np.arange(len(rows))
        p, t = s.points[c.point[rows]], local[c.rows[c.members[k]]]
        want = max(int(share * len(t)), _SMALL)
        if want < len(t):
            p, t = _collapsed(p, t, want)
        points.append(p)
        triangles.append(t + total)
        piece.append(np.full(len(p), k))
        total += len(p)
    copy = surface_of(np.concatenate(points), np.concatenate(triangles))
    of = np.concatenate(piece)
    found = Simpler(copy, c, _rows_of(s, c, copy, of))
    return found if s.corner is None else _with_corners(s, found, of)


def _with_corners(s: Surface, small: Simpler, piece: Numbers) -> Simpler:
    """The copy with a corner for each one of the surface: of its piece (v,), the nearest point stands for it. It bends elsewhere too, where the surface has none."""
    assert s.corner is not None
    c, t, row = small.cut, small.surface, small.row.copy()
    edge = _border_rows(c.rows, c.count)
    rows = np.flatnonzero(s.corner[c.point] & ~edge)
    corner = np.zeros(len(t.points), bool)
    if len(rows):
        far = 1e3 * float(np.ptp(t.points, axis=0).max())
        near = cKDTree(np.column_stack([t.points, far * piece])).query(
            np.column_stack([s.points[c.point[rows]], far * c.chart_of_row[rows]])
        )[1]
        row[near], corner[near] = rows, True
    return replace(small, surface=replace(t, corner=corner), row=row)


def _collapsed(points: Floats, faces: Numbers, want: int) -> tuple[Floats, Numbers]:
    """Points and faces after collapses down to about `want` faces; as they were where nothing with an area is left."""
    # The package compares errors with absolute numbers: the piece is made as large as it takes them for.
    low, size = points.min(axis=0), max(float(np.ptp(points, axis=0).max()), 1e-300)
    found, rows = fast_simplification.simplify(
        (points - low) / size, faces.astype(np.int64), target_reduction=1 - want / len(faces), agg=_EAGER
    )
    found, rows = np.asarray(found, np.float64) * size + low, np.asarray(rows, np.int64)
    p = found[rows]
    double = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    longest = np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2).max(axis=1)
    apart = (rows[:, 0] != rows[:, 1]) & (rows[:, 1] != rows[:, 2]) & (rows[:, 2] != rows[:, 0])
    rows = rows[apart & (double > 1e-8 * longest**2)]
    if not len(rows) or not np.isfinite(found).all():
        return points, faces
    # Two faces on the same three points are a fold without an inside.
    _, once = np.unique(np.sort(rows, axis=1), axis=0, return_index=True)
    rows = rows[np.sort(once)]
    used, of = np.unique(rows, return_inverse=True)
    return found[used], of.reshape(-1, 3)


def drawn(s: Surface, cost: Floats, may: Mask, small: Simpler, seam: Mask) -> Mask:
    """The seams (3 F,) on the surface that stand for those of its simpler copy.

    Parameters
    ----------
    cost (3 F,) : of a seam on each half-edge of the surface; may (3 F,) : where there can be one
    seam (3 f,) : of the copy
    """
    out = np.zeros(len(s.twin), bool)
    t, c = small.surface, small.cut
    # Where the collapses left a hole that the surface does not have, its rim parts the copy as a seam does.
    rim = _border_rows(c.rows, c.count)[small.row]
    torn = (t.twin < 0) & ~(rim[t.start] & rim[t.end])
    h = np.flatnonzero(((t.twin > np.arange(len(t.twin))) & seam) | torn)
    if not len(h):
        return out
    first, to, way = _graph(c, np.flatnonzero(may))
    dear = np.maximum(cost, _CHEAPEST * s.length)
    ends = np.column_stack([t.start[h], t.end[h]])
    used = _ways(small.row[ends], t.points[ends[:, 0]], t.points[ends[:, 1]], s.points[c.point], first, to, way, dear)
    out[used] = True
    inner = np.flatnonzero(out & (s.twin >= 0))
    out[s.twin[inner]] = True
    return out


def _rows_of(s: Surface, c: Cut, t: Surface, piece: Numbers) -> Numbers:
    """The row of the cut surface that each point (v,) of a copy stands for: the nearest of its piece (v,) in place and direction, of the border for the border."""
    size = float(np.ptp(t.points, axis=0).max())
    own = _border_rows(c.rows, c.count)
    border = _border_rows(t.faces, len(t.points))
    # Pieces and borders are set so far apart that no other is ever nearer.
    far = 1e3 * size
    fine = np.column_stack([s.points[c.point], 0.1 * size * row_normals(c.rows, s, c.count), far * c.chart_of_row, far * own])
    coarse = np.column_stack([t.points, 0.1 * size * row_normals(t.faces, t, len(t.points)), far * piece, far * border])
    return np.asarray(cKDTree(fine).query(coarse)[1], np.int64)


def _border_rows(rows: Numbers, count: int) -> Mask:
    """(count,) whether a row lies on a border of the faces (F, 3)."""
    a, b = rows.reshape(-1), np.roll(rows, -1, axis=1).reshape(-1)
    key = np.minimum(a, b) * count + np.maximum(a, b)
    _, slot, uses = np.unique(key, return_inverse=True, return_counts=True)
    out = np.zeros(count, bool)
    once = uses[slot.reshape(-1)] == 1
    out[a[once]] = out[b[once]] = True
    return out


def row_normals(rows: Numbers, s: Surface, count: int) -> Floats:
    """Unit normals (count, 3) of rows: the mean of their faces by area."""
    out = np.zeros((count, 3))
    for k in range(3):
        np.add.at(out, rows[:, k], s.normal * s.area[:, None])
    return out / np.maximum(np.linalg.norm(out, axis=1), 1e-300)[:, None]


def _graph(c: Cut, h: Numbers) -> tuple[Numbers, Numbers, Numbers]:
    """Ways along half-edges (k,) between rows, either way: offsets (W + 1,), the row and the half-edge of each."""
    rows = c.rows.reshape(-1)
    a, b = rows[h], np.roll(c.rows, -1, axis=1).reshape(-1)[h]
    matrix = coo_matrix((np.r_[h, h] + 1, (np.r_[a, b], np.r_[b, a])), shape=(c.count, c.count))
    order = np.lexsort((matrix.col, matrix.row))
    i, j, d = matrix.row[order].astype(np.int64), matrix.col[order].astype(np.int64), matrix.data[order] - 1
    keep = np.r_[True, (i[1:] != i[:-1]) | (j[1:] != j[:-1])]
    i, j, d = i[keep], j[keep], d[keep]
    return np.searchsorted(i, np.arange(c.count + 1)), j, d.astype(np.int64)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _ways(
    ends: Numbers, start: Floats, end: Floats, at: Floats, first: Numbers, to: Numbers, way: Numbers, dear: Floats
) -> NDArray[np.int64]:  # pragma: no cover - compiled
    """Half-edges (k,) of the cheapest ways between rows `ends` (n, 2), near to the lines from `start` to `end` (n, 3); `at` (W, 3) places of the rows."""
    best = np.full(len(at), np.inf)
    came = np.full(len(at), -1)
    via = np.full(len(at), -1)
    out = [0 for _ in range(0)]
    for k in range(len(ends)):
        a, b = ends[k]
        if a == b:
            continue
        along = end[k] - start[k]
        square = max((along * along).sum(), 1e-300)
        seen = [a]
        best[a] = 0.0
        heap = [(0.0, a)]
        while len(heap) > 0:
            cost, i = heappop(heap)
            if i == b:
                break
            if cost > best[i]:
                continue
            for e in range(first[i], first[i + 1]):
                j = to[e]
                middle = 0.5 * (at[i] + at[j]) - start[k]
                part = min(max((middle * along).sum() / square, 0.0), 1.0)
                away = middle - part * along
                then = cost + dear[way[e]] * (1.0 + _AWAY * (away * away).sum() / square)
                if then < best[j]:
                    if best[j] == np.inf:
                        seen.append(j)
                    best[j] = then
                    came[j] = i
                    via[j] = way[e]
                    heappush(heap, (then, j))
        if best[b] < np.inf:
            i = b
            while i != a:
                out.append(via[i])
                i = came[i]
        for i in seen:
            best[i] = np.inf
    return np.array(out, np.int64)
