"""Charts united for as long as they still lie flat, each union tried by really flattening it; and seams between charts made shorter."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..model.scene import Floats
from .parts import defects, part_of, seam_cost
from .regions import covariances
from .topology import Cut, Mask, Numbers, Surface, cut
from .trial import Stop, Tell, Wish, tried

_SHARED = 0.1  # of the smaller perimeter: below, a union gains little
_HULL = 0.5  # area over hull below which a union would be hard to pack
_DEFECT = 0.3  # radians: about such a point a piece does not lie flat
_PASSES = 30  # of making seams shorter


def joined(s: Surface, seam: Mask, wish: Wish, stop: Stop, cone: float, tell: Tell, crumb: float = np.inf) -> Mask:
    """Charts united for as long as they still lie flat, those that share the costliest seams first; each union is tried by flattening it.

    Two charts that share several runs of seam (the halves of a tube) are tried along all of them first, then along the costliest alone.
    Only charts smaller than `crumb` of the area look for another.
    """
    seam, cost, stops = seam.copy(), seam_cost(s), run_ends(s)
    failed: dict[tuple[int, int], int] = {}
    names = np.full(len(s.faces), -1)
    fresh = len(s.faces)
    for turn in range(60):
        c = cut(s, seam)
        # A chart keeps its name while nothing joins it, so that a union that failed is not tried again.
        first = np.full(c.charts, -1)
        first[c.chart[::-1]] = np.arange(len(s.faces))[::-1]
        if turn == 0:
            names = first[c.chart]
        pairs = _unions(s, c, seam, cost, wish, cone, names[first], failed, crumb)
        if not pairs:
            return seam
        tell(f"Joining charts: {c.charts} so far")
        mine = np.full(c.charts, -1)
        for k, pair in enumerate(pairs):
            mine[list(pair)] = k
        h = np.flatnonzero((s.twin >= 0) & seam & ~wish.must)
        x, y = c.chart[h // 3], c.chart[s.twin[h] // 3]
        h = h[(x != y) & (mine[x] >= 0) & (mine[x] == mine[y])]
        of = mine[c.chart[h // 3]]
        keys = [_key(int(names[first[i]]), int(names[first[j]])) for i, j in pairs]
        again = np.array([failed.get(key, 0) for key in keys]) > 0
        open_ = np.ones(len(h), bool)
        for k in np.flatnonzero(again).tolist():
            own = np.flatnonzero(of == k)
            open_[own] = _costliest_run(s, h[own], cost, stops)
        trial = seam.copy()
        trial[h[open_]] = False
        faces = np.flatnonzero(mine[c.chart] >= 0)
        part, half = part_of(s, faces)
        pc, _, _, found = tried(part, trial[half], 10, stop, wish)
        worth = found.good & (found.hull >= _HULL)
        of_chart = np.full(pc.charts, -1)
        of_chart[pc.chart] = mine[c.chart[faces]]
        for chart, k in enumerate(of_chart.tolist()):
            if worth[chart]:
                own_faces = np.isin(c.chart, pairs[k])
                names[own_faces] = fresh
                fresh += 1
                inside = (3 * np.flatnonzero(own_faces)[:, None] + np.arange(3)).reshape(-1)
                seam[inside] = trial[inside]
            else:
                runs = 1 if again[k] else straight_runs(s, h[of == k], stops)[0]
                failed[keys[k]] = 2 if runs < 2 else 1
    return seam


def _key(a: int, b: int) -> tuple[int, int]:
    return (a, b) if a < b else (b, a)


def run_ends(s: Surface) -> Mask:
    """(V,) points that no flat piece can have inside: a run of seam ends there."""
    return np.asarray(np.abs(defects(s)) > _DEFECT)


def straight_runs(s: Surface, h: Numbers, stops: Mask) -> tuple[int, Numbers]:
    """How many runs half-edges form that hang together at their points, and the run (k,) of each. Points `stops` (V,) end a run."""
    ends = np.concatenate([s.start[h], s.end[h]])
    # At such a point every half-edge has an end of its own.
    ends = np.where(stops[ends], len(s.points) + np.arange(len(ends)), ends)
    points, at = np.unique(ends, return_inverse=True)
    a, b = at.reshape(2, -1)
    count, label = connected_components(coo_matrix((np.ones(len(h)), (a, b)), shape=(len(points), len(points))), directed=False)
    return int(count), label[a].astype(np.int64)


def _costliest_run(s: Surface, h: Numbers, cost: Floats, stops: Mask) -> Mask:
    """Which (k,) of some half-edges belong to the run of most cost."""
    count, run = straight_runs(s, h, stops)
    return np.asarray(run == int(np.argmax(np.bincount(run, cost[h], count))))


def smoothed(s: Surface, seam: Mask, wish: Wish, stop: Stop) -> Mask:
    """Seams between charts made shorter and cheaper: cells at a border go over to the chart that they share more of it with. Charts that would no longer lie
    flat take their cells back."""
    cost = seam_cost(s)
    cells, cell = np.unique(wish.cell, return_inverse=True)
    c = cut(s, seam)
    label = np.zeros(len(cells), np.int64)
    label[cell] = c.chart
    h = np.flatnonzero(s.twin >= 0)
    h = h[cell[h // 3] != cell[s.twin[h] // 3]]
    a, b = cell[h // 3], cell[s.twin[h] // 3]
    # Slits and seams that must be stay where they are.
    fixed = (seam[h] & (label[a] == label[b])) | wish.must[h]
    still = np.zeros(len(cells), bool)
    still[a[fixed]] = True
    start = label.copy()
    for _ in range(_PASSES):
        before = label.copy()
        for parity in (0, 1):
            label = _moved(label, a, b, cost[h], still, parity)
        if np.array_equal(before, label):
            break
    bad: set[int] = set()
    for _ in range(6):
        changed = label != start
        if not changed.any():
            return seam
        revert = changed & (np.isin(label, list(bad)) | np.isin(start, list(bad)))
        label[revert] = start[revert]
        trial = seam.copy()
        between = label[a] != label[b]
        free = ~fixed
        trial[h[free]] = between[free] | (seam[h[free]] & (start[a[free]] == start[b[free]]))
        touched = np.unique(np.concatenate([label[label != start], start[label != start]]))
        if not len(touched):
            return seam
        faces = np.flatnonzero(np.isin(label[cell], touched))
        part, half = part_of(s, faces)
        pc, _, _, found = tried(part, trial[half], 10, stop, wish)
        of = np.full(pc.charts, -1)
        of[pc.chart] = label[cell[faces]]
        # A chart that fell apart is as bad as one that does not lie flat.
        twice = np.bincount(of, minlength=c.charts)[of] > 1
        worse = set(of[~found.good | twice].tolist())
        if not worse:
            return trial
        bad |= worse
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


def _unions(
    s: Surface, c: Cut, seam: Mask, cost: Floats, wish: Wish, cone: float, names: Numbers, failed: dict[tuple[int, int], int], crumb: float
) -> list[tuple[int, int]]:
    """Pairs of charts that are worth a try, no chart twice, the best first."""
    h = np.flatnonzero((s.twin > np.arange(len(s.twin))) & seam & ~wish.must)
    x, y = c.chart[h // 3], c.chart[s.twin[h] // 3]
    keep = x != y
    h, x, y = h[keep], np.minimum(x, y)[keep], np.maximum(x, y)[keep]
    if not len(h):
        return []
    pairs, slot = np.unique(x * c.charts + y, return_inverse=True)
    i, j = pairs // c.charts, pairs % c.charts
    shared, length = np.bincount(slot, cost[h]), np.bincount(slot, s.length[h])
    edge = np.flatnonzero((s.twin < 0) | seam)
    around = np.bincount(c.chart[edge // 3], s.length[edge], c.charts)
    least = np.minimum(around[i], around[j])
    area = np.bincount(c.chart, s.area, c.charts)
    means = np.stack([np.bincount(c.chart, s.area * s.normal[:, k], c.charts) for k in range(3)], axis=1)
    moments = np.stack(
        [np.bincount(c.chart, s.area * s.normal[:, p] * s.normal[:, q], c.charts) for p in range(3) for q in range(3)], axis=1
    )
    spread = np.linalg.eigvalsh(covariances((moments[i] + moments[j]).reshape(-1, 3, 3), means[i] + means[j], area[i] + area[j]))[:, 0]
    score = shared / np.maximum(least, 1e-300) - 0.5 * spread / 0.12
    whole = float(area.sum())
    out: list[tuple[int, int]] = []
    taken = np.zeros(c.charts, bool)
    for k in np.argsort(-score, kind="stable").tolist():
        a, b = int(i[k]), int(j[k])
        if min(area[a], area[b]) > crumb * whole:
            continue
        if taken[a] or taken[b] or length[k] < _SHARED * least[k] or spread[k] > cone:
            continue
        if failed.get(_key(int(names[a]), int(names[b])), 0) > 1:
            continue
        taken[a] = taken[b] = True
        out.append((a, b))
    return out
