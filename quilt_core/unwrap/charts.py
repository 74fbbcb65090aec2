"""Where a surface is cut: charts that lie flat within an allowed stretch, with seams where they hurt least.

Cells (polygons, which are never cut) are merged while their normals fit a cone; what does not lie flat is slit or split; then charts are joined for as long as
they still lie flat, each union tried by really flattening it. Large surfaces are decided on a simpler copy. The constants were measured (`docs/mending.md`).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from .dividing import divided
from .flatten import Flat
from .joining import joined
from .mirror import Mirror, mirror_of, mirrored_seams
from .parts import allowed_edges, defects, part_of, seam_cost
from .regions import between_lines, regions_of, seams_between
from .shorter import smoothed
from .simpler import drawn, simpler
from .threads import Stop, side_by_side
from .topology import Borders, Cut, Mask, Numbers, Surface
from .trial import Tell, Wish, judge, laid, laid_again

_FINAL = 0.94  # of NEARLY_ALL, once the charts are decided
_FOLDED = np.radians(150)  # two-sided sheets: always seams
_CONE, _CONE_LATER = 0.18, 0.75  # least eigenvalue of the normals' covariance above which a union is not tried
_COARSE = 12.0  # of the first guess by merging: it begins with few regions
_LARGE, _COPY = 8_000, 4_000  # faces from which charts are decided on a simpler copy, and of how many
_TWO_WAYS = 20_000  # faces above which one way has to do
_MOST = 40_000  # faces that a chart may have that is decided on a copy
_HUGE = 100_000  # faces: above, a few last steps have to do
_MANY, _TIP, _OFTEN = (
    1000,
    0.3,
    0.2,
)  # faces; radians that the angles about a point lack to a full turn or have beyond it; share of points of each kind
_CRUMB = 0.002  # of the area: a chart that was decided on a copy and is smaller is tried with its neighbours once more


def charts_of(s: Surface, wish: Wish, stop: Stop = lambda: False, tell: Tell = lambda _: None) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """The seams (3 F,) under which a surface lies flat, within the stretch that is wished; and how it lies then.

    Raises
    ------
    Cancelled : it was stopped
    """
    may = allowed_edges(s, wish.cell)
    must = (wish.must | ((np.abs(s.bend) > _FOLDED) & (s.twin >= 0))) & may
    wish = replace(wish, must=must)
    if not (may & ~must).any():
        return _finished(s, must, wish, stop, tell)  # nothing hangs together that could be parted
    mirror = mirror_of(s, wish.cell) if wish.alike else None
    if mirror is not None:
        return _by_half(s, wish, mirror, stop, tell)
    if len(s.faces) > _LARGE:
        return _by_simpler(s, wish, may, stop, tell)
    return _best_way(s, wish, stop, tell)


def _by_half(s: Surface, wish: Wish, mirror: Mirror, stop: Stop, tell: Tell) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """Charts that are decided on one half, and are the same on the other; only what mirrors each other is joined across the plane."""
    half, h = part_of(s, np.flatnonzero(mirror.first))
    one = replace(wish, must=wish.must[h] & (half.twin >= 0), cell=mirror.cell[mirror.first], alike=False)
    seam = np.zeros(len(s.twin), bool)
    seam[h] = charts_of(half, one, stop, tell)[0]
    seam = mirrored_seams(s, mirror, seam) | wish.must
    tell("Joining the halves")
    seam = joined(s, seam, wish, stop, _CONE_LATER, tell, image=mirror.face)
    return _finished(s, seam, wish, stop, tell)


def _best_way(s: Surface, wish: Wish, stop: Stop, tell: Tell) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """Charts from the first guess that leads to the cheapest seams: regions between feature lines, or such as fit cones. Neither is better everywhere. A crumpled
    surface has no lines and no large pieces that lie flat: there a plain result is had for a fraction of the time. Nor are both tried on a very large one, such as
    a copy that could not be made simpler."""
    if _is_crumpled(s) or len(s.faces) > _TWO_WAYS:
        tell("Looking for charts")
        seam = divided(s, seams_between(s, regions_of(s, wish, _COARSE), wish.must), wish, stop)
        return _finished(s, joined(s, seam, wish, stop, _CONE, tell), wish, stop, tell)
    found = side_by_side(
        [
            lambda stop: _one_way(s, wish, between_lines(s, wish), stop, tell),
            lambda stop: _one_way(s, wish, regions_of(s, wish, _COARSE), stop, lambda _: None),
        ],
        stop,
    )
    cost = seam_cost(s)
    dear = [float(cost[seam].sum() / 2) + 0.1 * float(np.sqrt(s.area.sum())) * done[0].charts for seam, done in found]
    return found[int(np.argmin(dear))]


def _is_crumpled(s: Surface) -> bool:
    """Whether tips and saddles lie close by close all over a surface: no piece of it is flat."""
    lacking = defects(s)
    used = np.unique(s.faces)
    return len(s.faces) >= _MANY and min(float((lacking[used] > _TIP).mean()), float((lacking[used] < -_TIP).mean())) > _OFTEN


def _by_simpler(s: Surface, wish: Wish, may: Mask, stop: Stop, tell: Tell) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """Charts that are decided on a copy of fewer faces."""
    tell("Making a simpler copy")
    small = simpler(s, wish.must, _COPY)
    t = small.surface
    most = max(len(t.faces) * _MOST / len(s.faces), 2)
    one = Wish(wish.stretch, np.zeros(len(t.twin), bool), np.arange(len(t.faces)), most)
    on_copy, _ = _best_way(t, one, stop, tell)
    tell("Drawing the seams of the copy")
    seam = (drawn(s, seam_cost(s), may, small, on_copy) & may) | wish.must
    tell("Laying the charts flat")
    # Where seams of the copy could not be drawn charts hang together that are too large to be laid.
    wish = replace(wish, most=2 * _MOST)
    seam = divided(s, seam, wish, stop)
    seam = smoothed(s, seam, wish, stop, False)
    seam = joined(s, seam, wish, stop, _CONE_LATER, tell, _CRUMB)
    return _finished(s, seam, wish, stop, tell)


def _one_way(s: Surface, wish: Wish, label: Numbers, stop: Stop, tell: Tell) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """Charts from one first guess (F,)."""
    tell("Looking for charts")
    seam = divided(s, seams_between(s, label, wish.must), wish, stop)
    for cone in (_CONE, _CONE_LATER):
        seam = smoothed(s, seam, wish, stop)
        seam = joined(s, seam, wish, stop, cone, tell)
    return _finished(s, smoothed(s, seam, wish, stop), wish, stop, tell)


def _finished(s: Surface, seam: Mask, wish: Wish, stop: Stop, tell: Tell) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """The charts laid to the end; what does not keep to the wish then is divided once more."""
    tell("Laying the charts flat")
    done = laid(s, seam, 25 if len(s.faces) < _HUGE else 5, stop)
    good = judge(s, *done, wish, _FINAL).good
    if good.all():
        return seam, done
    faces = np.flatnonzero(~good[done[0].chart])
    seam = divided(s, seam, wish, stop, _FINAL, False, faces)
    return seam, laid_again(s, seam, faces, done, stop)
