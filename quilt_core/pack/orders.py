"""Drawn orders for the greedy passes: which island goes first decides most, and no one measure of large is best for every set."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from .compact import State
from .passes import Passes
from .raster import Raster

CROP = 8  # orders drawn and placed before the next ones are drawn from the best of them
_PARENTS = 3
_KEPT = 6  # layouts that the search may start from
_TRIES = 2  # widths for an order
_NOISES = (0.0, 0.05, 0.2)  # of the logarithm of a size


class DrawnOrders:
    """Orders by mixed measures with a little noise, the best ones varied further, for a share of the budget.

    An order is kept as its key: the logarithm of a size for each free island, the greatest first.
    """

    def __init__(self, passes: Passes, resolution: int) -> None:
        self.passes, self.search, self.resolution = passes, passes.search, resolution
        self.random = np.random.default_rng(self.search.recipe.seed)
        self.measures: Floats = np.log(np.maximum(passes.measures(), 1e-12))
        self.found: list[tuple[float, Floats, State]] = []
        self.shown: list[State] = []

    def run(self, share: float) -> list[State]:
        """Draw until a share of the budget is used up; the best layouts, best first, whose gaps may fall a little short. The compaction
        mends the best of each crop, so that whoever watches sees them."""
        keys = self.first()
        with ThreadPoolExecutor(2) as pool:
            while not self.search.over():
                raster, width = self.grid()
                crop = pool.map(lambda key, r=raster, w=width: self.place(r, key, w), keys)  # type: ignore[misc]
                self.found += [f for f in crop if f is not None]
                self.search.passes += _TRIES * len(keys)
                self.found = sorted(self.found, key=lambda f: f[0])[:_KEPT]
                self.show(0)
                if self.search.share() > share:
                    break
                keys = [self.varied() if self.found and k % 2 else self.fresh(k) for k in range(CROP)]
        self.show(1)
        return [state for _, _, state in self.found]

    def first(self) -> list[Floats]:
        """The keys of a first crop: the four measures, and mixtures."""
        return [*self.measures.T[:4], *(self.fresh(k) for k in range(CROP - 4))]

    def show(self, number: int) -> None:
        """Let the compaction mend one of the best, once."""
        state = self.found[number][2] if number < len(self.found) else None
        if state is not None and not any(state is s for s in self.shown):
            self.shown.append(state)
            self.passes.mend(state)

    def fresh(self, number: int) -> Floats:
        """A key of measures in a drawn mixture."""
        weights = np.square(self.random.random(len(self.measures.T)))
        noise = self.random.normal(size=len(self.measures)) * _NOISES[number % len(_NOISES)]
        return self.measures @ (weights / weights.sum()) + noise

    def varied(self) -> Floats:
        """A key near one of the best."""
        key = self.found[int(self.random.integers(min(_PARENTS, len(self.found))))][1]
        return key + self.random.normal(size=len(key)) * _NOISES[1 + int(self.random.integers(len(_NOISES) - 1))]

    def grid(self) -> tuple[Raster, int]:
        """A grid made for the best side so far, and the width to try first."""
        s, c = self.search, self.passes
        assert s.best is not None
        side = min(s.best.side, self.found[0][0] if self.found else math.inf) * 1.02
        raster = c.loose(side / self.resolution, side)
        return raster, max(int(c.cells(raster, 0.97 * side)[0]), int(raster.size.min(axis=1).max()))

    def place(self, raster: Raster, key: Floats, width: int) -> tuple[float, Floats, State] | None:
        """The best layout of one order, if any."""
        c, order = self.passes, self.order(key)
        best: tuple[float, Floats, State] | None = None
        for _ in range(_TRIES):
            found = c.strip(raster, order, width, 3 * width)
            if found.stopped or found.lost:
                break
            side = c.side_of(raster, max(width, found.top))
            if best is None or side < best[0]:
                best = (side, key, c.state(raster, found, side))
            width = int(math.sqrt(width * found.top))
        return best

    def order(self, key: Floats) -> NDArray[np.int64]:
        """The free islands, greatest key first."""
        return self.search.free[np.argsort(-key, kind="stable")]
