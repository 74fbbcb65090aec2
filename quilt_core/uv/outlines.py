"""The region that each island covers, as polygons with holes.

An island whose triangles do not overlap has a simple outline: the edges that only one of its triangles
has. Where that outline crosses or touches itself, the union of the triangles is computed instead, which is
slower and always right.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats, Ints
from .areas import triangle_areas
from .islands import is_zero_area, weld


@dataclass(frozen=True)
class Outlines:
    """(n,) polygons or multipolygons, and the (n,) area by which each island overlaps itself."""

    regions: NDArray[np.object_]
    self_overlap: Floats


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _trace(start, end, nodes):  # type: ignore[no-untyped-def]
    """Directed edges into rings: (node of each step, offsets of the rings), and which edges meet a fork.

    Every node of a simple outline has one edge out and one in. The ring of a fork is left unfinished.
    """
    leaving = np.full(nodes, -1, np.int64)
    fork = np.zeros(nodes, np.bool_)
    entered = np.zeros(nodes, np.int64)
    for e in range(start.shape[0]):
        if leaving[start[e]] >= 0:
            fork[start[e]] = True
        leaving[start[e]] = e
        entered[end[e]] += 1
    for v in range(nodes):
        if entered[v] > 1 or (entered[v] == 1) != (leaving[v] >= 0):
            fork[v] = True
    done = np.zeros(start.shape[0], np.bool_)
    steps = np.empty(start.shape[0], np.int64)
    offsets = np.empty(start.shape[0] + 1, np.int64)
    n = rings = 0
    for e in range(start.shape[0]):
        if done[e]:
            continue
        offsets[rings] = n
        rings += 1
        at = e
        while at >= 0 and not done[at]:
            done[at] = True
            steps[n] = start[at]
            n += 1
            if fork[end[at]]:
                break
            at = leaving[end[at]]
    offsets[rings] = n
    return steps[:n], offsets[: rings + 1], fork


def _boundary(nodes: NDArray[np.int64], orientation: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Directed edges left over when shared ones cancel: (start, end, nodes of edges that are left twice)."""
    turned = np.where(orientation[:, None] < 0, nodes[:, ::-1], nodes)
    a, b = turned.ravel(), np.roll(turned, -1, axis=1).ravel()
    real = a != b
    a, b = a[real], b[real]
    low, high = np.minimum(a, b), np.maximum(a, b)
    size = int(high.max()) + 1 if len(high) else 1
    order = np.argsort(low * size + high, kind="stable")
    key = (low * size + high)[order]
    first = np.flatnonzero(np.r_[True, key[1:] != key[:-1]]) if len(key) else np.zeros(0, np.int64)
    net = np.add.reduceat(np.where(a < b, 1, -1)[order], first) if len(key) else np.zeros(0, np.int64)
    low, high = low[order][first], high[order][first]
    keep = net != 0
    start, end = np.where(net > 0, low, high)[keep], np.where(net > 0, high, low)[keep]
    return start, end, low[np.abs(net) > 1]


def trace_outlines(uvs: Floats, triangles: Ints, of_triangle: Ints, count: int) -> Outlines:
    """The region of every island.

    Parameters
    ----------
    uvs : (W, 2); triangles : (T, 3) rows of `uvs`; of_triangle : (T,) island or -1; count : n

    Returns
    -------
    Outlines; an island that covers nothing has an empty polygon
    """
    keep = of_triangle >= 0
    tri, of = triangles[keep], of_triangle[keep].astype(np.int64)
    areas = triangle_areas(uvs, tri)
    flat = is_zero_area(uvs, tri, areas)
    total = np.bincount(of, np.abs(areas), count)
    majority = np.where(np.bincount(of, areas, count) < 0, -1, 1)
    # A flat triangle has no orientation of its own; its neighbours' makes its edges cancel.
    orientation = np.where(flat, majority[of], np.where(areas < 0, -1, 1))
    corner_uv = uvs[tri].reshape(-1, 2)
    node, first = weld(np.repeat(of, 3)[:, None].astype(float), corner_uv)
    nodes, node_uv, node_island = len(first), corner_uv[first], np.repeat(of, 3)[first]
    start, end, twice = _boundary(node.reshape(-1, 3), orientation)
    steps, offsets, fork = _trace(start, end, nodes)
    simple = np.ones(count, bool)
    simple[node_island[twice]] = False
    simple[node_island[np.flatnonzero(fork)]] = False
    simple &= np.bincount(of[~flat], minlength=count) > 0
    regions = np.full(count, shapely.Polygon(), object)
    _assemble(regions, simple, node_uv, node_island, steps, offsets)
    broken = np.flatnonzero(~simple & (np.bincount(of[~flat], minlength=count) > 0))
    _unite(regions, broken, uvs, tri[~flat], of[~flat])
    overlap = total - shapely.area(regions)
    overlap[overlap < 1e-7 * total] = 0.0
    return Outlines(regions, overlap)


def _assemble(
    regions: NDArray[np.object_],
    simple: NDArray[np.bool_],
    xy: Floats,
    island: NDArray[np.int64],
    steps: NDArray[np.int64],
    offsets: NDArray[np.int64],
) -> None:
    """Rings into polygons, for islands with one outer ring; the others are marked as not simple."""
    sizes = np.diff(offsets)
    if not len(sizes):
        simple[:] = False
        return
    ring_of = np.repeat(np.arange(len(sizes)), sizes)
    following = np.arange(len(steps)) + 1
    following[offsets[1:] - 1] = offsets[:-1]
    p, q = xy[steps], xy[steps[following]]
    area = 0.5 * np.bincount(ring_of, p[:, 0] * q[:, 1] - q[:, 0] * p[:, 1], len(sizes))
    owner = island[steps[offsets[:-1]]]
    simple[owner[sizes < 3]] = False
    simple &= np.bincount(owner[area > 0], minlength=len(simple)) == 1
    use = simple[owner]
    order = np.lexsort((-area, owner))
    order = order[use[order]]
    if not len(order):
        return
    within = np.concatenate([np.arange(offsets[r], offsets[r + 1]) for r in order])
    rings = shapely.linearrings(xy[steps[within]], indices=np.repeat(np.arange(len(order)), sizes[order]))
    owners, index = np.unique(owner[order], return_inverse=True)
    polygons = shapely.polygons(rings, indices=index)
    good = shapely.is_valid(polygons)
    regions[owners[good]] = polygons[good]
    simple[owners[~good]] = False


def _unite(regions: NDArray[np.object_], which: NDArray[np.int64], uvs: Floats, tri: Ints, of: NDArray[np.int64]) -> None:
    order = np.argsort(of, kind="stable")
    bounds = np.searchsorted(of[order], np.arange(len(regions) + 1))
    for i in which:
        mine = order[bounds[i] : bounds[i + 1]]
        pieces = shapely.polygons(uvs[tri[mine]])
        united = shapely.union_all(pieces)
        parts = [g for g in shapely.get_parts(united) if g.geom_type == "Polygon"]
        regions[i] = parts[0] if len(parts) == 1 else shapely.MultiPolygon(parts)
