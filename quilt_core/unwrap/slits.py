"""Slits in charts: cuts that part nothing, from border to border or from a corner to a border; and those that gain nothing, sewn again."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from ..model.scene import Floats
from .parts import part_of
from .topology import Borders, Cut, Mask, Numbers, Surface, after, borders, cut, sides_apart

_TOUCHING = 0.02  # of its length: so near the two sides of a slit lie when it gains nothing


def between_borders(s: Surface, faces: Numbers, seam: Mask, may: Mask, cost: Floats) -> bool:
    """Cut a chart of several borders from its longest one to the nearest other one, along edges that may be seams; whether that was done."""
    part, h, c, b = _chart(s, faces, seam)
    if c.charts != 1 or len(b.chart) < 2:
        return False
    lengths = np.add.reduceat(part.length[b.edges], b.first[:-1])
    row = c.rows.reshape(-1)
    loops = [np.unique(row[b.edges[b.first[k] : b.first[k + 1]]]) for k in range(len(lengths))]
    outer = int(np.argmax(lengths))
    other = np.unique(np.concatenate([loop for k, loop in enumerate(loops) if k != outer]))
    return _cut_ways(s, part, h, c, seam, may, cost, loops[outer], other, True)


def to_corners(s: Surface, faces: Numbers, seam: Mask, may: Mask, cost: Floats) -> bool:
    """Cut a chart from each corner that it hides to its nearest border (to another corner where it is closed); whether that was done."""
    part, h, c, b = _chart(s, faces, seam)
    if c.charts != 1 or part.corner is None:
        return False
    border = np.unique(c.rows.reshape(-1)[b.edges])
    hidden = np.setdiff1d(np.flatnonzero(part.corner[c.point]), border)
    if not len(border):
        border, hidden = hidden[:1], hidden[1:]
    return len(hidden) > 0 and _cut_ways(s, part, h, c, seam, may, cost, border, hidden, False)


def sewn_where_they_touch(s: Surface, faces: Numbers, uv: Floats, seam: Mask, must: Mask) -> bool:
    """Sew slits of a chart whose two sides lie on each other; whether there were any. UVs (k, 3, 2) of its faces at the scale of the surface."""
    part, h = part_of(s, faces)
    own = np.flatnonzero(seam[h] & ~must[h] & (part.twin >= 0))
    touching = h[own[sides_apart(part, uv)[own] < _TOUCHING * part.length[own]]]
    seam[touching] = False
    return len(touching) > 0


def _chart(s: Surface, faces: Numbers, seam: Mask) -> tuple[Surface, Numbers, Cut, Borders]:
    part, h = part_of(s, faces)
    c = cut(part, seam[h])
    return part, h, c, borders(part, c, seam[h])


def _cut_ways(
    s: Surface, part: Surface, h: Numbers, c: Cut, seam: Mask, may: Mask, cost: Floats, begin: Numbers, goals: Numbers, nearest: bool
) -> bool:
    """Make the cheapest ways from rows to `goals` seams, or only that to the `nearest` goal; whether there were any."""
    use = np.flatnonzero(may[h] & ~seam[h] & (part.twin >= 0))
    way = cheapest_ways(c, use, cost[h[use]], begin, goals, nearest)
    seam[h[way]] = True
    seam[s.twin[h[way]]] = True
    return len(way) > 0


def cheapest_ways(c: Cut, use: Numbers, cost: Floats, begin: Numbers, goals: Numbers, nearest: bool = False) -> Numbers:
    """The half-edges, both of each edge, of the cheapest ways from rows of a cut surface to others, or only of that to the `nearest` one.

    Parameters
    ----------
    use, cost : (k,) half-edges that may be gone along, and what that costs
    begin, goals : rows
    """
    row = c.rows.reshape(-1)
    ends = row[use], row[after(use)]
    graph = csr_matrix((np.maximum(cost, 1e-12), ends), shape=(c.count, c.count))
    graph = graph.maximum(graph.T)
    far, before, _ = dijkstra(graph, directed=False, indices=begin, min_only=True, return_predecessors=True)
    goals = goals[np.isfinite(far[goals])]
    if nearest and len(goals):
        goals = goals[[int(np.argmin(far[goals]))]]
    steps = set()
    for goal in goals.tolist():
        at = goal
        while before[at] >= 0 and (at, int(before[at])) not in steps:
            steps.add((at, int(before[at])))
            at = int(before[at])
    both = steps | {(y, x) for x, y in steps}
    return use[[(x, y) in both for x, y in zip(ends[0].tolist(), ends[1].tolist(), strict=True)]]
