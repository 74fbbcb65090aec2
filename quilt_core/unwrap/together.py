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
from .pieces import Piece, faults, fitted, worst
from .skin import Laying, Skin, sign_of
from .threads import Stop, side_by_side
from .topology import Mask, Numbers, Surface, after, borders, cut, grouped

_BATCH = 20_000  # faces that are laid flat in one system; two of them at a time
_AT_ONCE = 4  # systems until it is told how many are done


@dataclass(frozen=True)
class Trial:
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


def tried(skin: Skin, laying: Laying, runs: Sequence[Numbers], iterations: int, stop: Stop, tell: Callable[[int], None]) -> list[Trial]:
    """What came of each of some runs of seam, sewn as if it were the only one.

    Parameters
    ----------
    runs : half-edges of seams between the same two islands, or within one; iterations : at most, of laying flat
    tell : how many are done

    Raises
    ------
    Cancelled : it was stopped
    """
    batches, out = _batches(skin.surface, laying, runs), list[Trial]()
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
    a, b = int(laying.island[h[0] // 3]), int(laying.island[s.twin[h[0]] // 3])
    large, small = (a, b) if s.area[members[a]].sum() >= s.area[members[b]].sum() else (b, a)
    faces = np.unique(np.concatenate([members[large], members[small]]))
    part, whole = part_of(s, faces)
    number = np.full(len(s.faces), -1)
    number[faces] = np.arange(len(faces))
    uv = laying.uv[faces] * [sign_of(laying, large), 1.0]
    if large != small:
        g = np.where(laying.island[h // 3] == large, h, s.twin[h])
        t = s.twin[g]

        def at(x: Numbers) -> Floats:
            return np.asarray(uv.reshape(-1, 2)[3 * number[x // 3] + x % 3])

        mine = number[members[small]]
        if sign_of(laying, small) != sign_of(laying, large):
            uv[mine, :, 0] *= -1
        own, goal = at(np.concatenate([after(t), t])), at(np.concatenate([g, after(g)]))
        uv[mine] = fitted(own, goal, np.tile(s.length[g], 2), uv[mine].reshape(-1, 2))[0].reshape(-1, 3, 2)
    seam = laying.seam[whole].copy()
    sewn = np.concatenate([h, s.twin[h]])
    seam[3 * number[sewn // 3] + sewn % 3] = False
    scale = np.sqrt(max(float(np.abs(signed_areas(uv)).sum()) / float(part.area.sum()), 1e-300))
    return _Joined(faces, part, seam, uv / scale)


def _laid(batch: list[_Joined], iterations: int, stop: Stop) -> list[Trial]:
    """The joined islands laid flat: from where they lie, and from nothing where that folds."""
    piece, start = _together(batch)
    sound = np.array([not why for why in _reasons(batch, piece, start, over=False)])
    whole = _flat(batch, piece, start, iterations, stop) if sound.all() else {}
    for group, fresh in ((np.flatnonzero(sound), False), (np.flatnonzero(~sound), True)) if not whole else ():
        some = [batch[k] for k in group]
        if some:
            piece, start = _together(some)
            whole |= {int(group[k]): t for k, t in _flat(some, piece, None if fresh else start, iterations, stop).items()}
    if stop():
        raise Cancelled("Stopped. Everything is as it was.")
    return [whole[k] for k in sorted(whole)]


def _flat(batch: list[_Joined], piece: Piece, start: Floats | None, iterations: int, stop: Stop) -> dict[int, Trial]:
    found = flatten(piece.surface, piece.cut, piece.borders, iterations, start, stop)
    why = _reasons(batch, piece, found.uv)
    ends = np.cumsum([0] + [len(j.faces) for j in batch])
    return {
        k: Trial(j.faces, why[k], found.greatest[a:b], found.least[a:b])
        for k, (j, a, b) in enumerate(zip(batch, ends[:-1], ends[1:], strict=True))
    }


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
