"""Greedy passes into several tiles, or around held islands: there is no strip to cut, so the side is set and the order must suit it.

Islands that found no place go earlier the next time ("squeaky wheel" optimisation, Joslin and Clements 1999; from memory), and weigh more the
oftener they are left out, so that no trap holds for long.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .compact import State
from .fields import Ints
from .greedy import Placement
from .orders import CROP, DrawnOrders
from .passes import Passes
from .raster import Raster

_KEPT, _PARENTS = 12, 8
_BLAME = 0.3  # what an island's weight gains each time that it is left out
_FORWARD = 0.6  # of the new orders move what was left out; the others are shuffled a little
_SHUFFLES = (0.02, 0.06, 0.15)  # of the number of islands
_STEP, _LONGEST, _SHORTEST = 0.05, 0.08, 0.002  # of the side
_STEP_TILES = 0.01
_PATIENCE = 3  # crops without a layout until the step gets shorter
_STARTS = 4


class Tried(NamedTuple):
    """An order, what found no place in it (numbers in the order's own list), and the layout, with the others lying anywhere."""

    order: Ints
    lost: Ints
    state: State


class TiledOrders:
    """Orders for tiles of a set side, which shrinks with every layout that holds everything."""

    def __init__(self, passes: Passes, resolution: int) -> None:
        self.passes, self.search, self.resolution = passes, passes.search, resolution
        self.drawn = DrawnOrders(passes, resolution)
        self.random = np.random.default_rng(self.search.recipe.seed)
        self.weight = passes.shapes.area.copy()
        # In several tiles long steps only share the long islands out anew, and worse.
        self.step = _STEP if len(self.search.frame.ratio) == 1 else _STEP_TILES
        self.tried: list[Tried] = []

    def run(self, share: float) -> list[State]:
        """Until a share of the budget is used up; the best is offered for compaction. Returns layouts for the search of overlaps to start
        from: they may leave islands lying over others."""
        s, c, fruitless = self.search, self.passes, 0
        orders = [self.drawn.order(key) for key in self.drawn.first()]
        with ThreadPoolExecutor(2) as pool:
            while not s.over():
                side = self.side()
                # As many cells in all as one tile would have.
                raster = c.loose(side * float(np.sqrt((s.frame.ratio**2).sum())) / self.resolution, side)
                found = list(pool.map(lambda order, r=raster, w=side: c.tiles(r, order, w), orders))  # type: ignore[misc]
                s.passes += len(found)
                if self.sift(raster, side, orders, found):
                    fruitless, self.step = 0, min(_LONGEST, self.step * 1.5)
                else:
                    fruitless += 1
                    if fruitless % _PATIENCE == 0:
                        self.step = max(_SHORTEST, self.step * 0.6)
                if s.share() > share:
                    break
                orders = [self.next(k) for k in range(CROP)]
        return [t.state for t in self.tried[:_STARTS]]

    def side(self) -> float:
        """The side to try: a step below the best, but not below a held density's."""
        s = self.search
        assert s.best is not None
        side = s.best.side * (1 - self.step)
        return side if s.hold is None else max(side, s.hold)

    def sift(self, raster: Raster, side: float, orders: list[Ints], found: list[Placement]) -> bool:
        """Keep the orders that left out the least; whether one left out nothing."""
        done = False
        for order, placement in zip(orders, found, strict=True):
            if placement.stopped:
                break
            lost = order[placement.tile[order] < 0]
            if not len(lost) and not done:
                done = self.passes.mend(self.passes.state(raster, placement, side))
            self.weight[lost] += _BLAME * self.passes.shapes.area[lost]
            self.tried.append(Tried(order, lost, self.scattered(raster, placement, side, lost)))
        self.tried = sorted(self.tried, key=lambda t: self.short_of(t, side))[:_KEPT]
        return done

    def short_of(self, tried: Tried, side: float) -> float:
        """By how much an order is short of filling tiles of a side: the weights of what it left out, and by how much its own were larger."""
        larger = max(0.0, (tried.state.side / side) ** 2 - 1)
        return float(self.weight[tried.lost].sum() + larger * self.passes.shapes.area[self.search.free].sum())

    def scattered(self, raster: Raster, placement: Placement, side: float, lost: NDArray[np.int64]) -> State:
        """A placement as a state, with the islands that found no place lying anywhere."""
        ratio = self.search.frame.ratio
        placement.tile[lost] = self.random.integers(len(ratio), size=len(lost))
        state = self.passes.state(raster, placement, side)
        state.at[lost] = self.random.random((len(lost), 2)) * (side * ratio[placement.tile[lost]])[:, None]
        return state

    def next(self, number: int) -> Ints:
        """An order near one of the best, now and then a fresh one."""
        if number == 0 or not self.tried:
            return self.drawn.order(self.drawn.fresh(int(self.random.integers(CROP))))
        parent = self.tried[int(self.random.random() ** 2 * min(_PARENTS, len(self.tried)))]
        order = parent.order
        if len(parent.lost) and self.random.random() < _FORWARD:
            for i in parent.lost:
                place = int(np.flatnonzero(order == i)[0])
                order = np.insert(np.delete(order, place), int(place * self.random.random()), i)
            return order
        spread = self.random.choice(_SHUFFLES) * len(order)
        return order[np.argsort(np.arange(len(order)) + self.random.normal(size=len(order)) * spread, kind="stable")]
