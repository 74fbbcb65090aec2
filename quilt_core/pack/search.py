"""What all phases of a search share: the islands, the best proven layout, the budget, the way to stop."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable

import numpy as np
import shapely
from numpy.typing import NDArray

from ..measure.gaps import smallest_gap
from ..model.similarity import cos_sin
from .compact import Frame, Gaps, State, compact, exact_gaps
from .recipe import Packing, Recipe, Rules, Start
from .shapes import BASE, Shapes, prepare

LP_MOST = 2500  # islands; above that the linear programme takes longer than it gains


class Search:
    """One search. `offer` takes any layout, compacts and proves it, and keeps it when it is the best."""

    def __init__(self, regions: NDArray[np.object_], recipe: Recipe, rules: Rules, progress: Callable[[Packing], None] | None) -> None:
        self.regions, self.recipe, self.progress = regions, recipe, progress
        self.begin = time.monotonic()
        n = len(regions)
        held = np.zeros(n, bool) if rules.held is None else rules.held
        hole = (1.5 * recipe.padding_px * BASE / recipe.map_px) ** 2
        rotate = recipe.rotate if rules.rotate is None else rules.rotate
        mirror = recipe.mirror if rules.mirror is None else rules.mirror
        ratio = recipe.ratio
        self.shapes: Shapes = prepare(regions, rotate, hole, mirror, float((ratio**2).sum()), held, rules.start is not None)
        # With a held density the regions come at their final size in tiles, so a tile is `scale` units wide.
        self.hold = self.shapes.scale if recipe.density is not None else None
        self.gaps: Gaps = exact_gaps(recipe.padding_px, recipe.margin_px, recipe.map_px, self.hold)
        corner = np.floor(self.shapes.centre)
        self.held_tile = np.where(held, corner[:, 1] * recipe.columns + corner[:, 0], 0).astype(np.int64)
        self.held_at = np.where(held[:, None], self.shapes.centre - corner, 0.0)
        self.frame = Frame(ratio, held, ratio[self.held_tile], None if self.hold is not None else self.shapes.scale)
        self.start = None if rules.start is None else self._begun(rules.start)
        self.alone = rules.start is not None and rules.start.alone
        self.best: State | None = None
        self.spare: State | None = None  # a poor layout that stands in until there is another one
        self.history: list[tuple[float, float]] = []
        self.passes = 0
        self.random = np.random.default_rng(recipe.seed)
        self.stop = np.zeros(1, np.int64)
        self.turn = threading.RLock()  # held while the best layout is compared and changed

    def _begun(self, start: Start) -> State:
        """The layout that is known, in units."""
        side = self.shapes.scale / start.common
        corner = np.floor(start.middle)
        tile = (corner[:, 1] * self.recipe.columns + corner[:, 0]).astype(np.int64).clip(0, self.recipe.tiles - 1)
        tile = np.where(self.frame.held, self.held_tile, tile)
        inside = np.where(self.frame.held[:, None], self.held_at, start.middle - corner)
        return State(inside * (side * self.frame.ratio[tile])[:, None], np.zeros(len(tile), np.int64), tile, side)

    @property
    def free(self) -> NDArray[np.int64]:
        """Numbers of the islands that may move."""
        return np.flatnonzero(~self.frame.held)

    def done(self) -> bool:
        """Whether nothing better is asked for: a held density is reached."""
        return self.hold is not None and self.best is not None and self.best.side <= self.hold

    def over(self) -> bool:
        """Whether the budget is used up, the search was stopped, or it is done."""
        if self.stop[0] != 0 or self.done():
            return True
        if self.recipe.passes is not None:
            return self.passes >= self.recipe.passes
        return time.monotonic() - self.begin >= self.recipe.seconds

    def spent(self) -> float:
        """Share of the seconds that is used up; 0 when passes are counted."""
        return 0.0 if self.recipe.passes is not None else (time.monotonic() - self.begin) / max(self.recipe.seconds, 1e-9)

    def share(self) -> float:
        """Share of the budget that is used up, of passes or of seconds."""
        return self.passes / self.recipe.passes if self.recipe.passes else self.spent()

    def left(self) -> float:
        """Seconds left; infinite when passes are counted."""
        return math.inf if self.recipe.passes is not None else self.recipe.seconds - (time.monotonic() - self.begin)

    def offer(self, state: State, grow: float = 1.0, steps: int | None = None, reach: float = 3.0) -> bool:
        """Compact, prove, and keep a state when it is better than the best.

        `grow` above 1 for states that break the gaps a little: the compaction may mend them, with a larger side.
        """
        found = self.bettered(state, math.inf if self.best is None else self.best.side, grow, steps, reach)
        return found is not None and self.keep(found)

    def bettered(self, state: State, side: float, grow: float = 1.0, steps: int | None = None, reach: float = 3.0) -> State | None:
        """The state compacted and proven, where its side comes out less than another one; None else. See `offer`."""
        tight = None
        if self.shapes.count <= LP_MOST:
            steps = (6 if self.shapes.count < 400 else 2) if steps is None else steps
            tight = compact(self.shapes, state, self.gaps, self.frame, steps, reach, grow)
        if tight is not None and tight.side < side * (1 - 1e-6) and self.proven(tight):
            return tight
        if grow == 1.0 and state.side < side * (1 - 1e-6) and self.proven(state):
            return state
        return None

    def keep(self, state: State) -> bool:
        """Make a proven state the best, unless another thread found a better one meanwhile; returns whether it is."""
        with self.turn:
            if self.best is not None and self.best.side <= state.side:
                return False
            self.best = state
            packing = self.packing(state)
            self.history.append((time.monotonic() - self.begin, packing.coverage))
            if self.progress and self.stop[0] == 0:
                self.progress(packing)
        return True

    def stand_in(self, state: State | None) -> None:
        """Show a layout that counts only until the first real one is there, or when that never comes."""
        if state is not None and self.best is None and self.proven(state):
            self.spare = state
            if self.progress and self.stop[0] == 0:
                self.progress(self.packing(state))

    @property
    def least(self) -> State | None:
        """The best layout, or the one that stands in for it where that is better or alone."""
        if self.best is None or (self.spare is not None and self.spare.side < self.best.side):
            return self.spare
        return self.best

    def coverage(self, side: float) -> float:
        """Share of all texels under islands in tiles of a side."""
        size = self.frame.size(side)
        return float((self.shapes.area * size**2).sum()) / (side * side * float((self.frame.ratio**2).sum()))

    def packing(self, state: State) -> Packing:
        """A state as similarities of the regions that came in."""
        sh, r = self.shapes, self.recipe
        side = state.side if self.hold is None else self.hold
        wide = side * self.frame.ratio[state.tile]
        common = sh.scale / side
        scale = sh.scale / wide
        mirror = sh.mirror[state.pose]
        angle = sh.angle[state.pose] + mirror * sh.base
        c, s = cos_sin(angle)
        u, v = sh.centre[:, 0] * mirror, sh.centre[:, 1]
        tile = np.column_stack([state.tile % r.columns, state.tile // r.columns])
        offset = tile + state.at / wide[:, None] - np.column_stack([c * u - s * v, s * u + c * v]) * scale[:, None]
        held = self.frame.held
        scale, angle, offset = np.where(held, 1.0, scale), np.where(held, 0.0, angle), np.where(held[:, None], 0.0, offset)
        return Packing(common, scale, angle, np.where(held, 1.0, mirror), offset, state.tile, self.coverage(side))

    def proven(self, state: State) -> bool:
        """Whether the true outlines keep the padding and the margin (by shapely, not by the packer's own numbers).

        Islands that are held keep their distance from each other and from the border as they came.
        """
        r, p = self.recipe, self.packing(state)
        owner = np.repeat(np.arange(len(self.regions)), shapely.get_num_coordinates(self.regions))
        xy = shapely.get_coordinates(self.regions)
        c, s = cos_sin(p.angle)
        c, s, u = (c * p.scale)[owner], (s * p.scale)[owner], xy[:, 0] * p.mirror[owner]
        moved = np.column_stack([c * u - s * xy[:, 1], s * u + c * xy[:, 1]]) + p.offset[owner]
        tile = np.column_stack([p.tile % r.columns, p.tile // r.columns])[owner]
        px = (r.map_px * self.frame.ratio)[p.tile][owner]
        moved -= tile
        free = ~self.frame.held[owner]
        inside = (np.minimum(moved, 1 - moved) * px[:, None])[free]
        if len(inside) and inside.min() < r.margin_px - 1e-6:
            return False
        # Tiles side by side, with room between them, each at its own resolution.
        spread = moved * px[:, None] + np.array([1.1, 0.0]) * (p.tile[owner] * px.max(initial=0.0))[:, None]
        placed = shapely.set_coordinates(self.regions.copy(), spread)
        if self.frame.held.any():
            tree = shapely.STRtree(placed)
            reach = max(r.padding_px - 1e-6, 0.0)
            i, j = tree.query(placed, predicate="dwithin", distance=reach * (1 - 1e-12))
            return not bool(((i < j) & ~(self.frame.held[i] & self.frame.held[j])).any())
        return smallest_gap(placed, r.padding_px) >= r.padding_px - 1e-6

    def sided(self, state: State, side: float) -> State:
        """The state in tiles of another side."""
        return self.frame.moved(state, side)
