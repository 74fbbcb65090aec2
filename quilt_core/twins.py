"""Twins: islands of one shape that lie exactly on each other on purpose, so that they share their texels.

A group of twins is a number for each of its islands. One island of a group leads; the others follow it wherever it goes, as long
as they lie on it when it is moved.
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from .scene import Floats
from .similarity import composed, inverse

MISS = 1e-3  # share of its area by which a twin may miss the other


def is_twin(shared: Floats, one: Floats, other: Floats) -> NDArray[np.bool_]:
    """Whether islands of areas `one` and `other` (k,) that share area `shared` (k,) cover the same texels."""
    smaller, larger = np.minimum(one, other), np.maximum(one, other)
    return np.asarray((shared > (1 - MISS) * smaller) & (smaller > (1 - MISS) * larger))


def grouped(pairs: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Group number (count,) of islands that pairs (k, 2) tie together, -1 for those in no pair."""
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    label = connected_components(graph, directed=False)[1].astype(np.int64)
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
    """A layout (n, 5) with every follower moved as its leader was."""
    out = after.copy()
    mine = np.flatnonzero(lead != np.arange(len(lead)))
    head = lead[mine]
    out[mine] = composed(after[head], composed(inverse(before[head]), before[mine]))
    return out
