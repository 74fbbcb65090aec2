"""The constructive phase: greedy passes in several orders, on ever finer grids, in ever narrower tiles."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

from .compact import State
from .fields import Ints
from .orders import DrawnOrders
from .passes import EFFORT, Passes
from .raster import Raster
from .search import Search
from .shapes import BASE
from .tiled import TiledOrders

_HEAP = 3000  # above that a pass takes so long that one order must do
_SHARE_TILES = 0.3  # of the seconds, with several tiles, whose passes take longer
_SHARE = 0.2  # of the seconds; the search of overlaps gains more with the rest than further orders do


class Construct(Passes):
    """Greedy layouts offered to a search."""

    def __init__(self, search: Search) -> None:
        super().__init__(search)
        self.found: State | None = None
        self.starts: list[State] = []
        self.needed = 0.0  # the side that a pass came out with when its grid was made for a smaller one

    def squeeze(self, raster: Raster, order: Ints, width: int, tries: int, top_side: float) -> float:
        """Passes over one strip of ever better width; returns the least side, infinite for none."""
        s, least = self.search, math.inf
        for _ in range(tries):
            if self.late():
                break
            found = self.strip(raster, order, width, 3 * width + int(raster.size.max()))
            s.passes += 1
            if found.stopped:
                break
            if found.lost:
                width = max(int(width * 1.2) + 1, int(raster.size.min(axis=1).max()))
                continue
            side = self.side_of(raster, max(width, found.top))
            if side < least and side <= top_side:
                least = side
                self.take(self.state(raster, found, side))
            mean = int(math.sqrt(width * found.top))
            if self.side_of(raster, mean) > 1.02 * top_side:
                # The padding of this grid is too narrow for the tile that would be needed.
                self.needed = self.side_of(raster, mean)
                break
            width = mean if mean != width else width - 1
        return least

    def fill(self, raster: Raster, order: Ints, side: float, top_side: float) -> float:
        """The side of several tiles, or of one with held islands, by bisection from a guess; the least that held everything."""
        s, low, least = self.search, 0.0, math.inf
        while side <= top_side and not (s.best is not None and s.over()):
            found = self.one_pass(raster, order, side)
            if found.stopped:
                break
            if found.lost:
                low = side
            else:
                least = side
                self.take(self.state(raster, found, side))
            if least - low < 1.5 * raster.cell:
                break
            side = side * 1.07 if least == math.inf else max(0.5 * (low + least), 0.95 * least)
        return least

    def take(self, state: State) -> None:
        """Keep a state that is the best as it is; the compaction waits until an order is through."""
        s = self.search
        if (s.best is None or state.side < s.best.side * (1 - 1e-6)) and s.proven(state):
            s.keep(state)
        if (self.found is None or state.side < self.found.side) and (s.best is None or state.side < 1.03 * s.best.side):
            self.found = state

    def run(self, resolution: int, last: bool = True) -> bool:
        """All orders on one grid; the first layout at all is made here. Returns whether there is one.

        Many islands are only placed, in one order, on all grids but the `last`, to lose no time.
        """
        s = self.search
        guess, least = self.guess()
        if s.best is not None:
            guess = s.best.side
        single = last and s.best is not None and self.plain()
        if single and self.many and self.shapes.count <= _HEAP:
            self.side_by_side(resolution)
        elif single and not self.many:
            self.starts += DrawnOrders(self, resolution).run(_SHARE)
        elif last and s.best is not None and not self.many:
            if len(s.frame.ratio) > 1:
                self.in_turn(resolution, guess, least, 3)
            self.starts += TiledOrders(self, resolution).run(_SHARE if len(s.frame.ratio) == 1 else _SHARE_TILES)
        else:
            self.in_turn(resolution, guess, least, 3 if last or not self.many else 1)
        if s.best is not None and last and self.many:
            self.compact(s.best, *EFFORT)
        return s.best is not None

    def in_turn(self, resolution: int, guess: float, least: float, tries: int) -> None:
        """The orders one after the other; until there is any layout, in ever larger tiles."""
        s = self.search
        for _ in range(8):
            top_side = max(guess * (1.15 if s.best is not None else 1.3), least * 1.02)
            if s.hold is not None and s.best is None:
                guess = max(guess, s.hold)
            raster = self.raster(guess * float(s.frame.ratio.max()) / resolution, top_side)
            for number, order in enumerate(self.orders()[: 1 if self.many else None]):
                if s.best is not None and (s.over() or (number and s.spent() > _SHARE)):
                    break
                if s.best is None and (number or s.stop[0] != 0):
                    break
                self.attempt(raster, order, guess, top_side, tries)
                if self.found is not None:
                    self.starts.append(self.found)
                    if not self.many:
                        self.compact(self.found)
                self.found = None
            if s.best is not None or s.stop[0] != 0:
                break
            guess = max(guess * 1.3, self.needed * 1.1)

    def side_by_side(self, resolution: int) -> None:
        """Two orders at a time with an eye for small gaps, each in ever better widths on loose grids for the best side that it came to."""
        self.hint = "fine"
        by_sum, by_area, by_length, by_box = self.orders()
        with ThreadPoolExecutor(2) as pool:
            for pair in ((by_box, by_sum), (by_length, by_area)):
                if self.late():
                    return
                assert self.search.best is not None
                side = self.search.best.side
                # Kept in the order of the pair, whichever is ready first: bounded by passes, a result must repeat.
                for passes, state in pool.map(lambda order, side=side: self.narrow(order, resolution, side), pair):  # type: ignore[misc]
                    self.search.passes += passes
                    self.mend(state)

    def narrow(self, order: Ints, resolution: int, side: float) -> tuple[int, State | None]:
        """Up to four passes of one order over strips of ever better width: how many, and the best layout, for the compaction to mend."""
        s, aim = self.search, self.guess()[0]
        timed = s.recipe.passes is None
        best: State | None = None
        for done in range(4):
            if s.stop[0] != 0 or (timed and done and self.late()):
                return done, best
            side = min(side, aim * 1.02)
            raster = self.loose(side / resolution, side)
            width = max(int(self.cells(raster, min(aim, 0.99 * side))[0]), int(raster.size.min(axis=1).max()))
            found = self.strip(raster, order, width, 3 * width)
            if found.stopped or found.lost:
                return done, best
            aim, reached = self.side_of(raster, int(math.sqrt(width * found.top))), self.side_of(raster, max(width, found.top))
            if best is None or reached < best.side:
                best = self.state(raster, found, reached)
        return 4, best

    def compact(self, state: State, steps: int | None = None, reach: float = 3.0) -> None:
        """Offer a layout for compaction unless nobody waits for it."""
        if self.search.stop[0] == 0 and not self.search.done():
            self.search.offer(state, 1.0, steps, reach)

    def attempt(self, raster: Raster, order: Ints, guess: float, top_side: float, tries: int) -> None:
        """One order: the held density first where one is asked for, then the narrowest tile."""
        s = self.search
        if s.hold is not None:
            found = self.one_pass(raster, order, s.hold) if s.hold < BASE * 1e4 else None
            if found is not None and not found.lost and not found.stopped:
                self.take(self.state(raster, found, s.hold))
                return
        if s.best is not None:
            guess = min(guess, s.best.side)
        if self.plain():
            cells = max(int(self.cells(raster, guess)[0]), int(raster.size.min(axis=1).max()))
            self.squeeze(raster, order, cells, tries, top_side)
        else:
            self.fill(raster, order, guess, top_side if s.best is None else s.best.side * 1.01)

    def disturb(self, seconds_left: float) -> None:
        """Orders with a few swaps, kept when they win: what is left for heaps too large for the search of overlaps."""
        s = self.search
        assert s.best is not None
        raster = self.raster(s.best.side / (1024 if self.shapes.count <= 6000 else 2048), s.best.side * 1.02)
        order = self.orders()[0]
        n = len(order)
        while n > 1 and not s.over():
            trial = order.copy()
            for _ in range(1 + int(s.random.integers(0, max(2, n // 8)))):
                a = int(n * s.random.random() ** 2)
                b = min(n - 1, max(0, a + int(s.random.integers(-n // 4 - 1, n // 4 + 2))))
                trial[a], trial[b] = trial[b], trial[a]
            found = self.one_pass(raster, trial, s.best.side)
            if found.stopped:
                return
            if not found.lost:
                order = trial
                self.squeeze_tile(raster, order)

    def squeeze_tile(self, raster: Raster, order: Ints) -> None:
        """An order that fits the best tile, in ever smaller ones."""
        s = self.search
        while s.best is not None and not s.over():
            side = s.best.side * 0.998
            found = self.one_pass(raster, order, side)
            if found.lost or found.stopped or not s.offer(self.state(raster, found, side)):
                return
