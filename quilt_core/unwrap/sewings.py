"""Sewings on trial, many at once: each pair of islands is a chart of one surface, which is laid flat as a whole. One by one, calls would cost more than what
they compute."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import islice

import numpy as np

from ..errors import Cancelled
from ..model.scene import Floats
from ..uv.areas import signed_areas
from .flatten import flatten
from .parts import part_of
from .pieces import Piece, faults, worst
from .seams import across, both_sides, larger_first
from .skin import Laying, Skin, sign_of
from .threads import Stop, side_by_side
from .topology import Mask, Numbers, Surface, borders, cut, grouped

_BATCH = 20_000  # faces that are laid flat in one system; two of them at a time
_AT_ONCE = 4  # systems until it is told how many are done


@dataclass(frozen=True)
class Sewing:
    """What came of a sewing: why it cannot be, empty where it can; and for the faces (k,) that it joined the singular values that they have then."""

    faces: Numbers
    why: str
    big: Floats
    small: Floats


@dataclass(frozen=True)
class _Joined:
    """Two islands as one: their faces (k,), their surface, which of its half-edges are seams, and where its corners (k, 3, 2) lie to begin with, at the scale
    of the surface."""

    faces: Numbers
    surface: Surface
    seam: Mask
    start: Floats


def on_trial(skin: Skin, laying: Laying, runs: Sequence[Numbers], iterations: int, stop: Stop, tell: Callable[[int], None]) -> list[Sewing]:
    """What came of each of some runs of seam, sewn as if it were the only one.

    Parameters
    ----------
    runs : half-edges of seams between the same two islands, or within one; iterations : at most, of laying flat
    tell : how many are done

    Raises
    ------
    Cancelled : it was stopped
    """
    batches, out = _batches(skin.surface, laying, runs), list[Sewing]()
    while some := list(islice(batches, _AT_ONCE)):
        out += [t for of in side_by_side([partial(_laid, b, iterations) for b in some], stop) for t in of]
        if stop():
            raise Cancelled("Stopped. Everything is as it was.")
        tell(len(out))
    return out


def _batches(s: Surface, laying: Laying, runs: Sequence[Numbers]) -> Iterator[list[_Joined]]:
    """The runs joined, in order, as many at once as one system may have faces."""
    count = int(laying.island.max(initial=-1)) + 1
    has = np.flatnonzero(laying.island >= 0)
    members = [has[m] for m in grouped(laying.island[has], count)]
    batch, size = list[_Joined](), 0
    for h in runs:
        j = _joined(s, laying, members, h)
        if batch and size + len(j.faces) > _BATCH:
            yield batch
            batch, size = [], 0
        batch.append(j)
        size += len(j.faces)
    if batch:
        yield batch


def _joined(s: Surface, laying: Laying, members: Sequence[Numbers], h: Numbers) -> _Joined:
    """The two islands of a run, the smaller one brought to the larger as well as it fits."""
    large, small = larger_first(s, laying, [int(laying.island[x // 3]) for x in (h[0], s.twin[h[0]])])
    uv = laying.uv if large == small else across(s, laying, h, large, small)[0]
    faces = np.unique(np.concatenate([members[large], members[small]]))
    uv = uv[faces] * [sign_of(laying, large), 1.0]
    part, whole = part_of(s, faces)
    seam = laying.seam[whole].copy()
    seam[np.isin(whole, both_sides(s, h))] = False
    scale = np.sqrt(max(float(np.abs(signed_areas(uv)).sum()) / float(part.area.sum()), 1e-300))
    return _Joined(faces, part, seam, uv / scale)


def _laid(batch: list[_Joined], iterations: int, stop: Stop) -> list[Sewing]:
    """The joined islands laid flat: from where they lie, and from nothing where that folds."""
    piece, start = _together(batch)
    sound = np.array([not why for why in _reasons(batch, piece, start, over=False)])
    out = dict[int, Sewing]()
    for group, fresh in ((np.flatnonzero(sound), False), (np.flatnonzero(~sound), True)):
        some = [batch[k] for k in group]
        if some:
            piece, start = (piece, start) if len(some) == len(batch) else _together(some)
            out |= dict(zip(group.tolist(), _flat(some, piece, None if fresh else start, iterations, stop), strict=True))
    if stop():
        raise Cancelled("Stopped. Everything is as it was.")
    return [out[k] for k in sorted(out)]


def _flat(batch: list[_Joined], piece: Piece, start: Floats | None, iterations: int, stop: Stop) -> list[Sewing]:
    found = flatten(piece.surface, piece.cut, piece.borders, iterations, start, stop)
    why = _reasons(batch, piece, found.uv)
    ends = np.cumsum([0] + [len(j.faces) for j in batch])
    return [
        Sewing(j.faces, reason, found.greatest[a:b], found.least[a:b])
        for j, reason, a, b in zip(batch, why, ends[:-1], ends[1:], strict=True)
    ]


def _reasons(batch: list[_Joined], piece: Piece, uv: Floats, over: bool = True) -> list[str]:
    """Why each of the joined cannot lie so: of its charts, which are several where an island hangs together by a point."""
    of = faults(piece, uv, over)
    chart = np.split(piece.cut.chart, np.cumsum([len(j.faces) for j in batch])[:-1])
    return [worst([of[c] for c in np.unique(mine)]) for mine in chart]


def _together(batch: list[_Joined]) -> tuple[Piece, Floats]:
    """The joined islands as one surface, a chart each, and UVs (W, 2) of its rows to begin with."""
    faces = np.cumsum([0] + [len(j.faces) for j in batch])
    points = np.cumsum([0] + [len(j.surface.points) for j in batch])
    every = [j.surface for j in batch]
    s = replace(
        every[0], points=np.concatenate([p.points for p in every]), faces=np.concatenate([p.faces + n for p, n in zip(every, points, strict=False)]),
        twin=np.concatenate([np.where(p.twin >= 0, p.twin + 3 * n, -1) for p, n in zip(every, faces, strict=False)]),
        normal=np.concatenate([p.normal for p in every]), area=np.concatenate([p.area for p in every]),
        length=np.concatenate([p.length for p in every]), bend=np.concatenate([p.bend for p in every]), corner=None, flat=None,
    )  # fmt: skip
    seam = np.concatenate([j.seam for j in batch])
    c = cut(s, seam)
    piece = Piece(s, c, borders(s, c, seam))
    return piece, piece.mean(np.concatenate([j.start for j in batch]))
