"""The surface that seams are edges of: positions merged, faces joined along edges, and what a set of seams makes of it.

A half-edge h = 3 f + k runs from corner k of face f to the next one. Two half-edges are twins when they run along one edge the other way round.
Edges of more than two faces give pairs as flat as they can be; the rest, and faces that are wound against each other, stay apart, so that whatever is
cut from here on has one or two half-edges an edge, and no face has to be turned over.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..model.components import components
from ..model.scene import Floats
from .chains import chains

Numbers = NDArray[np.int64]
Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Surface:
    """points (V, 3); faces (F, 3) rows of them, all with area; twin (3 F,) half-edges, -1 at a border; normal (F, 3), area (F,); length (3 F,);
    bend (3 F,) radians by which the surface bends at an edge, above 0 where it bulges, 0 at borders;
    corner (V,) points that no chart may have inside, None for none; flat (F,) faces of flat sides, which are not to be stretched, None for none."""

    points: Floats
    faces: Numbers
    twin: Numbers
    normal: Floats
    area: Floats
    length: Floats
    bend: Floats
    corner: Mask | None = None
    flat: Mask | None = None

    @property
    def start(self) -> Numbers:
        """Point (3 F,) that each half-edge begins at."""
        return self.faces.reshape(-1)

    @property
    def end(self) -> Numbers:
        """Point (3 F,) that each half-edge ends at."""
        return self.start[after(np.arange(len(self.twin)))]


def after(h: Numbers) -> Numbers:
    """The half-edges that follow within their faces."""
    return h - h % 3 + (h + 1) % 3


def surface_of(points: Floats, faces: Numbers, cell: Numbers | None = None) -> Surface:
    """A surface of triangles.

    Parameters
    ----------
    points : (V, 3), merged; faces : (F, 3) rows of them, each with three points that differ
    cell : (F,) the polygon of every face; faces of one polygon are joined before all others

    Returns
    -------
    with twins as flat as possible where more than two faces meet
    """
    p = points[faces]
    cross = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    double = np.linalg.norm(cross, axis=1)
    normal = cross / np.maximum(double, 1e-300)[:, None]
    start, end = faces.reshape(-1), np.roll(faces, -1, axis=1).reshape(-1)
    twin = _twins(start, end, normal, np.arange(len(faces)) if cell is None else cell, len(points))
    length = np.linalg.norm(points[end] - points[start], axis=1)
    return Surface(points, faces, twin, normal, 0.5 * double, length, _bends(twin, normal, points[end] - points[start]))


def _twins(start: Numbers, end: Numbers, normal: Floats, cell: Numbers, count: int) -> Numbers:
    twin = np.full(len(start), -1)
    low, high = np.minimum(start, end), np.maximum(start, end)
    key = low * count + high
    order = np.argsort(key, kind="stable")
    first = np.flatnonzero(np.r_[True, key[order][1:] != key[order][:-1]])
    size = np.diff(np.r_[first, len(order)])
    two = first[size == 2]
    a, b = order[two], order[two + 1]
    good = start[a] != start[b]
    twin[a[good]], twin[b[good]] = b[good], a[good]
    for f, n in zip(first[size > 2].tolist(), size[size > 2].tolist(), strict=True):
        _pair_flattest(order[f : f + n], twin, start, end, normal, cell)
    return twin


_FEW, _MOST_PAIRS = 64, 1 << 18  # pairs of half-edges of one edge that are looked at one by one, and all at once


def _pair_flattest(group: Numbers, twin: Numbers, start: Numbers, end: Numbers, normal: Floats, cell: Numbers) -> None:
    """Of the half-edges of one edge, pair those that run the other way round and bend least, those of one polygon first, then the flattest."""
    up, down = group[start[group] < end[group]], group[start[group] > end[group]]
    for a, b in _pairs(up, down, normal, cell):
        if twin[a] < 0 and twin[b] < 0:
            twin[a], twin[b] = b, a


def _pairs(up: Numbers, down: Numbers, normal: Floats, cell: Numbers) -> Iterable[tuple[int, int]]:
    """Half-edges of one edge that could be paired, the best first. Where very many faces meet in it (a real statue is 87 times in its file) not all pairs are looked at:
    both sides go by the direction of their faces."""
    if len(up) * len(down) <= _FEW:
        few = (
            (bool(cell[a // 3] != cell[b // 3]), -float(normal[a // 3] @ normal[b // 3]), a, b) for a in up.tolist() for b in down.tolist()
        )
        return [(a, b) for _, _, a, b in sorted(few)]
    if len(up) * len(down) > _MOST_PAIRS:
        up, down = (h[np.lexsort((h, cell[h // 3], *normal[h // 3].T))] for h in (up, down))
        return zip(up.tolist(), down.tolist(), strict=False)
    flat = (normal[up // 3][:, None] * normal[down // 3]).sum(axis=2)
    other = cell[up // 3][:, None] != cell[down // 3]
    a, b = np.repeat(up, len(down)), np.tile(down, len(up))
    order = np.lexsort((b, a, -flat.ravel(), other.ravel()))
    return zip(a[order].tolist(), b[order].tolist(), strict=True)


def _bends(twin: Numbers, normal: Floats, along: Floats) -> Floats:
    h = np.flatnonzero(twin >= 0)
    n, m = normal[h // 3], normal[twin[h] // 3]
    side = np.cross(n, m)
    size = np.linalg.norm(side, axis=1)
    out = np.zeros(len(twin))
    out[h] = np.arctan2(size, (n * m).sum(axis=1)) * np.where((side * along[h]).sum(axis=1) >= 0, 1.0, -1.0)
    return out


def sides_apart(s: Surface, corners: Floats) -> Floats:
    """How far the two sides of each half-edge (3 F,) lie apart for corners (F, 3, 2): the greatest difference of a coordinate; NaN where a side has none, 0
    at borders."""
    out = np.zeros(len(s.twin))
    h = np.flatnonzero(s.twin >= 0)
    t, flat = s.twin[h], corners.reshape(-1, 2)
    ends = np.concatenate([flat[h] - flat[after(t)], flat[after(h)] - flat[t]], axis=1)
    out[h] = np.abs(ends).max(axis=1)
    return out


@dataclass(frozen=True)
class Cut:
    """A surface cut along seams: rows (F, 3) of UVs that are needed, their number, the chart (F,) of every face and how many there are.

    point (W,) of each row; chart_of_row (W,)
    """

    rows: Numbers
    count: int
    chart: Numbers
    charts: int
    point: Numbers
    chart_of_row: Numbers

    @cached_property
    def members(self) -> list[Numbers]:
        """The faces (k,) of every chart, in order."""
        return grouped(self.chart, self.charts)


def grouped(label: Numbers, count: int) -> list[Numbers]:
    """Where each of `count` labels stands in `label` (n,), in order: a look through all for each of many would take their product."""
    order = np.argsort(label, kind="stable")
    return np.split(order, np.searchsorted(label[order], np.arange(1, count)))[:count]


def cut(s: Surface, seam: Mask) -> Cut:
    """What a set of seams makes of a surface.

    Parameters
    ----------
    seam : (3 F,) bool, the same for twins; borders count as seams in any case
    """
    h = np.flatnonzero((s.twin >= 0) & ~seam)
    t = s.twin[h]
    n = len(s.twin)
    label = components(n, np.r_[h, after(h)], np.r_[after(t), t])
    count = int(label.max(initial=-1)) + 1
    faces = len(s.faces)
    chart = components(faces, h // 3, t // 3)
    charts = int(chart.max(initial=-1)) + 1
    rows = label.reshape(-1, 3).astype(np.int64)
    point, chart_of_row = np.empty(count, np.int64), np.empty(count, np.int64)
    point[rows] = s.faces
    chart_of_row[rows] = chart[:, None]
    return Cut(rows, count, chart.astype(np.int64), charts, point, chart_of_row)


@dataclass(frozen=True)
class Borders:
    """The border loops of a cut: half-edges of all loops one after the other, offsets (L + 1,), the chart (L,) of each; and for each chart how many
    loops it has, and its genus."""

    edges: Numbers
    first: Numbers
    chart: Numbers
    loops: Numbers
    genus: Numbers


def borders(s: Surface, c: Cut, seam: Mask) -> Borders:
    """The border loops of all charts. Every row of a border has one half-edge that leaves it, since fans of faces are rows of their own."""
    h = np.flatnonzero((s.twin < 0) | seam)
    row = c.rows.reshape(-1)
    leaves = np.full(c.count, -1)
    leaves[row[h]] = h
    follows = leaves[row[after(h)]]
    position = np.full(len(s.twin), -1)
    position[h] = np.arange(len(h))
    order, starts = chains(position[follows])
    found = h[order]
    chart = c.chart[found[starts[:-1]] // 3] if len(found) else np.zeros(0, np.int64)
    loops = np.bincount(chart, minlength=c.charts)
    border = np.bincount(c.chart[h // 3], minlength=c.charts)
    faces = np.bincount(c.chart, minlength=c.charts)
    chi = np.bincount(c.chart_of_row, minlength=c.charts) - (3 * faces + border) // 2 + faces
    return Borders(found, starts, chart, loops, (2 - loops - chi) // 2)


def ranges(first: Numbers, last: Numbers) -> Numbers:
    """The numbers of several ranges, one after the other."""
    size = last - first
    return np.repeat(last - np.cumsum(size), size) + np.arange(int(size.sum()))
