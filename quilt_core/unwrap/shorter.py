"""Seams between charts made shorter and cheaper: along least cuts near to where they are, then cell by cell.

Source, from memory: least cuts between regions in a band about their border (fuzzy cuts, Katz and Tal 2003).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.sparse import coo_matrix
from scipy.spatial import cKDTree

from ..model.scene import Floats
from .parting import source_side
from .parts import part_of, seam_cost
from .threads import Stop
from .topology import Mask, Numbers, Surface, borders, cut, ranges
from .trial import Wish, tried

_SMALL = 48  # nodes of a network up to which a table is quicker than a sparse matrix
_BAND = 0.25  # of the root of a chart's area: how far a seam may move
_TRIES = 6  # of taking back what no longer lies flat
_PASSES = 30  # of moving single cells
_SCALE = 1e6  # costs become whole numbers


@dataclass(frozen=True)
class Cells:
    """Cells (n,): polygons, that go from one chart to another as a whole.

    a, b : (k,) the two cells of every half-edge between such
    cost : (k,) of a seam there
    still : (n,) cells that stay where they are
    at, area : (n, 3), (n,) their middles and sizes
    """

    a: Numbers
    b: Numbers
    cost: Floats
    still: Mask
    at: Floats
    area: Floats


def smoothed(s: Surface, seam: Mask, wish: Wish, stop: Stop, finely: bool = True) -> Mask:
    """Seams between charts made shorter and cheaper: each goes along the least cut in a band about itself; then, where they are looked at `finely`, cells
    at a border go over to the chart that they share more of it with. Charts that would no longer lie flat take their cells back."""
    seam = _shortened(s, seam, wish, stop, lambda cells, label: along_least_cuts(cells, label, _BAND))
    return _shortened(s, seam, wish, stop, _cell_by_cell) if finely else seam


def _cell_by_cell(cells: Cells, label: Numbers) -> Numbers:
    for _ in range(_PASSES):
        before = label
        for parity in (0, 1):
            label = _moved(label, cells.a, cells.b, cells.cost, cells.still, parity)
        if np.array_equal(before, label):
            break
    return label


def along_least_cuts(cells: Cells, label: Numbers, band: float) -> Numbers:
    """Labels (n,) where the border of every two charts, the dearest first, goes along the least cut in a band about it."""
    top, label = int(label.max()) + 1, label.copy()
    x, y = np.minimum(label[cells.a], label[cells.b]), np.maximum(label[cells.a], label[cells.b])
    on = np.flatnonzero(x < y)
    pairs, slot = np.unique(x[on] * top + y[on], return_inverse=True)
    order = np.argsort(-np.bincount(slot, cells.cost[on]), kind="stable")
    area = np.bincount(label, cells.area, top)
    by_cell = np.argsort(cells.a, kind="stable")
    first = np.searchsorted(cells.a[by_cell], np.arange(len(label) + 1))
    # What is looked at for a pair goes by its cells, not by all: a fan of thousands of charts has thousands of pairs.
    of_chart = np.split(np.argsort(label, kind="stable"), np.cumsum(np.bincount(label, minlength=top))[:-1])
    number = np.full(len(label), -1)
    for p in pairs[order].tolist():
        one, two = divmod(p, top)
        both = np.sort(np.concatenate([of_chart[one], of_chart[two]]))
        h = by_cell[ranges(first[both], first[both + 1])]
        h = h[(label[cells.b[h]] == one) | (label[cells.b[h]] == two)]
        border = np.unique(cells.a[h[label[cells.a[h]] != label[cells.b[h]]]])
        if len(border):
            away = cKDTree(cells.at[border]).query(cells.at[both])[0]
            moved = _least_cut(cells, number, label[both], both, h, away, band * float(np.sqrt(min(area[one], area[two]))), (one, two))
            label[both] = moved
            of_chart[one], of_chart[two] = both[moved == one], both[moved == two]
    return label


def _least_cut(
    cells: Cells, number: Numbers, old: Numbers, both: Numbers, h: Numbers, away: Floats, width: float, pair: tuple[int, int]
) -> Numbers:
    """Labels of the cells `both` (m,) of two charts, `old` (m,) before, after the least cut between what of them is farther than `width` from their border.
    `number` (n,) is room to write into."""
    held = (away >= width) | cells.still[both]
    for one in pair:
        if not (held & (old == one)).any():
            # The farther half of a small chart stays what it is.
            own = np.flatnonzero(old == one)
            held[own[away[own] >= np.median(away[own])]] = True
    if held.all():
        return old
    node = np.where(held, np.where(old == pair[0], 0, 1), 2 + np.cumsum(~held) - 1)
    number[both] = node
    i, j = number[cells.a[h]], number[cells.b[h]]
    use = (i != j) & ((i > 1) | (j > 1))
    count = int((~held).sum()) + 2
    whole = np.maximum(1, np.rint(cells.cost[h][use] / max(float(cells.cost[h].sum()), 1e-300) * _SCALE)).astype(np.int32)
    if count <= _SMALL:
        source = small_source_side(i[use], j[use], whole, count)
    else:
        source = source_side(coo_matrix((whole, (i[use], j[use])), shape=(count, count)).tocsr(), 0, 1)
    return np.where(held, old, np.where(source[node], pair[0], pair[1]))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def small_source_side(start, end, weight, count):  # type: ignore[no-untyped-def]
    """See `parting.source_side`, from node 0 to node 1, of a network of few nodes: shortest augmenting paths (Edmonds and Karp 1972, from memory) on a table.

    The nodes that are reached in the end are those of the least cut nearest to the source, whatever flow was found: they are the same ones.
    """
    left = np.zeros((count, count), np.int64)
    for k in range(len(start)):
        left[start[k], end[k]] += weight[k]
    came = np.empty(count, np.int64)
    queue = np.empty(count, np.int64)
    while True:
        came[:] = -1
        came[0] = 0
        queue[0] = 0
        head, tail = 0, 1
        while head < tail and came[1] < 0:
            a = queue[head]
            head += 1
            for b in range(count):
                if came[b] < 0 and left[a, b] > 0:
                    came[b] = a
                    queue[tail] = b
                    tail += 1
        if came[1] < 0:
            return came >= 0
        most = np.int64(1) << 62
        b = 1
        while b != 0:
            most = min(most, left[came[b], b])
            b = came[b]
        b = 1
        while b != 0:
            left[came[b], b] -= most
            left[b, came[b]] += most
            b = came[b]


def cells_of(s: Surface, cell: Numbers, fixed: Mask) -> tuple[Cells, Numbers, Numbers]:
    """The cells of a surface, the number (F,) of every face's, and the half-edges (k,) between cells; cells at `fixed` (3 F,) half-edges stay where they are."""
    cells, number = np.unique(cell, return_inverse=True)
    n = len(cells)
    h = np.flatnonzero(s.twin >= 0)
    h = h[number[h // 3] != number[s.twin[h] // 3]]
    a, b = number[h // 3], number[s.twin[h] // 3]
    still = np.zeros(n, bool)
    still[a[fixed[h]]] = True
    area = np.asarray(np.bincount(number, s.area, n), np.float64)
    middle = s.points[s.faces].mean(axis=1)
    at = np.stack([np.bincount(number, s.area * middle[:, k], n) for k in range(3)], axis=1) / np.maximum(area, 1e-300)[:, None]
    return Cells(a, b, seam_cost(s)[h], still, at, area), number, h


def _shortened(s: Surface, seam: Mask, wish: Wish, stop: Stop, how: Callable[[Cells, Numbers], Numbers]) -> Mask:
    """Seams after cells went to other charts, of which those that no longer lie flat take theirs back."""
    c = cut(s, seam)
    # Slits and seams that must be stay where they are.
    inner = (s.twin >= 0) & (c.chart[np.arange(len(s.twin)) // 3] == c.chart[np.maximum(s.twin, 0) // 3])
    cells, cell, h = cells_of(s, wish.cell, (seam & inner) | wish.must)
    fixed = ((seam & inner) | wish.must)[h]
    a, b = cells.a, cells.b
    start = np.zeros(len(cells.area), np.int64)
    start[cell] = c.chart
    loops = borders(s, c, seam).loops
    label = how(cells, start)
    worse = np.zeros(0, np.int64)
    trial, doubtful = seam, None
    for _ in range(_TRIES):
        before = label.copy()
        back = (label != start) & (np.isin(label, worse) | np.isin(start, worse))
        label[back] = start[back]
        touched = np.unique(np.concatenate([label[label != start], start[label != start]]))
        if not len(touched):
            return seam
        trial = seam.copy()
        trial[h[~fixed]] = ((label[a] != label[b]) | (seam[h] & (start[a] == start[b])))[~fixed]
        # What was found good, and has not changed since, is good.
        if doubtful is not None:
            touched = np.intersect1d(touched, np.unique(np.concatenate([label[back], before[back], worse])))
        doubtful = np.flatnonzero(np.isin(label[cell], touched))
        if not len(doubtful):
            return trial
        part, half = part_of(s, doubtful)
        pc = cut(part, trial[half])
        of = np.full(pc.charts, -1)
        of[pc.chart] = label[cell[doubtful]]
        # A chart that fell apart, or got or lost a border, is as bad as one that does not lie flat, and is found sooner.
        changed = (np.bincount(of, minlength=c.charts)[of] > 1) | (borders(part, pc, trial[half]).loops != loops[of])
        worse = np.unique(of[changed if changed.any() else ~tried(part, trial[half], 10, stop, wish)[3].good])
        if not len(worse):
            return trial
    return seam


def _moved(label: Numbers, a: Numbers, b: Numbers, cost: Floats, still: Mask, parity: int) -> Numbers:
    """Labels (n,) after cells of one parity went over where that makes seams cheaper; `a`, `b` are the cells of every half-edge between two."""
    n, top = len(label), int(label.max()) + 1
    near = np.flatnonzero(label[a] != label[b])
    border = np.zeros(n, bool)
    border[a[near]] = True
    use = np.flatnonzero(border[a])
    key, slot = np.unique(a[use] * top + label[b[use]], return_inverse=True)
    shared = np.bincount(slot, cost[use])
    mine, other = key // top, key % top
    own = np.zeros(n)
    same = other == label[mine]
    own[mine[same]] = shared[same]
    gain = np.where(same, -np.inf, shared - own[mine])
    best = np.full(n, 1e-12)
    np.maximum.at(best, mine, gain)
    # Neighbours never go at once: of two that would, the one of lesser gain waits.
    go = np.flatnonzero((gain >= best[mine]) & (gain > 1e-12) & ~still[mine] & (mine % 2 == parity))
    want = np.zeros(n)
    want[mine[go]] = gain[go]
    rival = np.zeros(n)
    np.maximum.at(rival, a, want[b])
    out = label.copy()
    sure = go[want[mine[go]] > rival[mine[go]]]
    out[mine[sure]] = other[sure]
    return out
