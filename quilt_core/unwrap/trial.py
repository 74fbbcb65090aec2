"""Charts laid flat as a trial, and judged: whether they keep to the stretch that is wished, and lie free."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from ..errors import Cancelled
from ..model.scene import Floats
from ..uv.areas import triangle_areas
from .flatten import Flat, flatten
from .parts import outlines, part_of
from .threads import Stop, side_by_side
from .topology import Borders, Cut, Mask, Numbers, Surface, borders, cut

NEARLY_ALL, ALL = 0.97, 0.997  # shares of a chart's area that keep to the stretch, and to twice as much
ALIKE = 0.985  # share of a chart's area whose singular values differ by less than 1.2 times the stretch
LEVEL = 1.1  # ratio of the singular values of a flat side
_HOPE, _FAR, _SLOW = 3, 0.01, 0.002  # after so many steps a chart is given up that lacks so much and gains less in one
_GROUP, _BATCH = 20_000, 100_000  # faces from which charts are laid in groups, and of how many at most
_LONG = 40_000  # faces of a chart: above, it is not laid further where it lies over itself

Tell = Callable[[str], None]


@dataclass(frozen=True)
class Wish:
    """stretch : the greater over the smaller singular value that nearly all of the surface stays under
    must : (3 F,) half-edges that are seams whatever it costs; cell (F,) : polygon of every face
    most : faces that a chart may have: much larger ones take minutes to lay flat
    alike : whether halves that mirror each other are cut alike
    """

    stretch: float
    must: Mask
    cell: Numbers
    most: float = np.inf
    alike: bool = False


@dataclass(frozen=True)
class Judged:
    """Of the charts of a cut (n,): whether each may stay as it is, has no fold and no overlap, keeps to the stretch, hides a corner; and its area over
    its hull's."""

    good: Mask
    sound: Mask
    keeps: Mask
    hides: Mask
    hull: Floats


def laid(s: Surface, seam: Mask, iterations: int, stop: Stop) -> tuple[Cut, Borders, Flat]:
    """A surface cut and flattened.

    Raises
    ------
    Cancelled : it was stopped
    """
    _ask(stop)
    c = cut(s, seam)
    b = borders(s, c, seam)
    n = len(s.faces)
    f = Flat(np.zeros((c.count, 2)), np.zeros(n), np.zeros(n), np.zeros(n, bool))
    _lay(s, seam, c, f, np.ones(c.charts, bool), iterations, stop, fresh=True)
    return c, b, f


def laid_again(s: Surface, seam: Mask, faces: Numbers, done: tuple[Cut, Borders, Flat], stop: Stop) -> tuple[Cut, Borders, Flat]:
    """How a surface lies after the charts of some faces (k,) were cut further: only these are laid, the others lie as they did."""
    c = cut(s, seam)
    before, _, flat = done
    f = Flat(np.zeros((c.count, 2)), flat.greatest.copy(), flat.least.copy(), flat.folded.copy())
    f.uv[c.rows] = flat.uv[before.rows]
    charts = np.zeros(c.charts, bool)
    charts[c.chart[faces]] = True
    _lay(s, seam, c, f, charts, 25, stop, fresh=True)
    return c, borders(s, c, seam), f


def _ask(stop: Stop) -> None:
    if stop():
        raise Cancelled("The unwrapping was stopped. Everything is as it was.")


def tried(s: Surface, seam: Mask, iterations: int, stop: Stop, wish: Wish, share: float = NEARLY_ALL) -> tuple[Cut, Borders, Flat, Judged]:
    """A surface cut, flattened and judged, no further than needed.

    Charts that no map lays flat, or that hide a corner, are not laid at all; those that keep to the stretch are laid no further, those that never will are given
    up; those that keep to it early but overlap themselves are laid to the end, which often frees them.
    """
    _ask(stop)
    c = cut(s, seam)
    b = borders(s, c, seam)
    n = len(s.faces)
    f = Flat(np.zeros((c.count, 2)), np.full(n, np.inf), np.zeros(n), np.ones(n, bool))
    size = np.bincount(c.chart, minlength=c.charts)
    hopeless = 1.1 * 0.5 * (wish.stretch**2 + wish.stretch**-2)
    _lay(
        s, seam, c, f, (b.loops > 0) & (b.genus == 0) & _flat_sides(s, c, b) & (size <= wish.most), iterations, stop, wish, share, hopeless
    )
    found = judge(s, c, b, f, wish, share)
    # Of very large charts each step takes seconds: what lies over itself there is sewn or parted as it lies.
    again = found.keeps & ~found.sound & (size < _LONG)
    if again.any():
        _lay(s, seam, c, f, again, iterations, stop)
        found = judge(s, c, b, f, wish, share)
    return c, b, f, found


def _lay(
    s: Surface, seam: Mask, c: Cut, f: Flat, charts: Mask, iterations: int, stop: Stop, wish: Wish | None = None, share: float = 0.0,
    hopeless: float = np.inf, fresh: bool = False,
) -> None:  # fmt: skip
    """Lay some charts (n,) of a cut, and write how they lie into `f`: from nothing to what is wished, or without a wish from there to the end (from
    nothing where they are `fresh`)."""
    faces = np.flatnonzero(charts[c.chart])
    if not len(faces):
        return
    part, h = part_of(s, faces) if len(faces) < len(s.faces) else (s, np.arange(len(seam)))
    start = f.uv[c.rows[faces]] if wish is None and not fresh else None
    uv, greatest, least, folded = _flat(part, seam[h], iterations, start, stop, wish, share, hopeless)
    f.uv[c.rows[faces]] = uv
    f.greatest[faces], f.least[faces], f.folded[faces] = greatest, least, folded


def _flat(
    part: Surface, seam: Mask, iterations: int, start: Floats | None, stop: Stop, wish: Wish | None = None, share: float = 0.0, hopeless: float = np.inf
) -> tuple[Floats, Floats, Floats, Mask]:  # fmt: skip
    """UVs (F, 3, 2) of all charts of a cut, the singular values (F,) of their maps, and which faces are folded. Many faces are laid in groups of charts, side
    by side: that takes less time, and less memory."""
    own = cut(part, seam)
    if len(part.faces) < _GROUP or own.charts < 2:
        return _flat_at_once(part, own, seam, iterations, start, stop, wish, share, hopeless)
    size = np.bincount(own.chart, minlength=own.charts)
    groups = max(2, -(-len(part.faces) // _BATCH))
    load, group = np.zeros(groups, np.int64), np.zeros(own.charts, np.int64)
    for chart in np.argsort(-size, kind="stable").tolist():
        group[chart] = int(np.argmin(load))
        load[group[chart]] += size[chart]
    mine = [np.flatnonzero(group[own.chart] == k) for k in range(groups) if load[k]]

    def one(faces: Numbers, ask: Stop) -> tuple[Floats, Floats, Floats, Mask]:
        sub, h = part_of(part, faces)
        begin = None if start is None else start[faces]
        return _flat_at_once(sub, cut(sub, seam[h]), seam[h], iterations, begin, ask, wish, share, hopeless)

    found = side_by_side([lambda ask, faces=faces: one(faces, ask) for faces in mine], stop)  # type: ignore[misc]
    back = np.argsort(np.concatenate(mine), kind="stable")
    uv, greatest, least, folded = (np.concatenate([x[k] for x in found])[back] for k in range(4))
    return uv, greatest, least, folded


def _flat_at_once(
    part: Surface, own: Cut, seam: Mask, iterations: int, start: Floats | None, stop: Stop, wish: Wish | None, share: float, hopeless: float
) -> tuple[Floats, Floats, Floats, Mask]:  # fmt: skip
    turn, last = 0, np.zeros(own.charts)

    def until(greatest: Floats, least: Floats) -> Mask:
        nonlocal turn, last
        turn += 1
        level, near = _keeps(part, own, greatest, least, wish.stretch if wish else 1.0, share)
        stuck = (turn > _HOPE) & (near < share - _FAR) & (near - last < _SLOW)
        last = near
        return level | stuck

    begin = None
    if start is not None:
        begin = np.empty((own.count, 2))
        begin[own.rows] = start
    found = flatten(part, own, borders(part, own, seam), iterations, begin, stop, hopeless, until=None if wish is None else until)
    return found.uv[own.rows], found.greatest, found.least, found.folded


def _keeps(s: Surface, c: Cut, greatest: Floats, least: Floats, stretch: float, share: float) -> tuple[Mask, Floats]:
    """Charts (n,) of whose area a `share` keeps to the stretch, nearly all to twice as much, and nearly all has singular values that differ by less than a
    fifth more, and whose flat sides are not stretched; and the share that keeps to it."""
    area = np.maximum(np.bincount(c.chart, s.area, c.charts), 1e-300)
    with np.errstate(divide="ignore", invalid="ignore"):
        upon = np.where(least > 0, 1 / np.maximum(least, 1e-300), np.inf)
        worst, ratio = np.maximum(greatest, upon), greatest * upon

    def part(good: Mask) -> Floats:
        return np.asarray(np.bincount(c.chart, s.area * good, c.charts) / area)

    level = np.ones(c.charts, bool) if s.flat is None else part(s.flat & (ratio > LEVEL)) <= (1 - share) * part(s.flat)
    near = part(worst <= stretch)
    return level & (near >= share) & (part(worst <= 2 * stretch) >= ALL) & (part(ratio <= 1.2 * stretch) >= ALIKE), near


def _flat_sides(s: Surface, c: Cut, b: Borders) -> Mask:
    """(n,) charts that hide no corner."""
    if s.corner is None:
        return np.ones(c.charts, bool)
    hidden = s.corner[c.point]
    hidden[c.rows.reshape(-1)[b.edges]] = False
    return np.bincount(c.chart_of_row, hidden, c.charts) == 0


def judge(s: Surface, c: Cut, b: Borders, f: Flat, wish: Wish, share: float = NEARLY_ALL) -> Judged:
    """Which charts may stay as they are."""
    tiny = np.bincount(c.chart, s.area, c.charts) < 1e-7 * s.area.sum()
    whole = (np.bincount(c.chart, f.folded, c.charts) == 0) & (b.loops > 0) & (b.genus == 0)
    regions = outlines(c, b, f.uv)
    # Borders that do not cross are not enough: a hole may be turned inside out. Then the triangles have more area than the region.
    covered = np.bincount(c.chart, triangle_areas(f.uv, c.rows), c.charts)
    once = np.abs(shapely.area(regions) - covered) <= 1e-9 * covered
    sound = whole & once & shapely.is_valid(regions)
    hull = shapely.area(regions) / np.maximum(shapely.area(shapely.convex_hull(regions)), 1e-300)
    flat = _flat_sides(s, c, b)
    small = np.bincount(c.chart, minlength=c.charts) <= wish.most
    keeps = whole & small & ((_keeps(s, c, f.greatest, f.least, wish.stretch, share)[0] & flat) | tiny)
    return Judged(sound & keeps, sound, keeps, ~flat, hull)
