"""How islands lie of which many are of one shape in one place: each place is measured once, whatever lies there.

A tree of 18,000 islands whose leaves lie on each other has more pairs than can be looked at, and few places. What is told of the islands is the same, bit for bit,
as if every pair had been asked: of two islands the one with the lower number comes first, so both orders are asked of two places.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from . import kernels
from .shapes import IslandShapes, Whole

_LEAST = 500  # islands; of fewer all pairs are asked
MOST_ROWS = 30_000_000  # islands of a place with each place that it meets: above, all pairs are asked as far as that goes


@dataclass(frozen=True)
class Places:
    """Places of islands, numbered as their first islands are. `islands` (k,): all of them, place by place, in each by number; `starts` (p + 1,)."""

    islands: Whole
    starts: Whole

    @property
    def first(self) -> Whole:
        """The island (p,) that stands for each."""
        return self.islands[self.starts[:-1]]

    @property
    def size(self) -> Whole:
        """How many islands (p,) each has."""
        return np.diff(self.starts)

    def only(self, keep: NDArray[np.bool_]) -> Places:
        """The places with only those of their islands that are kept (n,)."""
        of = np.repeat(np.arange(len(self.size)), self.size)
        mine = keep[self.islands]
        size = np.bincount(of[mine], minlength=len(self.size))
        return Places(self.islands[mine], np.r_[0, np.cumsum(size[size > 0])])


def places_of(shapes: IslandShapes, rows: Floats, sheet: Whole, here: Whole) -> Places | None:
    """The places of the islands `here` (k,); None where they are hardly fewer than the islands.

    Islands are in one place where their pieces, outlines and rows are equal to the bit, and their sheet is one.
    """
    if len(here) < _LEAST:
        return None
    found: dict[tuple[Any, ...], list[int]] = {}
    t, s = shapes.first_triangle, shapes.first_segment
    for i in here.tolist():
        key = (int(sheet[i]), rows[i].tobytes(), shapes.triangles[t[i] : t[i + 1]].tobytes(), shapes.segments[s[i] : s[i + 1]].tobytes())
        found.setdefault(key, []).append(i)
    if 2 * len(found) > len(here):
        return None
    return Places(np.array([i for v in found.values() for i in v], np.int64), np.r_[0, np.cumsum([len(v) for v in found.values()])])


@dataclass(frozen=True)
class Met:
    """Pairs of places (k,), (k,), also of places with themselves; `forth` and `back`: value (k,) and place (k, 2) for islands of the first that come before
    islands of the second, and the other way round; NaN values do not count."""

    p: Whole
    q: Whole
    forth: tuple[Floats, NDArray[np.float32]]
    back: tuple[Floats, NDArray[np.float32]]

    def rows(self, places: Places) -> int:
        """Islands of each place with each one that it meets."""
        size, apart = places.size, self.p != self.q
        return int(size[self.p].sum() + size[self.q[apart]].sum())


def told(
    places: Places, met: Met, count: Callable[[Whole, Whole, Whole, Whole, bool], None] | None, lists: tuple[Any, Any, Any], n: int
) -> None:
    """Put what is known of places into the counts and short lists of their islands.

    Parameters
    ----------
    count : gets islands (r,), how many of the other place come before and after each, the number in `met` of the pair that each is of, and whether that is
        turned: the islands are of its second place
    lists : partner (n, D), best (n, D), place (n, D, 2), see `kernels.insert_best`
    """
    partner, best, at = lists
    keys = np.repeat(np.arange(len(places.size)), places.size) * n + places.islands
    for turned in (False, True):
        # A place with itself has its islands on both sides already.
        pair = np.flatnonzero(met.p != met.q) if turned else np.arange(len(met.p))
        mine, other = (met.q[pair], met.p[pair]) if turned else (met.p[pair], met.q[pair])
        size = places.size[mine]
        pair = np.repeat(pair, size)
        a = places.islands[np.repeat(places.starts[mine] - np.cumsum(size) + size, size) + np.arange(int(size.sum()))]
        q = np.repeat(other, size)
        before = np.searchsorted(keys, q * n + a) - places.starts[q]
        own = (met.p[pair] == met.q[pair]).astype(np.int64)
        after = places.size[q] - before - own
        # An island of the place that is asked comes first in `forth`, unless the pair is turned.
        ahead, behind = (met.back, met.forth) if turned else (met.forth, met.back)
        if count is not None:
            count(a, before, after, pair, turned)
        for d in range(partner.shape[1]):
            for number, skip, (value, where) in ((before, 0, behind), (after, before + own, ahead)):
                use = (d < number) & ~np.isnan(value[pair])
                b = places.islands[(places.starts[q] + skip + d)[use]]
                kernels.insert_best(a[use], b, value[pair][use], where[pair][use], partner, best, at)
