"""Twins: islands of one shape that lie exactly on each other on purpose, so that they share their texels.

A group of twins is a number for each of its islands. One island of a group leads; the others follow it wherever it goes, as long
as they lie on it when it is moved.
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.components import components
from ..model.scene import Floats
from ..model.similarity import applied, composed, inverse

MISS = 1e-3  # share of its area by which a twin may miss the other


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
    return out


def alike(regions: NDArray[np.object_], mirrored: bool = False, tolerance: float = 0.01) -> tuple[NDArray[np.int64], Floats]:
    """Islands of one shape, whatever their place, turn and size.

    Parameters
    ----------
    regions : (n,) as they lie now
    mirrored : whether mirror images count as one shape
    tolerance : share of its area by which a shape may miss the other, once laid on it

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
    known = np.flatnonzero(shapely.area(regions) > 1e-14)
    if not len(known):
        return first, onto
    area, length = shapely.area(regions[known]), shapely.length(regions[known])
    middle = shapely.get_coordinates(shapely.centroid(regions[known]))
    size = np.sqrt(area)
    normal = np.array(
        [shapely.transform(r, lambda xy, m=m, k=k: (xy - m) / k) for r, m, k in zip(regions[known], middle, size, strict=True)]
    )
    marks = np.column_stack([length / size, shapely.minimum_bounding_radius(normal), _moments(normal)])
    heads: list[int] = []
    for k in sorted(range(len(known)), key=lambda i: int(known[i])):
        for h in heads:
            if np.abs(marks[k] - marks[h]).max() > np.sqrt(tolerance):
                continue
            turn = _turn_onto(normal[k], normal[h], mirrored, tolerance)
            if turn is None:
                continue
            angle, mirror = turn
            scale = size[h] / size[k]
            row = np.array([[angle, mirror, scale, 0.0, 0.0]])
            row[0, 3:] = middle[h] - applied(row, middle[k : k + 1])[0]
            first[known[k]], onto[known[k]] = known[h], row[0]
            break
        else:
            heads.append(k)
    return first, onto


def _moments(regions: NDArray[np.object_]) -> Floats:
    """How elongated each shape is: the ratio (n, 1) of its outline's second moments."""
    out = np.empty((len(regions), 1))
    for i, r in enumerate(regions):
        xy = shapely.get_coordinates(r)
        eigen = np.linalg.eigvalsh(np.cov(xy.T)) if len(xy) > 2 else np.array([0.0, 1.0])
        out[i, 0] = np.sqrt(max(eigen[0], 0.0) / max(eigen[1], 1e-30))
    return out


def _turn_onto(one: shapely.Geometry, other: shapely.Geometry, mirrored: bool, tolerance: float) -> tuple[float, float] | None:
    """Angle and mirror that lay a centred shape of area 1 on another; None where they are not alike."""
    a, b = shapely.get_coordinates(one), shapely.get_coordinates(other)
    far_b = b[int(np.argmax(np.hypot(*b.T)))]
    reach = float(np.hypot(*far_b))
    for mirror in (1.0, -1.0) if mirrored else (1.0,):
        m = a * np.array([mirror, 1.0])
        radius = np.hypot(*m.T)
        near = m[np.abs(radius - reach) < 0.05 * reach][:64]
        angles = np.unique(np.round((np.arctan2(far_b[1], far_b[0]) - np.arctan2(near[:, 1], near[:, 0])) % (2 * np.pi), 6))
        for angle in angles:
            c, s = np.cos(angle), np.sin(angle)
            turned = shapely.transform(
                one, lambda xy, c=c, s=s, f=mirror: np.column_stack([c * f * xy[:, 0] - s * xy[:, 1], s * f * xy[:, 0] + c * xy[:, 1]])
            )
            if float(shapely.area(shapely.symmetric_difference(turned, other))) <= 2 * tolerance:
                return float(angle), mirror
    return None
