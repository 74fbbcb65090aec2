"""Single greedy passes over grids, and what all orders of them share: sides that are likely, rooms that held islands take, layouts that come out."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from .compact import State
from .fields import Ints
from .greedy import Held, Hint, Placement, place
from .raster import Raster, pose_list
from .search import Search

_LONG = 0.6  # of the likely side
_MANY = 400  # islands; above that passes remember where the last of a size went
_LATEST = 0.3  # of the seconds; with many islands no pass begins later
EFFORT = (1, 0.35)  # steps and reach of the compaction of many islands, where more would take seconds and gain little
_MEND = 1.03  # how much larger a tile may become when the gaps of a loose grid are mended
_REACH = 2.0  # of the compaction where short shifts do not mend a layout


class Passes:
    """Greedy passes for a search."""

    def __init__(self, search: Search) -> None:
        self.search, self.shapes = search, search.shapes
        # Steps of 90 degrees, and of 45 where the recipe has no others; a long island that turns freely may need its diagonal.
        poses = self.shapes.allowed[:, self.shapes.mirror > 0].sum(axis=1)
        long = self.shapes.diameter > _LONG * self.guess()[0]
        self.poses = pose_list(self.shapes, np.where((poses == 8) | ((poses > 8) & long), 8, np.minimum(poses, 4)))
        self.many = self.shapes.count > _MANY
        self.hint: Hint = "rough" if self.many else None

    def raster(self, cell: float, side: float) -> Raster:
        """A grid for tiles of at most `side`: the padding grows with it."""
        return Raster(self.shapes, cell, self.search.gaps.pad(side), self.poses)

    def loose(self, cell: float, side: float) -> Raster:
        """A grid on which islands may come a cell too near to each other: the compaction or the search of overlaps mends that."""
        return Raster(self.shapes, cell, max(0.0, self.search.gaps.pad(side) - cell), self.poses)

    def measures(self) -> NDArray[np.float64]:
        """How large each free island is, by five measures (n, 5): half the perimeter of its box, area, longest side, area of its box, shortest side."""
        free = self.search.free
        size = (self.shapes.extent[:, 0, 2:] - self.shapes.extent[:, 0, :2])[free]
        return np.column_stack([size.sum(axis=1), self.shapes.area[free], size.max(axis=1), size.prod(axis=1), size.min(axis=1)])

    def orders(self) -> list[Ints]:
        """Largest first, by the first four measures: where there are holes the order matters most."""
        return [self.search.free[np.argsort(-key, kind="stable")] for key in self.measures().T[:4]]

    def guess(self) -> tuple[float, float]:
        """A side at which a first pass is likely to fit, and the least that any could."""
        s, sh = self.search, self.shapes
        share = float((s.frame.ratio**2).sum())
        area, size = sh.area[s.free], (sh.extent[:, 0, 2:] - sh.extent[:, 0, :2]).sum(axis=1)[s.free]
        held = float((sh.area * s.frame.factor**2)[s.frame.held].sum()) / sh.scale**2 / share if s.hold is None else 0.0
        least = sh.least_side() / float(s.frame.ratio.max())
        room = max(0.05, 1.0 - held)
        side = max(math.sqrt(float(area.sum()) / share / 0.72 / room), least * 1.01)
        if sh.count <= 200:
            return side, least
        # Each island also takes about half the padding around it: with thousands of small ones that is most of the tile.
        for _ in range(12):
            pad = s.gaps.pad(side)
            side = max(side, min(side * 1.5, math.sqrt(float((area + size * pad + pad * pad).sum()) / share / 0.95 / room)))
        return side, least

    def cells(self, raster: Raster, side: float) -> Ints:
        """Cells of every tile inside its margin."""
        s = self.search
        return np.maximum(1, ((side * s.frame.ratio - 2 * s.gaps.margin(side)) / raster.cell).astype(np.int64))

    def held(self, raster: Raster, side: float) -> list[Held]:
        """What held islands take of tiles of this side."""
        s = self.search
        out: list[Held] = []
        held = np.flatnonzero(s.frame.held)
        if not len(held):
            return out
        x, y = self.shapes.along(np.zeros(self.shapes.count, np.int64))
        size, at, margin = s.frame.size(side), self.held_at(side), s.gaps.margin(side)
        for i in held:
            a, b = self.shapes.first[i], self.shapes.first[i + 1]
            outline = np.column_stack([at[i, 0] + size[i] * x[a:b], at[i, 1] + size[i] * y[a:b]]) - margin
            out.append(Held(int(s.held_tile[i]), raster.touched_by(outline, int(i))))
        return out

    def held_at(self, side: float) -> NDArray[np.float64]:
        """Centres (n, 2) in units of held islands in tiles of this side."""
        s = self.search
        wide = (side if s.hold is None else s.hold) * s.frame.ratio[s.held_tile]
        return s.held_at * wide[:, None]

    def state(self, raster: Raster, found: Placement, side: float) -> State:
        """A placement as a state."""
        s = self.search
        held = s.frame.held
        pose = np.where(held, 0, found.pose)
        at = raster.positions(found.column, found.row, pose, s.gaps.margin(side))
        at = np.where(held[:, None], self.held_at(side), at)
        return State(at, pose, np.where(held, s.held_tile, found.tile), side)

    def one_pass(self, raster: Raster, order: Ints, side: float) -> Placement:
        """A pass into tiles of a fixed side, counted."""
        self.search.passes += 1
        return self.tiles(raster, order, side)

    def tiles(self, raster: Raster, order: Ints, side: float) -> Placement:
        """A pass into tiles of a fixed side; several threads may make one at a time, so the caller counts it."""
        cells = self.cells(raster, side)
        return place(raster, order, cells, cells, self.hint, self.held(raster, side), self.search.stop)

    def strip(self, raster: Raster, order: Ints, width: int, height: int) -> Placement:
        """A pass into one strip; several threads may make one at a time, so the caller counts it."""
        return place(raster, order, np.array([width]), np.array([height]), self.hint, (), self.search.stop)

    def late(self) -> bool:
        """Whether no further pass should begin: there is a layout, and the time is needed for the search of overlaps."""
        s = self.search
        return s.best is not None and (s.over() or (self.many and s.spent() > _LATEST))

    def side_of(self, raster: Raster, cells: int) -> float:
        """The side of a tile with so many cells inside its margin."""
        g = self.search.gaps
        return (cells * raster.cell + 2 * g.margin_at) / (1 - 2 * g.margin_per)

    def plain(self) -> bool:
        """Whether the islands go into one tile with nothing in it, so that it can be cut from a strip."""
        return len(self.search.frame.ratio) == 1 and not self.search.frame.held.any()

    def mend(self, state: State | None) -> bool:
        """Offer a layout of a loose grid unless nobody waits for it; whether it is the best now."""
        s = self.search
        if state is None or s.stop[0] != 0 or s.done():
            return False
        if not self.many:
            return s.offer(state, _MEND)
        if s.best is not None and state.side >= s.best.side:
            return False
        # Where short shifts do not mend it, longer ones may.
        return s.offer(state, _MEND, *EFFORT) or s.offer(state, _MEND, 1, _REACH)
