"""Twins: islands of one shape that lie exactly on each other on purpose, so that they share their texels.

A group of twins is a number for each of its islands. One island of a group leads; the others follow it wherever it goes, as long
as they lie on it when it is moved.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.components import components
from ..model.scene import Floats
from ..model.similarity import applied, composed, inverse, nearest
from .analysis import MeshIslands, transform_regions, transform_rows
from .stacked import MISS

SIZE = 0.02  # share by which the surfaces of islands of one size may differ: one per cent of density
_FIT = 0.01  # of a shape's size: corners of two shapes that are farther apart are not the same corner


def is_twin(shared: Floats, one: Floats, other: Floats) -> NDArray[np.bool_]:
    """Whether islands of areas `one` and `other` (k,) that share area `shared` (k,) cover the same texels.

    Parameters
    ----------
    shared, one, other : (k,) areas

    Returns
    -------
    (k,) bool
    """
    smaller, larger = np.minimum(one, other), np.maximum(one, other)
    return np.asarray((shared > (1 - MISS) * smaller) & (smaller > (1 - MISS) * larger))


def grouped(pairs: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Group number (count,) of islands that pairs (k, 2) tie together, -1 for those in no pair.

    Parameters
    ----------
    pairs : (k, 2) numbers of islands; count : how many islands there are

    Returns
    -------
    (count,) group, -1 for none
    """
    label = components(count, *np.asarray(pairs).reshape(-1, 2).T)
    label[np.setdiff1d(np.arange(count), pairs)] = -1
    return label


def leaders(regions: NDArray[np.object_], group: NDArray[np.int64], weight: Floats) -> NDArray[np.int64]:
    """For each island (n,) the one that it follows; itself where it leads, is in no group (-1), or lies elsewhere.

    Parameters
    ----------
    regions : (n,) as they lie now
    weight : (n,) the heaviest of a group leads, such as the one with the largest surface
    """
    lead = np.arange(len(group))
    members = np.flatnonzero((group >= 0) & ~shapely.is_empty(regions))
    if not len(members):
        return lead
    order = members[np.lexsort((members, -weight[members], group[members]))]
    first = np.r_[True, group[order][1:] != group[order][:-1]]
    head = order[first][np.cumsum(first) - 1]
    area = shapely.area(regions)
    shared = shapely.area(shapely.intersection(regions[order], regions[head]))
    on_it = is_twin(shared, area[order], area[head])
    lead[order[on_it]] = head[on_it]
    return lead


def follow(before: Floats, after: Floats, lead: NDArray[np.int64]) -> Floats:
    """A layout (n, 5) with every follower moved as its leader was.

    Parameters
    ----------
    before, after : (n, 5) similarities; lead : (n,) the island that each follows, itself for leaders

    Returns
    -------
    (n, 5) similarities
    """
    out = after.copy()
    mine = np.flatnonzero(lead != np.arange(len(lead)))
    head = lead[mine]
    out[mine] = composed(after[head], composed(inverse(before[head]), before[mine]))
    return to_the_bit(out, lead)


def to_the_bit(rows: Floats, lead: NDArray[np.int64]) -> Floats:
    """Similarities (n, 5) of which those that are their leader's but for rounding are their leader's: where the UVs that came are equal, those that leave are."""
    out = rows.copy()
    away = rows - rows[lead]
    away[:, 0] = (away[:, 0] + np.pi) % (2 * np.pi) - np.pi
    same = (np.abs(away) < 1e-9).all(axis=1)
    out[same] = rows[lead[same]]
    return out


def alike(
    regions: NDArray[np.object_], mirrored: bool = False, size: Floats | None = None, points: Sequence[Floats] | None = None
) -> tuple[NDArray[np.int64], Floats]:
    """Islands of one shape, whatever their place, turn and size: laid on each other they are twins (see `is_twin`).

    Parameters
    ----------
    regions : (n,) as they lie now
    mirrored : whether mirror images count as one shape
    size : (n,) world area; only islands of one size are alike then, so that those that share their texels have one density
    points : (k, 2) UV rows of each island as they lie now; where outlines fit in several turns these decide

    Returns
    -------
    (n,) the first island of the same shape (itself where there is none before it), and the similarity (n, 5) that lays each on that one

    Notes
    -----
    Shapes are brought to area 1 about their centroids and compared only where compactness, holes and the second moments agree. The turn is
    tried from every far corner of one to the farthest of the other, so symmetric shapes are found in any of their turns.
    """
    n = len(regions)
    first, onto = np.arange(n), np.tile([0.0, 1.0, 1.0, 0.0, 0.0], (n, 1))
    area = shapely.area(regions)
    known = np.flatnonzero(area > 1e-14).tolist()
    shapes = {i: _Shape.of(regions[i], None if points is None else points[i]) for i in known}
    heads: list[int] = []
    for k in shapes:
        for h in heads:
            if size is not None and not (1 - SIZE) * size[h] <= size[k] <= size[h] / (1 - SIZE):
                continue
            if np.abs(shapes[k].marks - shapes[h].marks).max() > 0.1:
                continue
            row = _laid_on(shapes[k], shapes[h], mirrored)
            if row is None:
                continue
            first[k], onto[k] = h, row
            break
        else:
            heads.append(k)
    return first, onto


def stacked(
    pieces: Sequence[MeshIslands], rows: Floats, some: NDArray[np.int64], mirrored: bool = False, any_size: bool = False
) -> tuple[Floats, NDArray[np.int64]]:
    """A layout (n, 5) with each of some islands (k,) laid on the first of them that has its shape.

    Parameters
    ----------
    mirrored, any_size : whether mirror images, and islands whose surfaces differ in size, are stacked too

    Returns
    -------
    (n, 5) similarities, and (n,) the island that each was laid on, itself for all others
    """
    parts = np.split(rows, np.cumsum([p.islands.count for p in pieces])[:-1])
    points = [xy for p, r in zip(pieces, parts, strict=True) for xy in corners(p, r)]
    regions = transform_regions(np.concatenate([p.outlines.regions for p in pieces])[some], rows[some])
    size = None if any_size else np.concatenate([p.world_area for p in pieces])[some]
    first, onto = alike(regions, mirrored, size, [points[i] for i in some])
    out, lead = rows.copy(), np.arange(len(rows))
    follows = first != np.arange(len(some))
    out[some[follows]] = composed(onto[follows], rows[some[follows]])
    lead[some] = some[first]
    return to_the_bit(out, lead), lead


def corners(piece: MeshIslands, row: Floats) -> list[Floats]:
    """The different UVs (k, 2) of each island of a mesh under a layout (n, 5): see `alike`."""
    uv = transform_rows(piece.uvs, piece.islands.of_row, row)
    order = np.argsort(piece.islands.of_row, kind="stable")
    ends = np.searchsorted(piece.islands.of_row[order], np.arange(piece.islands.count + 1))
    return [np.unique(uv[order[a:b]], axis=0) for a, b in itertools.pairwise(ends)]


@dataclass(frozen=True)
class _Shape:
    """A region brought to area 1 about its centroid. `middle`, `size`: where it lay, and the root of its area; `rows` (k, 2): its UV rows, or its corners, brought
    there too; `marks`: what is the same for all of its shape."""

    region: shapely.Geometry
    middle: Floats
    size: float
    rows: Floats
    marks: Floats

    @classmethod
    def of(cls, region: shapely.Geometry, points: Floats | None) -> _Shape:
        size = float(np.sqrt(shapely.area(region)))
        middle = shapely.get_coordinates(shapely.centroid(region))[0]
        normal = shapely.transform(region, lambda xy: (xy - middle) / size)
        rows = shapely.get_coordinates(normal) if points is None else (np.asarray(points) - middle) / size
        marks = np.array([shapely.length(normal), shapely.minimum_bounding_radius(normal), _moments(normal)])
        return cls(normal, middle, size, rows, marks)


def _moments(region: shapely.Geometry) -> float:
    """How elongated a shape is: the ratio of its outline's second moments."""
    xy = shapely.get_coordinates(region)
    eigen = np.linalg.eigvalsh(np.cov(xy.T)) if len(xy) > 2 else np.array([0.0, 1.0])
    return float(np.sqrt(max(eigen[0], 0.0) / max(eigen[1], 1e-30)))


def _laid_on(one: _Shape, other: _Shape, mirrored: bool) -> Floats | None:
    """The similarity (5,) that lays a shape on another; None where they are not alike."""
    best: tuple[float, Floats] | None = None
    tree = None
    for angle, mirror in _turns(one.region, other.region, mirrored):
        row = np.array([[angle, mirror, 1.0, 0.0, 0.0]])
        if not _covers_the_same(one, other, row):
            continue
        from scipy.spatial import cKDTree  # loads much, and few sheets need it

        tree = cKDTree(other.rows) if tree is None else tree
        away, near = tree.query(applied(row, one.rows))
        if len(one.rows) == len(other.rows) and away.max() < _FIT and len(np.unique(near)) == len(near):
            row = nearest(one.rows, other.rows[near], mirror)  # corner by corner, so that nothing of the turn's rounding is left
            away = np.linalg.norm(applied(row, one.rows) - other.rows[near], axis=1)
        miss = float(away.max())
        if best is None or miss < best[0]:
            best = miss, row
        if miss < 1e-6:
            break
    if best is None:
        return None
    angle, mirror, scale, u, v = best[1][0]
    whole = np.array([[angle, mirror, scale * other.size / one.size, 0.0, 0.0]])
    whole[0, 3:] = other.middle + other.size * np.array([u, v]) - applied(whole, one.middle[None])[0]
    return whole[0]


def _covers_the_same(one: _Shape, other: _Shape, row: Floats) -> bool:
    turned = shapely.transform(one.region, lambda xy: applied(row, xy))
    shared = shapely.area(shapely.intersection(turned, other.region))
    return bool(is_twin(np.array([shared]), np.ones(1), np.ones(1))[0])


def _turns(one: shapely.Geometry, other: shapely.Geometry, mirrored: bool) -> Iterator[tuple[float, float]]:
    """Angles and mirrors that may lay a centred shape of area 1 on another: they bring a far corner of it to the farthest of the other."""
    a, b = shapely.get_coordinates(one), shapely.get_coordinates(other)
    far_b = b[int(np.argmax(np.hypot(*b.T)))]
    reach = float(np.hypot(*far_b))
    for mirror in (1.0, -1.0) if mirrored else (1.0,):
        m = a * np.array([mirror, 1.0])
        near = m[np.abs(np.hypot(*m.T) - reach) < 0.05 * reach][:64]
        angles = (np.arctan2(far_b[1], far_b[0]) - np.arctan2(near[:, 1], near[:, 0])) % (2 * np.pi)
        _, first = np.unique(np.round(angles, 6), return_index=True)
        for angle in angles[first]:
            yield float(angle), mirror
