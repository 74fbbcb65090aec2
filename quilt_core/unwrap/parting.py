"""Islands that overlap themselves, parted along the cheapest cut between the sheets that lie over each other."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import shapely
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import breadth_first_order, maximum_flow

from ..model.scene import Floats
from ..uv.areas import signed_areas
from .parts import allowed_edges, part_of, seam_cost
from .skin import Laying, Skin
from .topology import Mask, Numbers, Surface, cut

_SHRUNK = 1e-6  # of a triangle that is taken off, so that neighbours do not meet
_SCALE = 1e6  # of costs, which the flow takes as whole numbers
_ROUNDS = 200
_FEW = 256  # pairs that are looked at in one go, where one that overlaps is enough


def overlapping_faces(uv: Floats) -> Numbers:
    """Pairs (k, 2) of triangles (F, 3, 2) that share area in the plane, each once."""
    found = list(_overlapping(uv, 1 << 60))
    return found[0] if found else np.zeros((0, 2), np.int64)


def overlaps(uv: Floats) -> bool:
    """Whether any triangles (F, 3, 2) share area in the plane: where many do, the first few say so."""
    return any(len(pairs) for pairs in _overlapping(uv, _FEW))


def _overlapping(uv: Floats, few: int) -> Iterator[Numbers]:
    """Pairs (k, 2) of triangles (F, 3, 2) that share area, of so many that are near each other at once."""
    middle = uv.mean(axis=1, keepdims=True)
    small = middle + (uv - middle) * (1 - _SHRUNK)
    longest = np.max([((uv[:, k] - uv[:, k - 1]) ** 2).sum(axis=1) for k in range(3)], axis=0)
    real = np.flatnonzero(2 * np.abs(signed_areas(uv)) > 1e-7 * longest)
    shapes = shapely.polygons(small[real])
    tree = shapely.STRtree(shapes)
    i, j = tree.query(shapes, predicate="intersects")
    keep = i < j
    near_i, near_j = i[keep], j[keep]
    for n in range(0, len(near_i), few):
        i, j = near_i[n : n + few], near_j[n : n + few]
        # Triangles that share a corner meet there by rounding alone.
        share = shapely.area(shapely.intersection(shapes[i], shapes[j])) > 1e-9 * np.minimum(
            shapely.area(shapes[i]), shapely.area(shapes[j])
        )
        yield np.column_stack([real[i[share]], real[j[share]]])


def parted(skin: Skin, laying: Laying, islands: Numbers) -> tuple[Laying, Mask, int]:
    """Cut islands so that none of their pieces overlaps itself; nothing moves.

    Parameters
    ----------
    islands : (k,) numbers of those that are looked at

    Returns
    -------
    the laying, the faces (F,) of the islands that were cut, and how many pairs of triangles still lie double (0, unless polygons overlap themselves)
    """
    s, seam = skin.surface, laying.seam.copy()
    touched, left = np.zeros(len(s.faces), bool), 0
    for island in islands.tolist():
        faces = np.flatnonzero(laying.island == island)
        pairs = overlapping_faces(laying.uv[faces])
        if not len(pairs):
            continue
        touched[faces] = True
        left += separated(s, skin.cell, faces, pairs, seam)
    return replace(laying, seam=seam), touched, left


def separated(s: Surface, cell: Numbers, faces: Numbers, pairs: Numbers, seam: Mask) -> int:
    """Set seams (3 F,) among some faces (k,) so that no pair (n, 2) of them hangs together; returns how many pairs stay in spite of it.

    Parameters
    ----------
    cell : (F,) polygon of every face, which is never cut
    pairs : numbers among the k faces
    """
    part, h = part_of(s, faces)
    own = seam[h].copy()
    may, cost = allowed_edges(part, cell[faces]), seam_cost(part)
    stuck = np.zeros(len(pairs), bool)
    for _ in range(_ROUNDS):
        chart = cut(part, own).chart
        together = (chart[pairs[:, 0]] == chart[pairs[:, 1]]) & ~stuck
        if not together.any():
            break
        now = pairs[together]
        most = int(np.argmax(np.bincount(now.reshape(-1), minlength=len(faces))))
        mine = np.flatnonzero(chart == chart[most])
        if not _cut_between(part, own, may, cost, mine, now, most):
            stuck |= together & ((pairs == most).any(axis=1))
    seam[h] = own
    chart = cut(part, own).chart
    return int((chart[pairs[:, 0]] == chart[pairs[:, 1]]).sum())


def _cut_between(part: Surface, own: Mask, may: Mask, cost: Floats, mine: Numbers, pairs: Numbers, seed: int) -> bool:
    """Cut a chart between the sheet around a face and what that sheet lies over; whether a cut was found."""
    n = len(part.faces)
    h = np.flatnonzero((part.twin >= 0) & ~own)
    inside = np.zeros(n, bool)
    inside[mine] = True
    h = h[inside[h // 3]]
    graph = csr_matrix((np.ones(len(h), np.int8), (h // 3, part.twin[h] // 3)), shape=(n, n))
    partners = coo_matrix(
        (np.ones(2 * len(pairs), np.int8), (np.r_[pairs[:, 0], pairs[:, 1]], np.r_[pairs[:, 1], pairs[:, 0]])), shape=(n, n)
    ).tocsr()
    order = breadth_first_order(graph, seed, directed=False, return_predecessors=False)
    sheet, barred = np.zeros(n, bool), np.zeros(n, bool)
    neighbours = graph.indptr, graph.indices
    for f in order.tolist():
        near = neighbours[1][neighbours[0][f] : neighbours[0][f + 1]]
        if barred[f] or (f != seed and not sheet[near].any()):
            continue
        sheet[f] = True
        barred[partners.indices[partners.indptr[f] : partners.indptr[f + 1]]] = True
    source = np.flatnonzero(sheet & np.isin(np.arange(n), pairs))
    sink = np.flatnonzero(barred & inside & ~sheet)
    if not len(source) or not len(sink):
        return False
    between = least_cut(part, h, may, cost, source, sink)
    own[between] = own[part.twin[between]] = True
    return bool(len(between))


def least_cut(s: Surface, h: Numbers, may: Mask, cost: Floats, source: Numbers, sink: Numbers) -> Numbers:
    """The cheapest half-edges that part some faces from others (maximum flow, minimum cut; Ford and Fulkerson 1956, from memory).

    Parameters
    ----------
    h : (k,) half-edges across which faces hang together, both of each edge
    may, cost : (3 F,) where a seam can be, and what it costs
    source, sink : numbers of faces on either side

    Returns
    -------
    half-edges on the side of the source; none where nothing parts the two
    """
    n = len(s.faces)
    # Edges inside polygons, which may not be cut, are as dear as all others together.
    whole = np.maximum(1, np.rint(cost[h] / max(float(cost[h].sum()), 1e-300) * _SCALE)).astype(np.int64)
    dear = int(whole.sum()) + 1
    whole = np.where(may[h], whole, dear)
    most = np.iinfo(np.int32).max // 4
    rows = np.r_[h // 3, np.full(len(source), n), sink]
    columns = np.r_[s.twin[h] // 3, source, np.full(len(sink), n + 1)]
    weight = np.minimum(np.r_[whole, np.full(len(source) + len(sink), most)], most).astype(np.int32)
    network = csr_matrix((weight, (rows, columns)), shape=(n + 2, n + 2))
    reach = source_side(network, n, n + 1)
    return h[reach[h // 3] & ~reach[s.twin[h] // 3] & may[h]]


def source_side(network: csr_matrix, source: int, sink: int) -> Mask:
    """(n,) nodes on the side of the source of the least cut through a network of whole capacities."""
    left = (network - maximum_flow(network, source, sink).flow).tocsr()
    left.data = np.maximum(left.data, 0)
    left.eliminate_zeros()
    out = np.zeros(network.shape[0], bool)
    out[breadth_first_order(left, source, directed=True, return_predecessors=False)] = True
    return out
