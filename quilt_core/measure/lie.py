"""How the islands of a layout lie to each other: who shares area with whom, and how near they are. Measured whole, or only for what moved.

Every figure kept here is a function of the layout alone, whatever edits led to it: a pair is measured by kernels that see its two islands only,
counts are whole numbers, and lists are ordered by value and number. So `updated` gives what `measured` gives, bit for bit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import Cancelled
from ..model.scene import Floats
from ..model.tiles import corners_of
from ..uv.twins import is_twin
from . import kernels
from .places import MOST_ROWS, Met, Places, places_of, told
from .shapes import IslandShapes, Whole

LEAST_OVERLAP = 0.01 / 2048**2  # UV units squared that two islands must share to overlap: a hundredth of a texel of a 2048 px map
REACH = 1 / 32  # UV units within which gaps are looked for: 64 px of a 2048 px map
_SPARSE = 5000  # islands; of more, each has nearer neighbours
_ENTRIES = 40_000  # of all short lists together
_MOST = 12_000_000  # pairs of boxes that meet; above that the first ones stand for the heap
_CHUNK = 100_000  # pairs that a kernel is given at once, so that a stop is heard
_THREADS = 2  # kernels let go of the interpreter
_DEEP = 1000  # others that an island shares area with, above which all is measured by places
_MUCH = 0.3  # of all islands; when more moved, everything is measured

Stop = Callable[[], bool]


@dataclass(frozen=True)
class Lie:
    """How n islands lie. `sheet` (n,) parts them: islands of different sheets, and those of sheet -1, have nothing to do with each other.

    box (n, 4), NaN for islands that cover nothing; overlaps (n,) with how many others each shares area, twins (n,) with how many of them the same
    texels; over_with, over_area (n, D), over_at (n, D, 2): those with which it shares most, most first, -1 beyond the end;
    near_with, near_gap (n, G), near_at (n, G, 2): the nearest within `reach` in its tile that it shares no area with, nearest first. Islands
    that share area with more than `buried` others have no near ones. `cut` (1,): the heap was too deep to be measured whole.
    """

    sheet: Whole
    box: Floats
    overlaps: NDArray[np.int32]
    twins: NDArray[np.int32]
    over_with: NDArray[np.int32]
    over_area: Floats
    over_at: NDArray[np.float32]
    near_with: NDArray[np.int32]
    near_gap: Floats
    near_at: NDArray[np.float32]
    cut: NDArray[np.bool_]

    @property
    def count(self) -> int:
        """How many islands there are."""
        return len(self.sheet)

    @property
    def buried(self) -> NDArray[np.bool_]:
        """(n,) islands under so many others that their gaps say nothing."""
        return np.asarray(self.overlaps > max(8, self.over_with.shape[1]))

    def arrays(self) -> dict[str, NDArray[Any]]:
        """All fields by name, for storing."""
        return {f.name: getattr(self, f.name) for f in fields(self)}

    def over_pairs(self) -> tuple[Whole, Floats, Floats]:
        """Pairs (k, 2) that share area, the largest first, the area (k,) and a place (k, 2): all of them, but in heaps the largest of each island."""
        pairs, area, at = _pairs(self.over_with, self.over_area, self.over_at)
        order = np.lexsort((pairs[:, 1], pairs[:, 0], -area))
        return pairs[order], area[order], at[order]

    def near_pairs(self) -> tuple[Whole, Floats, Floats]:
        """Pairs (k, 2) that share no area, nearest first, their gap (k,) in UV units and its middle (k, 2)."""
        pairs, gap, at = _pairs(self.near_with, self.near_gap, self.near_at)
        order = np.lexsort((pairs[:, 1], pairs[:, 0], gap))
        return pairs[order], gap[order], at[order]


def _pairs(partner: NDArray[np.int32], value: Floats, at: NDArray[np.float32]) -> tuple[Whole, Floats, Floats]:
    """Every pair of the short lists once."""
    i, k = np.nonzero(partner >= 0)
    j = partner[i, k].astype(np.int64)
    key = np.minimum(i, j) * len(partner) + np.maximum(i, j)
    _, first = np.unique(key, return_index=True)
    i, j, k = i[first], j[first], k[first]
    return np.column_stack([np.minimum(i, j), np.maximum(i, j)]), value[i, k], at[i, k].astype(np.float64)


def lists(n: int) -> tuple[int, int, float]:
    """Lengths of the short lists and the reach, by the number of islands alone."""
    return (
        min(max(1, n - 1), max(2, _ENTRIES // max(n, 1))),
        min(max(1, n - 1), max(4, _ENTRIES // max(n, 1))),
        REACH * min(1.0, (_SPARSE / max(n, 1)) ** 0.5),
    )


def blank(sheet: Whole, box: Floats) -> Lie:
    """Islands of which nothing is known yet but where they are."""
    n = len(sheet)
    over, near, _ = lists(n)
    return Lie(
        sheet, box, np.zeros(n, np.int32), np.zeros(n, np.int32), np.full((n, over), -1, np.int32), np.zeros((n, over)),
        np.zeros((n, over, 2), np.float32), np.full((n, near), -1, np.int32), np.zeros((n, near)), np.zeros((n, near, 2), np.float32),
        np.zeros(1, bool),
    )  # fmt: skip


class Measure:
    """One measuring: a layout's boxes, its islands' pieces placed once, and pairs asked of the kernels."""

    def __init__(self, shapes: IslandShapes, rows: Floats, sheet: Whole, box: Floats, stop: Stop) -> None:
        self.shapes, self.rows, self.sheet, self.box, self.stop = shapes, np.ascontiguousarray(rows), sheet, box, stop
        self.cut = False
        self.placed: dict[str, tuple[Floats, Whole]] = {}

    @cached_property
    def here(self) -> Whole:
        """The islands that take part."""
        return np.flatnonzero((self.sheet >= 0) & ~np.isnan(self.box[:, 0]))

    @cached_property
    def tile(self) -> Floats:
        """Lower left corner (n, 2) of each island's tile."""
        return corners_of(self.box)

    @cached_property
    def area(self) -> Floats:
        """Area (n,) that each island covers."""
        return self.shapes.region_area * self.rows[:, 2] ** 2

    def place(self, which: Whole) -> None:
        """Place the pieces and outlines of the islands that will be asked for; of others nothing may be asked."""
        number = np.zeros(self.shapes.count, np.int64)
        for name, points, first in (
            ("triangles", self.shapes.triangles, self.shapes.first_triangle), ("segments", self.shapes.segments, self.shapes.first_segment),
        ):  # fmt: skip
            number[:] = 0
            number[which] = np.diff(first)[which]
            out = np.empty((int(number.sum()), points.shape[1]))
            kernels.place_points(points, np.ascontiguousarray(first), self.rows, which, out)
            self.placed[name] = out, np.concatenate([np.zeros(1, np.int64), np.cumsum(number)])

    def candidates(self, which: Whole, among: Whole, reach: float) -> tuple[Whole, Whole]:
        """Pairs (k,), (k,) of islands of `which` and `among` on one sheet whose boxes, one grown by `reach`, meet; each once, the lower first."""
        if not len(which) or not len(among):
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        box = self.box[which] + reach * np.array([-1.0, -1.0, 1.0, 1.0])
        if len(which) * len(among) < 2_000_000:
            b = self.box[among]
            meet = (box[:, None, 0] <= b[None, :, 2]) & (box[:, None, 2] >= b[None, :, 0])
            meet &= (box[:, None, 1] <= b[None, :, 3]) & (box[:, None, 3] >= b[None, :, 1])
            k, m = np.nonzero(meet)
        else:
            tree = shapely.STRtree(shapely.box(*self.box[among].T))
            k, m = tree.query(shapely.box(*box.T))
        i, j = which[k], among[m]
        listed = np.zeros(self.shapes.count, bool)
        listed[which] = True
        keep = (self.sheet[i] == self.sheet[j]) & (i != j) & ((i < j) | ~listed[j])
        i, j = i[keep], j[keep]
        return np.minimum(i, j), np.maximum(i, j)

    def _run(self, kernel: Callable[..., None], name: str, i: Whole, j: Whole, *more: NDArray[Any]) -> tuple[Floats, Floats]:
        value, at = np.empty(len(i)), np.zeros((len(i), 2))
        points, first = self.placed[name]
        step = max(1000, min(_CHUNK, len(i) // (2 * _THREADS) + 1))
        cuts = [slice(k, k + step) for k in range(0, len(i), step)]

        def one(s: slice) -> None:
            kernel(points, first, self.box, i[s], j[s], *(m[s] for m in more), value[s], at[s])

        if len(cuts) <= 1:
            for s in cuts:
                one(s)
            return value, at
        with ThreadPoolExecutor(_THREADS) as pool:
            for k in range(0, len(cuts), 2 * _THREADS):
                if self.stop():  # asked here alone: it may look into a database, which belongs to this thread
                    raise Cancelled("Stopped. The project is as it was.")
                list(pool.map(one, cuts[k : k + 2 * _THREADS]))
        return value, at

    def shared(self, i: Whole, j: Whole) -> tuple[Floats, Floats]:
        """Area (k,) that pairs share, and a place (k, 2) in it."""
        return self._run(kernels.shared_areas, "triangles", i, j)

    def gaps(self, i: Whole, j: Whole, reach: Floats) -> tuple[Floats, Floats]:
        """Distance (k,) of pairs that share no area, infinite from `reach` (k,) on, and its middle (k, 2)."""
        return self._run(kernels.distances, "segments", i, j, reach)

    def overlapping(self, which: Whole, among: Whole) -> Iterator[tuple[Whole, Whole, Floats, Floats]]:
        """Pairs that share area: (k,), (k,), area (k,), place (k, 2), in portions."""
        seen = 0
        step = max(1, len(which)) if len(which) * len(among) < 2_000_000 else 4000
        for k in range(0, len(which), step):
            mine = which[k : k + step]
            # Of a pair within `which` the earlier portion asks.
            i, j = self.candidates(mine, among if k == 0 else np.setdiff1d(among, which[:k]), 0.0)
            if seen + len(i) > _MOST:
                i, j, self.cut = i[: max(0, _MOST - seen)], j[: max(0, _MOST - seen)], True
            seen += len(i)
            area, at = self.shared(i, j)
            real = area > LEAST_OVERLAP
            yield i[real], j[real], area[real], at[real]
            if self.cut:
                break

    def neighbours(self, which: Whole, among: Whole, reach: float) -> Iterator[tuple[Whole, Whole, Floats, Floats]]:
        """Pairs of one tile within reach that share no area: (k,), (k,), gap (k,), middle (k, 2), in portions."""
        seen = 0
        step = max(1, len(which)) if len(which) * len(among) < 2_000_000 else 4000
        for k in range(0, len(which), step):
            mine = which[k : k + step]
            i, j = self.candidates(mine, among if k == 0 else np.setdiff1d(among, which[:k]), reach)
            same = (self.tile[i] == self.tile[j]).all(axis=1)
            i, j = i[same], j[same]
            if seen + len(i) > _MOST:
                i, j, self.cut = i[: max(0, _MOST - seen)], j[: max(0, _MOST - seen)], True
            seen += len(i)
            meet = (self.box[i, :2] < self.box[j, 2:]).all(axis=1) & (self.box[j, :2] < self.box[i, 2:]).all(axis=1)
            shares = np.zeros(len(i), bool)
            shares[meet] = self.shared(i[meet], j[meet])[0] > LEAST_OVERLAP
            i, j = i[~shares], j[~shares]
            gap, at = self.gaps(i, j, np.full(len(i), reach))
            near = np.isfinite(gap)
            yield i[near], j[near], gap[near], at[near]
            if self.cut:
                break


def _both_ways(i: Whole, j: Whole, value: Floats, at: Floats) -> tuple[Whole, Whole, Floats, Floats]:
    return np.concatenate([i, j]), np.concatenate([j, i]), np.concatenate([value, value]), np.concatenate([at, at])


def _add_overlaps(lie: Lie, m: Measure, i: Whole, j: Whole, area: Floats, at: Floats, into: NDArray[np.bool_] | None = None) -> None:
    """Put pairs into the counts and lists of `lie`; with `into` (n,) only into the lists of those islands, and into no counts."""
    if into is None:
        twin = is_twin(area, m.area[i], m.area[j])
        for count, of in ((lie.overlaps, np.concatenate([i, j])), (lie.twins, np.concatenate([i[twin], j[twin]]))):
            count += np.bincount(of, minlength=lie.count).astype(np.int32)
    a, b, v, p = _both_ways(i, j, -area, at)
    if into is not None:
        use = into[a]
        a, b, v, p = a[use], b[use], v[use], p[use]
    _insert(lie.over_with, lie.over_area, lie.over_at, a, b, v, p)


def _insert(partner: NDArray[np.int32], value: Floats, place: NDArray[np.float32], a: Whole, b: Whole, v: Floats, p: Floats) -> None:
    kernels.insert_best(a, b, v, p.astype(np.float32), partner, value, place)


def measured(shapes: IslandShapes, rows: Floats, sheet: Whole, stop: Stop = lambda: False) -> Lie:
    """How the islands of a layout lie.

    Parameters
    ----------
    rows : (n, 5) similarities; sheet : (n,) the sheet of each island, -1 for those that are left out

    Raises
    ------
    Cancelled : `stop` said so
    """
    lie = _whole(shapes, rows, sheet, stop)
    return replace(lie, over_area=-lie.over_area + 0.0)


def _whole(shapes: IslandShapes, rows: Floats, sheet: Whole, stop: Stop) -> Lie:
    m = Measure(shapes, rows, sheet, shapes.boxes(rows), stop)
    places = places_of(shapes, rows, sheet, m.here)
    if places is not None and (lie := _by_place(m, places)) is not None:
        return lie
    return _by_pairs(m)


def _by_place(m: Measure, places: Places) -> Lie | None:
    """The same, each place measured once; None where places meet too often for that."""
    n, lie, first = m.shapes.count, blank(m.sheet, m.box), places.first
    m.place(first)
    i, j = m.candidates(first, first, 0.0)
    if len(i) > _MOST:
        return None
    number = np.full(n, -1)
    number[first] = np.arange(len(first))
    same = np.flatnonzero(places.size > 1)
    p, q = np.r_[number[i], same], np.r_[number[j], same]
    forth, back = (m.shared(first[a], first[b]) for a, b in ((p, q), (q, p)))
    real = [area > LEAST_OVERLAP for area, _ in (forth, back)]
    met = Met(p, q, *((np.where(r, -area, np.nan), at.astype(np.float32)) for r, (area, at) in zip(real, (forth, back), strict=True)))
    if met.rows(places) > MOST_ROWS:
        return None
    twin = [is_twin(area, m.area[first[p]], m.area[first[q]]) & r for r, (area, _) in zip(real, (forth, back), strict=True)]

    def count(a: Whole, before: Whole, after: Whole, pair: Whole, turned: bool) -> None:
        ahead, behind = (1, 0) if turned else (0, 1)
        for into, of in ((lie.overlaps, real), (lie.twins, twin)):
            into += np.bincount(a, before * of[behind][pair] + after * of[ahead][pair], n).astype(np.int32)

    told(places, met, count, (lie.over_with, lie.over_area, lie.over_at), n)
    open_ = places.only(~lie.buried)
    first, reach = open_.first, lists(n)[2]
    if len(first):
        m.place(first)
        i, j = m.candidates(first, first, reach)
        tile = (m.tile[i] == m.tile[j]).all(axis=1)
        number[first] = np.arange(len(first))
        same = np.flatnonzero(open_.size > 1)
        p, q = np.r_[number[i[tile]], same], np.r_[number[j[tile]], same]
        near = Met(p, q, *(_gap_or_none(m, first[a], first[b], reach) for a, b in ((p, q), (q, p))))
        if len(i) > _MOST or near.rows(open_) > MOST_ROWS:
            return None
        told(open_, near, None, (lie.near_with, lie.near_gap, lie.near_at), n)
    return lie


def _gap_or_none(m: Measure, i: Whole, j: Whole, reach: float) -> tuple[Floats, NDArray[np.float32]]:
    """Gap (k,) of pairs of islands of one tile, NaN of those that share area or are farther apart than `reach`; and its middle (k, 2)."""
    meet = (m.box[i, :2] < m.box[j, 2:]).all(axis=1) & (m.box[j, :2] < m.box[i, 2:]).all(axis=1)
    apart = np.ones(len(i), bool)
    apart[meet] = m.shared(i[meet], j[meet])[0] <= LEAST_OVERLAP
    gap, at = np.full(len(i), np.nan), np.zeros((len(i), 2))
    gap[apart], at[apart] = m.gaps(i[apart], j[apart], np.full(int(apart.sum()), reach))
    return np.where(np.isfinite(gap), gap, np.nan), at.astype(np.float32)


def _by_pairs(m: Measure) -> Lie:
    shapes, lie = m.shapes, blank(m.sheet, m.box)
    if len(m.here):
        m.place(np.arange(shapes.count))
        for found in m.overlapping(m.here, m.here):
            _add_overlaps(lie, m, *found)
        open_ = m.here[~lie.buried[m.here]]
        for i, j, gap, at in m.neighbours(open_, open_, lists(shapes.count)[2]):
            _insert(lie.near_with, lie.near_gap, lie.near_at, *_both_ways(i, j, gap, at))
    lie.cut[0] = m.cut
    return lie


def updated(
    shapes: IslandShapes, old: Lie, old_rows: Floats, rows: Floats, sheet: Whole, stop: Stop = lambda: False
) -> Lie:  # fmt: skip
    """How the islands lie after some of them moved, or went to other sheets: what `measured` says, from what is known of the layout before.

    Costs what the moved islands and their neighbours cost; where very many moved, everything is measured.

    Raises
    ------
    Cancelled : `stop` said so
    """
    n = shapes.count
    if bool(old.cut[0]) or old.count != n or len(old_rows) != n:
        return measured(shapes, rows, sheet, stop)
    if int(old.overlaps.max(initial=0)) > _DEEP and places_of(shapes, rows, sheet, np.flatnonzero(sheet >= 0)) is not None:
        # Each moved island of a deep heap would ask for the lists of all that lie there; by places the whole costs less.
        return measured(shapes, rows, sheet, stop)
    moved = (old.sheet != sheet) | ((rows != old_rows).any(axis=1) & ((sheet >= 0) | (old.sheet >= 0)))
    if moved.sum() > max(50, _MUCH * n):
        return measured(shapes, rows, sheet, stop)
    changed = np.flatnonzero((rows != old_rows).any(axis=1))
    box = old.box.copy()
    box[changed] = shapes.boxes(rows, changed)
    lie = Lie(**{f.name: getattr(old, f.name).copy() for f in fields(Lie)})
    lie = replace(lie, sheet=sheet, box=box, over_area=-lie.over_area)
    before, after = Measure(shapes, old_rows, old.sheet, old.box, stop), Measure(shapes, rows, sheet, box, stop)
    if moved.any():
        _overlaps_again(lie, old, before, after, moved)
        _near_again(lie, old, after, moved)
    return measured(shapes, rows, sheet, stop) if after.cut else replace(lie, over_area=-lie.over_area + 0.0)


def _sharing(m: Measure, which: Whole) -> tuple[Whole, Whole, Floats, Floats]:
    """All pairs of the islands `which` that share area: (k,), (k,), area (k,), place (k, 2)."""
    mine = np.intersect1d(which, m.here)
    i, j = m.candidates(mine, m.here, 0.0)
    m.place(np.unique(np.concatenate([which, i, j])))
    area, at = m.shared(i, j)
    real = area > LEAST_OVERLAP
    return i[real], j[real], area[real], at[real]


def _overlaps_again(lie: Lie, old: Lie, before: Measure, after: Measure, moved: NDArray[np.bool_]) -> None:
    """The counts and lists of overlaps of `lie`, which are still those of before, where islands `moved` (n,)."""
    n, which = lie.count, np.flatnonzero(moved)
    # What the moved islands shared area with where they were is taken off, where they are is put on.
    gone, found = _sharing(before, which), _sharing(after, which)
    for m, (i, j, area, _), sign in ((before, gone, -1), (after, found, 1)):
        twin = is_twin(area, m.area[i], m.area[j])
        for count, of in ((lie.overlaps, np.concatenate([i, j])), (lie.twins, np.concatenate([i[twin], j[twin]]))):
            count += (sign * np.bincount(of, minlength=n)).astype(np.int32)
    shortened = np.zeros(n, bool)
    kernels.drop_partners(moved, lie.over_with, lie.over_area, lie.over_at, shortened)
    # A list that left somebody out and lost a partner is made anew; lists that held all of them are whole without it.
    again = np.flatnonzero(shortened & ~moved & (old.overlaps > lie.over_with.shape[1]))
    for part in (which, again):
        lie.over_with[part], lie.over_area[part], lie.over_at[part] = -1, 0.0, 0.0
    fresh = np.zeros(n, bool)
    fresh[again] = True
    _add_overlaps(lie, after, *found, into=~fresh)
    if len(again):
        _add_overlaps(lie, after, *_sharing(after, again), into=fresh)


def _near_again(lie: Lie, old: Lie, m: Measure, moved: NDArray[np.bool_]) -> None:
    """The near lists of `lie`, which are still those of before, where islands `moved` (n,)."""
    n = lie.count
    buried = lie.buried
    changed = moved | (buried != old.buried)
    which = np.flatnonzero(changed)
    shortened = np.zeros(n, bool)
    kernels.drop_partners(changed, lie.near_with, lie.near_gap, lie.near_at, shortened)
    again = (shortened & ~changed).nonzero()[0]
    for part in (which, again):
        lie.near_with[part], lie.near_gap[part], lie.near_at[part] = -1, 0.0, 0.0
    fresh = np.zeros(n, bool)
    fresh[again] = True
    open_ = m.here[~buried[m.here]]
    reach = lists(n)[2]
    for part, into in ((np.intersect1d(which, open_), ~fresh), (np.intersect1d(again, open_), fresh)):
        if not len(part):
            continue
        i, j = m.candidates(part, open_, reach)
        m.place(np.unique(np.concatenate([part, i, j])))
        for i, j, gap, at in m.neighbours(part, open_, reach):
            a, b, v, p = _both_ways(i, j, gap, at)
            use = into[a]
            _insert(lie.near_with, lie.near_gap, lie.near_at, a[use], b[use], v[use], p[use])


def twin_pairs(shapes: IslandShapes, lie: Lie, rows: Floats, which: Whole) -> Whole:
    """All pairs (k, 2) among the islands `which` that cover the same texels.

    Parameters
    ----------
    rows : (n, 5) similarities; which : (k,) numbers of islands

    Returns
    -------
    (m, 2) numbers of islands
    """
    m = Measure(shapes, rows, lie.sheet, lie.box, lambda: False)
    mine = np.intersect1d(which, m.here)
    m.place(mine)
    out = [np.zeros((0, 2), np.int64)]
    for i, j, area, _ in m.overlapping(mine, mine):
        twin = is_twin(area, m.area[i], m.area[j])
        out.append(np.column_stack([i[twin], j[twin]]))
    return np.concatenate(out)
