"""What every seam is worth: how long it is, how open it lies, and what the surface would pay if it were sewn, measured by sewing it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..errors import Cancelled, QuiltError
from ..model.components import components
from ..model.scene import Floats
from .flatten import frames
from .joining import run_ends, straight_runs
from .seams import sew
from .seen import openness
from .skin import Laying, Skin
from .topology import Mask, Numbers, Surface

FREE = 0.005  # of the surface that may come over a stretch of 1.1 by a sewing that costs nothing
_CRUMB = 0.1  # of a run: shorter parts of it are not tried by themselves
_TINY = 0.002  # by which the mean stretch may grow then

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
    """All runs of seam of a mesh, the longest first, each tried.

    Raises
    ------
    Cancelled : it was stopped
    """
    s = skin.surface
    seen, plane, stops = openness(s), frames(s), run_ends(s)
    out = []
    runs = _longest_first(s, runs_of(skin, laying))
    for k, h in enumerate(runs):
        if stop():
            raise Cancelled("Stopped. Everything is as it was.")
        tell(f"Trying seam {k + 1} of {len(runs)}")
        found = _tried(skin, laying, h, seen, plane)
        parts = [] if found.free else _split(s, h, stops)
        # What cannot be sewn whole may do so in parts: then these are what is worth knowing.
        out += [_tried(skin, laying, part, seen, plane) for part in parts] or [found]
    return sorted(out, key=lambda r: -r.length)


def _longest_first(s: Surface, runs: list[Numbers]) -> list[Numbers]:
    return sorted(runs, key=lambda h: -float(s.length[h].sum()))


def _split(s: Surface, h: Numbers, stops: Mask) -> list[Numbers]:
    """A run parted at the points `stops` (V,) that no flat piece can have inside, without crumbs; nothing where it stays whole."""
    count, of = straight_runs(s, h, stops)
    parts = [h[of == k] for k in range(count)]
    total = float(s.length[h].sum())
    real = [part for part in parts if float(s.length[part].sum()) >= _CRUMB * total]
    return _longest_first(s, real) if count > 1 else []


def _tried(skin: Skin, laying: Laying, h: Numbers, seen: Floats, plane: Floats) -> SeamRun:
    s = skin.surface
    t = s.twin[h]
    pair = int(laying.island[h[0] // 3]), int(laying.island[t[0] // 3])
    length = float(s.length[h].sum())
    visible = float((s.length[h] * np.maximum(seen[h // 3], seen[t // 3])).sum() / max(length, 1e-300))
    mine = np.isin(laying.island, pair)
    before = _stretch(s.area, plane, laying, mine)
    try:
        after, _ = sew(skin, laying, h)
    except QuiltError as e:
        return SeamRun(h, pair, length, visible, (before[0], float("nan")), float("nan"), str(e))
    then = _stretch(s.area, plane, after, mine)
    return SeamRun(h, pair, length, visible, (before[0], then[0]), before[1] - then[1], "")


def _stretch(area: Floats, plane: Floats, laying: Laying, mine: Mask) -> tuple[float, float]:
    """L2 of some faces (F,), each island at its own scale, and the share of them under a stretch of 1.1."""
    faces = np.flatnonzero(mine)
    big, small = singular(plane[faces], laying.uv[faces])
    ratio = big / np.maximum(small, 1e-300)
    w = area[faces]
    _, of = np.unique(laying.island[faces], return_inverse=True)
    of = np.asarray(of).reshape(-1)
    scale = np.sqrt(np.maximum(np.bincount(of, w * big * small) / np.bincount(of, w), 1e-300))[of]
    square = 0.5 * ((scale / np.maximum(big, 1e-12)) ** 2 + (scale / np.maximum(small, 1e-12)) ** 2)
    return float(np.sqrt((w * square).sum() / w.sum())), float(w[ratio < 1.1].sum() / w.sum())


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
        again = False
        for h in [x for run in _longest_first(s, runs_of(skin, laying)) for x in (run, *_split(s, run, stops))]:
            if stop():
                raise Cancelled("Stopped. Everything is as it was.")
            pair = laying.island[h[0] // 3], laying.island[s.twin[h[0]] // 3]
            # A run that was tried between the same faces would end the same.
            key = (int(h[0]), len(h), *(int((laying.island == p).sum()) for p in pair))
            if key in done or not (chosen[h // 3] & chosen[s.twin[h] // 3]).all() or not laying.seam[h].all():
                continue
            done.add(key)
            tell(f"{count} seams sewn so far")
            if _tried(skin, laying, h, seen, plane).free:
                laying, mine = sew(skin, laying, h)
                touched |= mine
                count += 1
                again = True
                break
        if not again:
            return laying, touched, count
