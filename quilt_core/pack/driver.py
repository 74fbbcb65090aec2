"""The search around the constructive pass: orders of placing, width of the tile, compaction, a proof of each."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import Cancelled, DoesNotFit
from ..prove.gaps import smallest_gap
from ..scene import Floats
from .compact import Gaps, State, compact, exact_gaps
from .greedy import Placement, place
from .raster import Raster
from .shapes import ANGLES, BASE, Shapes, cos_sin, prepare

_LP_MOST = 2500  # islands; above that the linear programme takes longer than it gains


@dataclass(frozen=True)
class Recipe:
    """How to arrange: gaps in px of a map of `map_px`, allowed turning, tiles, and how long to search.

    `passes` bounds the search by its number of greedy passes, so that a result can be repeated bit for bit;
    None bounds it by `seconds` alone.
    """

    map_px: int = 2048
    padding_px: float = 8.0
    margin_px: float = 4.0
    rotate: str = "90"
    columns: int = 1
    rows: int = 1
    density: float | None = None
    seconds: float = 10.0
    passes: int | None = None
    seed: int = 0

    def __post_init__(self) -> None:
        if self.rotate not in ANGLES:
            raise ValueError(f"rotation '{self.rotate}' is not one of {', '.join(ANGLES)}")
        if not 16 <= self.map_px <= 16384:
            raise ValueError("the map size must be 16 to 16384 px")
        if not (0 <= self.padding_px < self.map_px / 2 and 0 <= self.margin_px < self.map_px / 2):
            raise ValueError("padding and margin must be from 0 px to half the map")
        if not (1 <= self.columns <= 10 and 1 <= self.rows <= 100):
            raise ValueError("tiles are 1 to 10 columns and 1 to 100 rows")
        if self.density is not None and not (math.isfinite(self.density) and self.density > 0):
            raise ValueError("the density must be greater than 0")
        if not (math.isfinite(self.seconds) and self.seconds >= 0):
            raise ValueError("the seconds must be 0 or more")

    @property
    def tiles(self) -> int:
        """Number of tiles."""
        return self.columns * self.rows


@dataclass(frozen=True)
class Packing:
    """A layout: x -> scale * R(angle) * x + offset for every island, offsets in tiles (0 to columns, rows).

    angle (n,) radians, offset (n, 2), tile (n,) number from 0 in reading order of UDIM, `scale` common to all.
    """

    scale: float
    angle: Floats
    offset: Floats
    tile: NDArray[np.int64]
    coverage: float


@dataclass(frozen=True)
class PackResult:
    """The best layout, the coverage over time [(seconds, coverage)], passes made, and whether it was stopped."""

    best: Packing
    history: list[tuple[float, float]] = field(default_factory=list)
    passes: int = 0
    stopped: bool = False


class _Search:
    def __init__(
        self, regions: NDArray[np.object_], recipe: Recipe, progress: Callable[[Packing], None] | None, stop: Callable[[], bool]
    ) -> None:
        self.regions, self.recipe, self.progress, self.stop = regions, recipe, progress, stop
        self.begin = time.monotonic()
        hole = (1.5 * recipe.padding_px * BASE / recipe.map_px) ** 2
        self.shapes: Shapes = prepare(regions, recipe.rotate, hole)
        # With a held density the regions come at their final size in tiles, so a tile is `scale` units wide.
        self.hold = self.shapes.scale if recipe.density is not None else None
        self.gaps: Gaps = exact_gaps(recipe.padding_px, recipe.margin_px, recipe.map_px, self.hold)
        self.best: State | None = None
        self.history: list[tuple[float, float]] = []
        self.passes = 0
        self.random = np.random.default_rng(recipe.seed)

    def over(self) -> bool:
        if self.stop() or (self.hold is not None and self.best is not None and self.best.side <= self.hold):
            return True
        if self.recipe.passes is not None:
            return self.passes >= self.recipe.passes
        return time.monotonic() - self.begin >= self.recipe.seconds

    def raster(self, resolution: int, side: float) -> Raster:
        return Raster(self.shapes, side / resolution, self.gaps.pad(side))

    def cells(self, raster: Raster, side: float) -> int:
        return int((side - 2 * self.gaps.margin(side)) / raster.cell)

    def orders(self) -> list[NDArray[np.int64]]:
        size = self.shapes.extent[:, 0, 2:] - self.shapes.extent[:, 0, :2]
        keys = (size.sum(axis=1), self.shapes.area, size.max(axis=1), size.prod(axis=1))
        return [np.argsort(-k, kind="stable") for k in keys]

    def state(self, raster: Raster, found: Placement, inner: int) -> State:
        """A placement as a state whose side has room for the margin that it needs itself."""
        g = self.gaps
        side = (inner * raster.cell + 2 * g.margin_at) / (1 - 2 * g.margin_per)
        at = raster.positions(found.column, found.row, found.turn, g.margin(side))
        return State(at, found.turn, found.tile, side)

    def offer(self, state: State) -> bool:
        """Compact, prove, and keep a state when it is better than the best."""
        if self.best is not None and state.side > 1.04 * self.best.side:
            return False
        if self.shapes.count <= _LP_MOST:
            tight = compact(self.shapes, state, self.gaps, 6 if self.shapes.count < 400 else 2)
            state = tight if self.proven(tight) else state
        if self.best is not None and state.side >= self.best.side * (1 - 1e-6):
            return False
        if not self.proven(state):
            return False
        self.best = state
        packing = self.packing(state)
        self.history.append((time.monotonic() - self.begin, packing.coverage))
        if self.progress:
            self.progress(packing)
        return True

    def packing(self, state: State) -> Packing:
        r = self.recipe
        side = state.side if self.hold is None else self.hold
        scale = self.shapes.scale / side
        angle = self.shapes.angle[state.turn]
        c, s = cos_sin(angle)
        centre = self.shapes.centre
        turned = np.column_stack([c * centre[:, 0] - s * centre[:, 1], s * centre[:, 0] + c * centre[:, 1]])
        tile = np.column_stack([state.tile % r.columns, state.tile // r.columns])
        offset = tile + state.at / side - turned * scale
        coverage = float(self.shapes.area.sum()) / (side * side * r.tiles)
        return Packing(scale, angle, offset, state.tile, coverage)

    def proven(self, state: State) -> bool:
        """Whether the true outlines keep the padding and the margin (by shapely, not by the packer's own numbers)."""
        r = self.recipe
        p = self.packing(state)
        c, s = cos_sin(p.angle)
        owner = np.repeat(np.arange(len(self.regions)), shapely.get_num_coordinates(self.regions))
        xy = shapely.get_coordinates(self.regions)
        c, s = c[owner] * p.scale, s[owner] * p.scale
        moved = np.column_stack([c * xy[:, 0] - s * xy[:, 1], s * xy[:, 0] + c * xy[:, 1]]) + p.offset[owner]
        tile = np.column_stack([p.tile % r.columns, p.tile // r.columns])[owner]
        inside = np.minimum(moved - tile, tile + 1 - moved).min() * r.map_px
        if inside < r.margin_px - 1e-6:
            return False
        placed = shapely.set_coordinates(self.regions.copy(), moved * r.map_px)
        return smallest_gap(placed, r.padding_px) >= r.padding_px - 1e-6

    def squeeze(self, raster: Raster, order: NDArray[np.int64], width: int, tries: int) -> int:
        """Passes over one tile of ever better width; returns the best side in cells."""
        hint = self.shapes.count > 400
        least = 1 << 40
        for _ in range(tries):
            if self.best is not None and self.over():
                break
            found = place(raster, order, width, 3 * width + int(raster.size.max()), 1, hint)
            self.passes += 1
            if found.lost:
                width = max(int(width * 1.2) + 1, int(raster.size.max()))
                continue
            side = max(width, found.top)
            if side < least:
                least = side
                self.offer(self.state(raster, found, side))
            mean = int(math.sqrt(width * found.top))
            width = mean if mean != width else width - 1
        return least

    def fill_tiles(self, raster: Raster, order: NDArray[np.int64], low: int, high: int) -> int:
        """Bisection of the side in cells over several tiles; returns the least that held everything."""
        best = high
        while low < high and not (self.best is not None and self.over()):
            middle = (low + high) // 2
            found = place(raster, order, middle, middle, self.recipe.tiles, self.shapes.count > 400)
            self.passes += 1
            if found.lost:
                low = middle + 1
            else:
                best = high = middle
                self.offer(self.state(raster, found, middle))
        return best

    def run(self) -> None:
        per_tile = math.sqrt(float(self.shapes.area.sum()) / self.recipe.tiles)
        largest = self.shapes.extent[:, :, 2:] - self.shapes.extent[:, :, :2]
        least = float(np.max(np.min(largest.max(axis=2), axis=1)))
        # Each island also takes about half the padding around it: with thousands of small ones that is most of the tile.
        guess = max(per_tile / math.sqrt(0.72), least * 1.01)
        reach = (self.shapes.extent[:, 0, 2:] - self.shapes.extent[:, 0, :2]).sum(axis=1)
        for _ in range(8):
            pad = self.gaps.pad(guess)
            taken = float((self.shapes.area + reach * pad + pad * pad).sum()) / self.recipe.tiles
            if self.shapes.count > 200 and guess < BASE * 20:
                guess = max(guess, math.sqrt(taken / 0.95))
        count = self.shapes.count
        resolutions = (256, 512) if count < 400 else (512, 1024) if count < 3000 else (1024, 2048)
        for resolution in resolutions:
            self.rounds(resolution, guess, least)
            if self.over():
                break
            guess = self.best.side if self.best else guess

    def rounds(self, resolution: int, guess: float, least: float) -> None:
        """All orders on one grid, then, on the finer one, disturbed orders until the time is over."""
        for _ in range(6):
            raster = self.raster(resolution, guess * 1.1)
            cells = max(self.cells(raster, guess), int(least / raster.cell) + 1)
            for number, order in enumerate(self.orders()):
                if self.best is not None and (self.over() or (number and self.shapes.count > 3000)):
                    break
                self.attempt(raster, order, cells, 3)
                if self.best is not None:
                    cells = min(cells, self.cells(raster, self.best.side))
            if self.best is not None:
                break
            guess *= 1.4
        if self.best is not None and not self.over() and resolution >= 512:
            self.disturb(raster)

    def attempt(self, raster: Raster, order: NDArray[np.int64], cells: int, tries: int) -> None:
        if self.recipe.tiles == 1:
            self.squeeze(raster, order, cells, tries)
        else:
            self.fill_tiles(raster, order, int(cells * 0.9), int(cells * 1.3) + 2)

    def disturb(self, raster: Raster) -> None:
        """Orders with a few swaps, kept when they win: the search until a better one replaces it."""
        order = self.orders()[0]
        n = len(order)
        while n > 1 and not self.over():
            assert self.best is not None
            trial = order.copy()
            for _ in range(1 + int(self.random.integers(0, max(2, n // 8)))):
                a = int(n * self.random.random() ** 2)
                b = min(n - 1, max(0, a + int(self.random.integers(-n // 4 - 1, n // 4 + 2))))
                trial[a], trial[b] = trial[b], trial[a]
            target = self.cells(raster, self.best.side * 1.01)
            found = place(raster, trial, target, target, self.recipe.tiles, n > 400)
            self.passes += 1
            if not found.lost and self.offer(self.state(raster, found, target)):
                order = trial


def pack(
    regions: NDArray[np.object_],
    recipe: Recipe,
    progress: Callable[[Packing], None] | None = None,
    stop: Callable[[], bool] = lambda: False,
) -> PackResult:
    """Arrange islands without overlap.

    Parameters
    ----------
    regions : (n,) shapely polygons or multipolygons at their relative sizes; with `recipe.density` they must come
        at the size in UV units that this density asks for, and are not scaled
    recipe : gaps, turning, tiles, budget
    progress : called with each better layout as soon as it is proven
    stop : asked often; True ends the search and keeps the best so far

    Raises
    ------
    DoesNotFit : at a held density, with the islands that found no place
    Cancelled : stopped before there was any layout
    """
    if len(regions) == 0:
        return PackResult(Packing(1.0, np.zeros(0), np.zeros((0, 2)), np.zeros(0, np.int64), 0.0))
    search = _Search(regions, recipe, progress, stop)
    search.run()
    if search.best is None and stop():
        raise Cancelled("The packing was stopped before there was a layout.")
    if search.hold is not None and (search.best is None or search.best.side > search.hold * (1 + 1e-9)):
        raise _too_big(search)
    if search.best is None:
        raise DoesNotFit("No layout was found: the padding is too large for these islands.", list(range(len(regions))))
    return PackResult(search.packing(search.best), search.history, search.passes, stop())


def _too_big(search: _Search) -> DoesNotFit:
    """Which islands find no place at the held density (largest first), and what density would fit."""
    assert search.hold is not None and search.recipe.density is not None
    # Islands may be thousands of times too large: the grid follows them, not the tile, then.
    raster = Raster(search.shapes, max(search.hold / 512, BASE / 1024), search.gaps.pad(search.hold))
    cells = search.cells(raster, search.hold)
    found = place(raster, search.orders()[1], max(cells, 1), max(cells, 1), search.recipe.tiles, search.shapes.count > 400)
    lost = [int(i) for i in np.flatnonzero(found.tile < 0)] or list(range(search.shapes.count))
    free = _Search(search.regions, replace(search.recipe, density=None, seconds=1.0), None, search.stop)
    free.run()
    share = free.packing(free.best).scale if free.best else None
    most = f"the most that fits is about {search.recipe.density * share:.4g} px/m. " if share else ""
    return DoesNotFit(
        f"{len(lost)} of {search.shapes.count} islands do not fit at {search.recipe.density:g} px/m: {most}"
        "Lower the density or add a tile.",
        lost,
        share,
    )
