"""Charts united for as long as they still lie flat, each union tried by really flattening it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..model.components import components
from ..model.scene import Floats
from .parts import allowed_edges, defects, part_of, seam_cost
from .regions import covariances
from .slits import between_borders, to_corners
from .threads import Stop
from .topology import Cut, Mask, Numbers, Surface, cut
from .trial import Tell, Wish, tried

_SHARED = 0.1  # of the smaller perimeter: below, a union gains little
_HULL = 0.5  # area over hull below which a union would be hard to pack
_SLITS = 2  # how often a union that does not lie flat is slit
_WEARY, _HOPE = 80, 0.045  # unions that were tried last, and the share of them that must have lain flat for more to be tried
_DEFECT = 0.3  # radians: about such a point a piece does not lie flat


def joined(
    s: Surface, seam: Mask, wish: Wish, stop: Stop, cone: float, tell: Tell, crumb: float = np.inf, image: Numbers | None = None
) -> Mask:
    """Charts united for as long as they still lie flat, those that share the costliest seams first; each union is tried by flattening it.

    Two charts that share several runs of seam (the halves of a tube) are tried along all of them first, then along the costliest alone.
    Only charts smaller than `crumb` of the area look for another; only those that mirror each other, where `image` (F,) is a face of the mirror image of
    each, or -1.
    """
    seam, cost, stops = seam.copy(), seam_cost(s), run_ends(s)
    failed: dict[tuple[int, int], int] = {}
    names = np.full(len(s.faces), -1)
    fresh = len(s.faces)
    lately: list[tuple[int, int]] = []
    for turn in range(60):
        c = cut(s, seam)
        # A chart keeps its name while nothing joins it, so that a union that failed is not tried again.
        first = np.full(c.charts, -1)
        first[c.chart[::-1]] = np.arange(len(s.faces))[::-1]
        if turn == 0:
            names = first[c.chart]
        pairs = _unions(s, c, seam, cost, wish, cone, names[first], failed, crumb, image)
        if not pairs:
            return seam
        tell(f"Joining charts: {c.charts} so far")
        mine = np.full(c.charts, -1)
        for k, pair in enumerate(pairs):
            mine[list(pair)] = k
        h = np.flatnonzero((s.twin >= 0) & seam & ~wish.must)
        x, y = c.chart[h // 3], c.chart[s.twin[h] // 3]
        h = h[(x != y) & (mine[x] >= 0) & (mine[x] == mine[y])]
        run_of = mine[c.chart[h // 3]]
        keys = [_key(int(names[first[i]]), int(names[first[j]])) for i, j in pairs]
        again = np.array([failed.get(key, 0) for key in keys]) > 0
        open_ = np.ones(len(h), bool)
        for k in np.flatnonzero(again).tolist():
            own = np.flatnonzero(run_of == k)
            open_[own] = _costliest_run(s, h[own], cost, stops)
        trial = seam.copy()
        trial[h[open_]] = False
        faces = np.flatnonzero(mine[c.chart] >= 0)
        part, half = part_of(s, faces)
        before = seam[half]
        of = mine[c.chart[faces]]
        saved = np.asarray(
            np.bincount(of, ((before & ~trial[half]).reshape(-1, 3) * cost[half].reshape(-1, 3)).sum(axis=1), len(pairs)), np.float64
        )
        worth, how = _flat_unions(
            part, trial[half], of, saved, replace(wish, must=wish.must[half], cell=wish.cell[faces]), stop, _HULL if image is None else 0.0
        )
        lately.append((len(pairs), int(worth.sum())))
        for k, pair in enumerate(pairs):
            if worth[k]:
                names[np.isin(c.chart, pair)] = fresh
                fresh += 1
                own = (3 * np.flatnonzero(of == k)[:, None] + np.arange(3)).reshape(-1)
                seam[half[own]] = how[own]
            else:
                runs = 1 if again[k] else straight_runs(s, h[run_of == k], stops)[0]
                failed[keys[k]] = 2 if runs < 2 else 1
        if image is None and _is_hopeless(lately):
            return seam
    return seam


def _is_hopeless(lately: list[tuple[int, int]]) -> bool:
    """Whether hardly any union lies flat by now, by the turns (tried, good) so far: a crumpled surface has hundreds to try, and gains nothing from them."""
    tried_, good = 0, 0
    for n, k in reversed(lately):
        tried_, good = tried_ + n, good + k
        if tried_ >= _WEARY:
            return good < _HOPE * tried_
    return False


def _flat_unions(part: Surface, seam: Mask, of: Numbers, saved: Floats, wish: Wish, stop: Stop, hull: float) -> tuple[Mask, Mask]:
    """Which unions (n,) lie flat as they are, or once they are slit for less than they save; and the seams for that.

    Parameters
    ----------
    of : (F,) union of every face of the part
    saved : (n,) what the seams inside each cost, both sides counted
    hull : area over that of the hull that they have at least
    """
    seam, cost, may = seam.copy(), seam_cost(part), allowed_edges(part, wish.cell)
    good = np.zeros(len(saved), bool)
    pending = np.arange(len(part.faces))
    for _ in range(_SLITS + 1):
        sub, half = part_of(part, pending)
        c, b, _, found = tried(sub, seam[half], 10, stop, wish)
        union = np.full(c.charts, -1)
        union[c.chart] = of[pending]
        good[union[found.good & (found.hull >= hull)]] = True
        left = []
        for chart in np.flatnonzero(~found.good & (b.genus == 0)).tolist():
            faces = pending[c.members[chart]]
            inside = (3 * faces[:, None] + np.arange(3)).reshape(-1)
            slit = seam.copy()
            done = found.hides[chart] and to_corners(part, faces, slit, may, cost)
            if not done and b.loops[chart] > 1 and not found.keeps[chart]:
                done = between_borders(part, faces, slit, may, cost)
            saved[union[chart]] -= cost[inside[slit[inside] & ~seam[inside]]].sum()
            if done and saved[union[chart]] > 0:
                seam[inside] = slit[inside]
                left.append(faces)
        if not left:
            break
        pending = np.concatenate(left)
    return good, seam


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
    label = components(len(points), a, b)
    return int(label.max(initial=-1)) + 1, label[a]


def _costliest_run(s: Surface, h: Numbers, cost: Floats, stops: Mask) -> Mask:
    """Which (k,) of some half-edges belong to the run of most cost."""
    count, run = straight_runs(s, h, stops)
    return np.asarray(run == int(np.argmax(np.bincount(run, cost[h], count))))


def _images(c: Cut, image: Numbers) -> set[tuple[int, int]]:
    """Pairs of charts of which one holds the mirror image of a part of the other; `image` (F,): see `joined`."""
    known = np.flatnonzero(image >= 0)
    return {_key(*pair) for pair in zip(c.chart[known].tolist(), c.chart[image[known]].tolist(), strict=True)}


def _unions(
    s: Surface,
    c: Cut,
    seam: Mask,
    cost: Floats,
    wish: Wish,
    cone: float,
    names: Numbers,
    failed: dict[tuple[int, int], int],
    crumb: float,
    image: Numbers | None,
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
    like = _images(c, image) if image is not None else None
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
        if like is not None and _key(a, b) not in like:
            continue
        if taken[a] or taken[b] or spread[k] > cone or (like is None and length[k] < _SHARED * least[k]):
            continue
        if failed.get(_key(int(names[a]), int(names[b])), 0) > 1:
            continue
        taken[a] = taken[b] = True
        out.append((a, b))
    return out
