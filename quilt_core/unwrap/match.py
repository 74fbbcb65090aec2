"""Which corner of one surface is which of another: as a whole, part by part, and by how faces hang together where parts are bent.

Positions decide first. A shape that is its own image has many ways of being matched, and the one that leaves everything nearest to where it was is meant.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..model.components import components
from ..model.scene import Floats
from .placing import NEAR, Placing, laid_on, laid_over
from .skin import Skin
from .topology import Mask, Numbers, Surface
from .walk import colours, walked

_TRIED = 8  # parts that a part is compared with
_MOST = 0.6  # of its faces have to be the other's, so that a part is another one
NONE, WHOLE, PART, GRAPH = 0, 1, 2, 3


@dataclass(frozen=True)
class Match:
    """What a second surface is of a first one.

    corner : (F, 3) corner of the first, 3 f + k, that each corner of a face of the second is; -1 where none is known. Those of one face may be of several
    faces of one polygon, which was cut into triangles another way
    side : (3 F,) half-edge of the first that each half-edge of a matched face is; -1 for cuts through a polygon, and for others
    mirrored : (F,) whether a face belongs to something that is the mirror image; way (F,) : how it was found, of NONE, WHOLE, PART, GRAPH
    placing : lays the second on the first as well as one similarity can; away : the greatest distance that is left between points that
    were matched by it, as a share of the first's diagonal
    """

    corner: Numbers
    side: Numbers
    mirrored: Mask
    way: NDArray[np.int8]
    placing: Placing
    away: float

    @cached_property
    def known(self) -> Mask:
        """(F,) faces of the second that are faces of the first."""
        return np.asarray(self.way != NONE)


def matched(first: Skin, second: Skin, thorough: bool = True) -> Match:
    """Match a second surface with a first one.

    Parameters
    ----------
    thorough : part by part and by the graph too, where it is not the same as a whole

    Returns
    -------
    with faces that are not matched where triangles are others
    """
    one, two = first.surface, second.surface
    placing = laid_on(one.points, two.points)
    to, away = _nearest(one.points, two.points, placing, NEAR)
    corner = _corners(one, two, to)
    if thorough and (corner[:, 0] >= 0).mean() < _MOST:
        # Points that are others say little of where the surface lies.
        other = laid_over(one, two, placing)
        at, far = _nearest(one.points, two.points, other, NEAR)
        found = _corners(one, two, at)
        if (found[:, 0] >= 0).sum() >= (corner[:, 0] >= 0).sum():
            placing, to, away, corner = other, at, far, found
    _by_polygons(first, second, to, corner)
    way = np.where(corner[:, 0] >= 0, WHOLE, NONE).astype(np.int8)
    mirrored = np.full(len(two.faces), placing.mirrored)
    if thorough and not (way != NONE).all():
        _by_parts(one, two, placing, corner, mirrored, way)
    if thorough and not (way != NONE).all():
        _by_graph(one, two, corner, mirrored, way)
    return Match(corner, _sides(first, corner), mirrored, way, placing, away)


def _nearest(one: Floats, two: Floats, placing: Placing, share: float) -> tuple[Numbers, float]:
    """The point (V,) of the first that each one of the second is, -1 for none, each at most once; and how far they are away from each other, of the diagonal."""
    size = max(float(np.linalg.norm(np.ptp(one, axis=0))), 1e-300)
    far, to = cKDTree(one).query(placing(two), distance_upper_bound=share * size)
    out = np.where(np.isfinite(far), to, -1)
    order = np.lexsort((far, out))
    again = order[1:][(out[order][1:] == out[order][:-1]) & (out[order][1:] >= 0)]
    out[again] = -1
    good = out >= 0
    return out, float(far[good].max(initial=0.0)) / size


def _corners(one: Surface, two: Surface, to: Numbers) -> Numbers:
    """(F, 3) corners of the first that those of the second are, for the point (V,) that each of its points is; -1 where a triangle is none of the first."""
    out = np.full((len(two.faces), 3), -1)
    asked = np.flatnonzero((to[two.faces] >= 0).all(axis=1))
    mine, other = one.faces, to[two.faces[asked]]
    order, also = (np.argsort(f, axis=1, kind="stable") for f in (mine, other))
    key, wanted = (_ranked(np.take_along_axis(f, o, axis=1), len(one.points)) for f, o in ((mine, order), (other, also)))
    # Of faces with the same corners, in the order in which they stand.
    key, wanted = _counted(key), _counted(wanted)
    _, rank = np.unique(np.concatenate([key, wanted]), axis=0, return_inverse=True)
    rank = rank.reshape(-1)
    face_of = np.full(int(rank.max(initial=-1)) + 1, -1)
    face_of[rank[: len(key)]] = np.arange(len(key))
    face = face_of[rank[len(key) :]]
    good = face >= 0
    found = np.empty((int(good.sum()), 3), np.int64)
    np.put_along_axis(found, also[good], 3 * face[good][:, None] + order[face[good]], axis=1)
    out[asked[good]] = found
    return out


def _by_polygons(first: Skin, second: Skin, to: Numbers, corner: Numbers) -> None:
    """Corners of faces whose polygon is one of the first, cut into triangles another way: mirrored, a polygon begins at another corner."""
    one, two = first.surface, second.surface
    faces = np.flatnonzero((corner < 0).any(axis=1) & (to[two.faces] >= 0).all(axis=1))
    if not len(faces):
        return
    points, count = to[two.faces], len(one.points)
    mine, polygon = _points_of_polygons(first.cell, one.faces, count)
    other, cells = _points_of_polygons(second.cell[faces], points[faces], count)
    values, at = np.unique(mine, axis=0, return_index=True)
    slot = np.minimum(np.searchsorted(values[:, 0], other[:, 0]), len(values) - 1)
    same = (values[slot] == other).all(axis=1)
    of = np.full(int(second.cell.max()) + 1, -1)
    of[cells[same]] = polygon[at[slot[same]]]
    key = first.cell.repeat(3) * count + one.faces.reshape(-1)
    order = np.argsort(key, kind="stable")
    wanted = of[second.cell[faces]][:, None] * count + points[faces]
    found = order[np.minimum(np.searchsorted(key[order], wanted), len(order) - 1)]
    good = (of[second.cell[faces]] >= 0) & (key[found] == wanted).all(axis=1)
    corner[faces[good]] = found[good]


def _points_of_polygons(cell: Numbers, points: Numbers, count: int) -> tuple[NDArray[np.uint64], Numbers]:
    """For each polygon that faces (F,) are of what its points are, as two numbers that only the same points have but for chance: how many, and a sum; and the
    polygons (n,)."""
    random = np.random.default_rng(0).integers(2**63, size=count, dtype=np.uint64)
    rows = np.unique(np.column_stack([cell.repeat(3), points.reshape(-1)]), axis=0)
    first = np.flatnonzero(np.r_[True, rows[1:, 0] != rows[:-1, 0]])
    sums = np.add.reduceat(random[rows[:, 1]], first)
    return np.column_stack([sums, np.diff(np.r_[first, len(rows)]).astype(np.uint64)]), rows[first, 0]


def _sides(first: Skin, corner: Numbers) -> Numbers:
    """See `Match.side`."""
    begin, end = corner, np.roll(corner, -1, axis=1)
    # The same side runs the other way round in the mirror.
    out = np.where(end % 3 == (begin + 1) % 3, begin, end)
    out[(corner < 0).any(axis=1)] = -1
    several = np.flatnonzero((begin // 3 != begin[:, :1] // 3).any(axis=1))
    if len(several):
        s = first.surface
        edges, edge = np.unique(_edge(s.start, s.end, len(s.points)), return_inverse=True)
        key = first.cell.repeat(3) * len(edges) + edge.reshape(-1)
        order = np.argsort(key, kind="stable")
        asked = _edge(s.start[begin[several]], s.start[end[several]], len(s.points))
        of = np.minimum(np.searchsorted(edges, asked), len(edges) - 1)
        wanted = first.cell[begin[several] // 3] * len(edges) + of
        at = order[np.minimum(np.searchsorted(key[order], wanted), len(order) - 1)]
        out[several] = np.where((edges[of] == asked) & (key[at] == wanted), at, -1)
    return out.reshape(-1)


def _edge(start: Numbers, end: Numbers, count: int) -> Numbers:
    """A number for an edge between two points, whichever way it runs."""
    return np.asarray(np.minimum(start, end) * count + np.maximum(start, end))


def _ranked(corners: Numbers, count: int) -> Numbers:
    return np.asarray((corners[:, 0] * count + corners[:, 1]) * count + corners[:, 2])


def _counted(key: Numbers) -> Numbers:
    """(n, 2) keys, and the how manieth of its key each one is."""
    order = np.argsort(key, kind="stable")
    first = np.r_[True, key[order][1:] != key[order][:-1]]
    start = np.flatnonzero(first)[np.cumsum(first) - 1]
    out = np.empty((len(key), 2), np.int64)
    out[order, 0], out[order, 1] = key[order], np.arange(len(key)) - start
    return out


def parts_of(s: Surface) -> tuple[int, Numbers]:
    """How many parts hang together at points, and the part (F,) of every face."""
    f = s.faces
    label = components(len(s.points), np.r_[f[:, 0], f[:, 1]], np.r_[f[:, 1], f[:, 2]])[f[:, 0]]
    found, part = np.unique(label, return_inverse=True)
    return len(found), part.reshape(-1).astype(np.int64)


@dataclass(frozen=True)
class _Part:
    """A part of a surface: its faces (k,), the points (v,) that they have, its triangles in numbers of these."""

    faces: Numbers
    points: Numbers
    triangles: Numbers


def _split(s: Surface) -> list[_Part]:
    count, part = parts_of(s)
    order = np.argsort(part, kind="stable")
    out = []
    for faces in np.split(order, np.searchsorted(part[order], np.arange(1, count))):
        points, triangles = np.unique(s.faces[faces], return_inverse=True)
        out.append(_Part(faces, points, triangles.reshape(-1, 3)))
    return out


def _by_parts(one: Surface, two: Surface, placing: Placing, corner: Numbers, mirrored: Mask, way: NDArray[np.int8]) -> None:
    """Match each part of the second that is not matched yet with one of the first that nothing was matched with; those nearest in space first."""
    taken = np.zeros(len(one.faces), bool)
    taken[corner[way != NONE] // 3] = True
    free = [p for p in _split(one) if not taken[p.faces].all()]
    at = np.array([one.points[p.points].mean(axis=0) for p in free]).reshape(-1, 3)
    used = np.zeros(len(free), bool)
    for part in _split(two):
        if (way[part.faces] != NONE).all():
            continue
        here = placing(two.points[part.points].mean(axis=0, keepdims=True))[0]
        fits = [
            i for i, p in enumerate(free) if not used[i] and len(p.points) == len(part.points) and len(p.faces) == len(part.faces)
        ]  # fmt: skip
        for i in sorted(fits, key=lambda i: float(((at[i] - here) ** 2).sum()))[:_TRIED]:
            mine, other = one.points[free[i].points], two.points[part.points]
            own = laid_on(mine, other)
            to, _ = _nearest(mine, other, own, 5 * NEAR)
            found = _of_part(one, free[i], two, part, to)
            good = found[:, 0] >= 0
            # The other diagonal of a quad is no other shape.
            if good.mean() < _MOST or good.sum() <= (way[part.faces] != NONE).sum():
                continue
            mirrored[part.faces] = own.mirrored
            corner[part.faces], way[part.faces] = found, np.where(good, PART, NONE)
            used[i] = True
            break


def _of_part(one: Surface, mine: _Part, two: Surface, other: _Part, to: Numbers) -> Numbers:
    """See `_corners`, for two parts; to (v,) by their own numbers."""
    small_one = Surface(one.points[mine.points], mine.triangles, *([np.zeros(0)] * 5))  # type: ignore[arg-type]
    small_two = Surface(two.points[other.points], other.triangles, *([np.zeros(0)] * 5))  # type: ignore[arg-type]
    found = _corners(small_one, small_two, to)
    return np.where(found >= 0, 3 * mine.faces[np.maximum(found, 0) // 3] + found % 3, -1)


def _by_graph(one: Surface, two: Surface, corner: Numbers, mirrored: Mask, way: NDArray[np.int8]) -> None:
    """Match what is left by how faces hang together: from an edge between points that are rarest by their neighbours, walked in both surfaces at once, the
    same way round or the other."""
    taken = np.zeros(len(one.faces), bool)
    taken[corner[way != NONE] // 3] = True
    mine, other = colours(one), colours(two)
    values, counts = np.unique(mine, return_counts=True)
    by = np.argsort(mine[one.start], kind="stable")
    sorted_colours = mine[one.start][by]
    _, part = _connected(two)
    order = np.argsort(part, kind="stable")
    for faces in np.split(order, np.flatnonzero(np.diff(part[order])) + 1):
        if (way[faces] != NONE).any():
            continue
        h = (3 * faces[:, None] + np.arange(3)).reshape(-1)
        slot = np.minimum(np.searchsorted(values, other[two.start[h]]), len(values) - 1)
        rare = np.where(values[slot] == other[two.start[h]], counts[slot], 1 << 60)
        seed = int(h[np.argmin(rare)])
        if rare.min() >= 1 << 60:
            continue
        low, high = np.searchsorted(sorted_colours, [other[two.start[seed]], other[two.start[seed]]], side="left")
        high = np.searchsorted(sorted_colours, other[two.start[seed]], side="right")
        starts = by[low:high]
        starts = starts[~taken[starts // 3]][:64]
        for a in starts.tolist():
            for turned in (False, True):
                face, found = walked(one.faces, one.twin, two.faces, two.twin, a, seed, turned, len(two.points))
                if not len(face):
                    continue
                corner[face], mirrored[face], way[face] = found, turned, GRAPH
                taken[found[:, 0] // 3] = True
                break
            else:
                continue
            break


def _connected(s: Surface) -> tuple[int, Numbers]:
    """Parts that hang together at edges."""
    h = np.flatnonzero(s.twin >= 0)
    part = components(len(s.faces), h // 3, s.twin[h] // 3)
    return int(part.max(initial=-1)) + 1, part
