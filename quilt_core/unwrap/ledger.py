"""What every seam is worth: how long it is, how open it lies, and what the surface would pay if it were sewn, measured by sewing it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..model.components import components
from ..model.scene import Floats
from .flatten import frames
from .joining import run_ends, straight_runs
from .seams import sew
from .seen import openness
from .sewings import Sewing, on_trial
from .skin import Laying, Skin
from .topology import Mask, Numbers, Surface

FREE = 0.005  # of the surface that may come over a stretch of 1.1 by a sewing that costs nothing
_CRUMB = 0.1  # of a run: shorter parts of it are not tried by themselves
_TINY = 0.002  # by which the mean stretch may grow then
_FEW, _MANY, _NEAR = 6, 25, 4  # steps of laying flat, and the second where a cost is within so many times of none

Tell = Callable[[str], None]


@dataclass(frozen=True)
class SeamRun:
    """A run of seam between two islands, or within one.

    edges : half-edges on one side; islands : numbers of the two; length : in metres
    open : 0 for a run that nobody sees from outside, 1 for one that is seen from all sides
    stretch : Sander's L2 of what it joins, before and after sewing; grown : share of that surface that comes over a stretch of 1.1
    why : why it cannot be sewn, empty where it can
    """

    edges: Numbers
    islands: tuple[int, int]
    length: float
    open: float
    stretch: tuple[float, float]
    grown: float
    why: str

    @property
    def free(self) -> bool:
        """Whether sewing it costs nothing."""
        return not self.why and self.grown <= FREE and self.stretch[1] <= self.stretch[0] * (1 + _TINY) + 1e-9

    @property
    def rank(self) -> tuple[int, float, float]:
        """Where it stands among others: first what has a price to be weighed, by what a metre of it costs; then what cannot be sewn; last what costs nothing,
        which needs no thought. The longest first where all is equal."""
        kind = 2 if self.free else 1 if self.why else 0
        return kind, 0.0 if kind else max(self.grown, 0.0) / max(self.length, 1e-300), -self.length


def runs_of(skin: Skin, laying: Laying) -> list[Numbers]:
    """Half-edges of every run of seam, each edge once: those between the same two islands that hang together at their ends."""
    s = skin.surface
    h = np.flatnonzero((s.twin > np.arange(len(s.twin))) & laying.seam)
    a, b = laying.island[h // 3], laying.island[s.twin[h] // 3]
    h, a, b = (x[(a >= 0) & (b >= 0)] for x in (h, a, b))
    if not len(h):
        return []
    n = int(laying.island.max()) + 1
    pair = np.minimum(a, b) * n + np.maximum(a, b)
    # A node for every point of every pair of islands, so that runs of other pairs do not join them.
    ends = np.concatenate([pair * len(s.points) + s.start[h], pair * len(s.points) + s.end[h]])
    nodes, at = np.unique(ends, return_inverse=True)
    at = np.asarray(at).reshape(2, -1)
    label = components(len(nodes), at[0], at[1])
    of = label[at[0]]
    return [h[of == k] for k in np.unique(of)]


def worth(skin: Skin, laying: Laying, stop: Callable[[], bool] = lambda: False, tell: Tell = lambda _: None) -> list[SeamRun]:
    """All runs of seam of a mesh, each tried, in the order of `SeamRun.rank`.

    Raises
    ------
    Cancelled : it was stopped
    """
    s = skin.surface
    seen, plane, stops = openness(s), frames(s), run_ends(s)
    runs = runs_of(skin, laying)
    whole = _tried(skin, laying, runs, seen, plane, stop, tell)
    # What cannot be sewn whole may do so in parts: then these are what is worth knowing.
    parts = [[] if found.free else _split(s, h, stops) for h, found in zip(runs, whole, strict=True)]
    split = iter(_tried(skin, laying, [p for of in parts for p in of], seen, plane, stop, tell))
    out = [r for found, of in zip(whole, parts, strict=True) for r in ([next(split) for _ in of] or [found])]
    return sorted(out, key=lambda r: r.rank)


def _longest_first(s: Surface, runs: list[Numbers]) -> list[Numbers]:
    return sorted(runs, key=lambda h: -float(s.length[h].sum()))


def _split(s: Surface, h: Numbers, stops: Mask) -> list[Numbers]:
    """A run parted at the points `stops` (V,) that no flat piece can have inside, without crumbs; nothing where it stays whole."""
    count, of = straight_runs(s, h, stops)
    parts = [h[of == k] for k in range(count)]
    total = float(s.length[h].sum())
    real = [part for part in parts if float(s.length[part].sum()) >= _CRUMB * total]
    return _longest_first(s, real) if count > 1 else []


def _tried(
    skin: Skin, laying: Laying, runs: list[Numbers], seen: Floats, plane: Floats, stop: Callable[[], bool], tell: Tell
) -> list[SeamRun]:
    """Runs of seam, each sewn as if it were the only one: laid flat in a few steps, and to the end where it is not clear by then whether it costs anything."""
    s, before = skin.surface, dict[tuple[int, int], tuple[float, float]]()

    def rated(h: Numbers, t: Sewing) -> tuple[SeamRun, bool]:
        """With whether it costs little by now, sewn or not."""
        pair = int(laying.island[h[0] // 3]), int(laying.island[s.twin[h[0]] // 3])
        length = float(s.length[h].sum())
        visible = float((s.length[h] * np.maximum(seen[h // 3], seen[s.twin[h] // 3])).sum() / max(length, 1e-300))
        if pair not in before:
            before[pair] = _stretch(s.area[t.faces], laying.island[t.faces], *singular(plane[t.faces], laying.uv[t.faces]))
        was = before[pair]
        then = _stretch(s.area[t.faces], np.zeros(len(t.faces), np.int64), t.big, t.small)
        near = was[1] - then[1] <= _NEAR * FREE or then[0] <= was[0] * (1 + _NEAR * _TINY)
        if t.why:
            then = float("nan"), float("nan")
        why = f"This cannot be sewn: {t.why}. Sew a shorter run of it, or cut elsewhere first." if t.why else ""
        return SeamRun(h, pair, length, visible, (was[0], then[0]), was[1] - then[1], why), near

    def some(which: list[Numbers], iterations: int) -> list[tuple[SeamRun, bool]]:
        found = on_trial(skin, laying, which, iterations, stop, lambda n: tell(f"{n} of {len(which)} seams tried"))
        return [rated(h, t) for h, t in zip(which, found, strict=True)]

    out = some(runs, _FEW)
    # Each step lowers the stretch: what costs nothing by now will not cost anything, and what is far from that stays so.
    unclear = [k for k, (r, near) in enumerate(out) if near and not r.free]
    for k, found in zip(unclear, some([runs[k] for k in unclear], _MANY), strict=True):
        out[k] = found
    return [r for r, _ in out]


def _stretch(area: Floats, island: Numbers, big: Floats, small: Floats) -> tuple[float, float]:
    """L2 of some faces (F,), each island at its own scale, and the share of them under a stretch of 1.1."""
    ratio = big / np.maximum(small, 1e-300)
    of = np.unique(island, return_inverse=True)[1].reshape(-1)
    scale = np.sqrt(np.maximum(np.bincount(of, area * big * small) / np.bincount(of, area), 1e-300))[of]
    square = 0.5 * ((scale / np.maximum(big, 1e-12)) ** 2 + (scale / np.maximum(small, 1e-12)) ** 2)
    return float(np.sqrt((area * square).sum() / area.sum())), float(area[ratio < 1.1].sum() / area.sum())


def singular(plane: Floats, uv: Floats) -> tuple[Floats, Floats]:
    """Greatest and least singular values (F,) of the maps from triangles (F, 3, 2) to triangles (F, 3, 2)."""
    a, b = plane[:, 1] - plane[:, 0], plane[:, 2] - plane[:, 0]
    c, d = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    det = np.where(np.abs(x := a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) > 1e-300, x, 1e-300)
    j00, j01 = (c[:, 0] * b[:, 1] - d[:, 0] * a[:, 1]) / det, (d[:, 0] * a[:, 0] - c[:, 0] * b[:, 0]) / det
    j10, j11 = (c[:, 1] * b[:, 1] - d[:, 1] * a[:, 1]) / det, (d[:, 1] * a[:, 0] - c[:, 1] * b[:, 0]) / det
    e, f, g, k = 0.5 * (j00 + j11), 0.5 * (j00 - j11), 0.5 * (j10 + j01), 0.5 * (j10 - j01)
    q, r = np.hypot(e, k), np.hypot(f, g)
    return q + r, np.abs(q - r)


def sew_free(
    skin: Skin, laying: Laying, islands: Numbers | None = None, stop: Callable[[], bool] = lambda: False, tell: Tell = lambda _: None
) -> tuple[Laying, Mask, int]:  # fmt: skip
    """Sew all seams that cost nothing, the longest first, until none is left.

    Parameters
    ----------
    islands : (k,) numbers of those whose seams are looked at; None for all

    Returns
    -------
    the laying, the faces (F,) of the islands that were sewn, and how many runs were

    Raises
    ------
    Cancelled : it was stopped
    """
    s = skin.surface
    seen, plane, stops = np.zeros(len(s.faces)), frames(s), run_ends(s)
    touched, count = np.zeros(len(s.faces), bool), 0
    done: set[tuple[int, ...]] = set()
    chosen = np.ones(len(s.faces), bool) if islands is None else np.isin(laying.island, islands)
    while True:
        size = np.bincount(laying.island[laying.island >= 0])
        todo = []
        for h in [x for run in _longest_first(s, runs_of(skin, laying)) for x in (run, *_split(s, run, stops))]:
            # A run that was tried between the same faces would end the same.
            key = (int(h[0]), len(h), *(int(size[laying.island[x // 3]]) for x in (h[0], s.twin[h[0]])))
            if key not in done and (chosen[h // 3] & chosen[s.twin[h] // 3]).all():
                done.add(key)
                todo.append((key, h))
        free = [x for x, r in zip(todo, _tried(skin, laying, [h for _, h in todo], seen, plane, stop, tell), strict=True) if r.free]
        if not free:
            return laying, touched, count
        laying, count = _sewn_in_turn(skin, laying, free, done, touched, count, tell)


def _sewn_in_turn(
    skin: Skin,
    laying: Laying,
    free: list[tuple[tuple[int, ...], Numbers]],
    done: set[tuple[int, ...]],
    touched: Mask,
    count: int,
    tell: Tell,
) -> tuple[Laying, int]:
    """Sew runs that cost nothing, in order; those of islands that others were sewn to are left for the next round."""
    s, met = skin.surface, set[int]()
    for key, h in free:
        pair = {int(laying.island[x // 3]) for x in (h[0], s.twin[h[0]])}
        if pair & met or not laying.seam[h].all():
            done.discard(key)
            continue
        met |= pair
        laying, mine = sew(skin, laying, h)
        touched |= mine
        count += 1
        tell(f"{count} seams sewn so far")
    return laying, count
