"""The call: a search in a thread of its own, so that stopping never waits for it."""

from __future__ import annotations

import math
import queue
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from functools import cache

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import Cancelled, DoesNotFit
from ..words import plain
from .compact import State
from .construct import Construct
from .improve import MOST, Improve
from .recipe import Packing, PackResult, Recipe, Rules
from .search import Search
from .shapes import BASE
from .shelves import shelved

_PATIENCE = 0.25  # seconds that a stopped search has to end by itself
_ROOM = 1.002  # of a held density: fitted a little denser, so that the compaction can widen the gaps
AT_ONCE = 400  # islands; fewer have a greedy layout as soon as shelves would be there
_FIRST = 1.0  # seconds more that it has while there is no layout at all


def _phases(search: Search) -> None:
    """The constructive passes, then the search of overlaps."""
    n = search.shapes.count
    # A layout to go on from takes the place of the constructive passes, where it keeps the gaps.
    if search.start is not None and n <= MOST and search.hold is None and search.offer(search.start) and search.alone:
        Improve(search, [search.start]).run()
        return
    construct = Construct(search)
    if n > AT_ONCE:
        search.stand_in(shelved(search))
    grids = (256, 512) if n <= 400 else (512, 1024) if n <= 3000 else (2048, 4096)
    for resolution in grids:
        if not construct.run(resolution, resolution == grids[-1]) or search.over():
            return
    if len(search.free) and n <= MOST:
        Improve(search, construct.starts).run()
    elif len(search.free):
        construct.disturb(search.left())


def _in_thread(search: Search, stop: Callable[[], bool]) -> None:
    """Run the phases in a thread and pass its layouts on; when stopped, go as soon as it may."""
    layouts: queue.SimpleQueue[Packing | None] = queue.SimpleQueue()
    progress, search.progress = search.progress, layouts.put
    failed: list[BaseException] = []

    def work() -> None:
        try:
            _phases(search)
        except BaseException as e:  # raised again below, in the caller's thread
            failed.append(e)
        finally:
            layouts.put(None)

    # Not a daemon: a kernel that still ran while the interpreter goes down would crash it, so that waits for the thread instead.
    threading.Thread(target=work).start()
    asked = math.inf
    try:
        while True:
            if asked == math.inf and stop():
                asked = time.monotonic()
            waited = time.monotonic() - asked
            if waited >= (0.0 if search.least is not None else _FIRST):
                search.stop[0] = 1
                if waited >= (_PATIENCE if search.least is not None else _FIRST + _PATIENCE):
                    break
            try:
                layout = layouts.get(timeout=0.05)
            except queue.Empty:
                continue
            if layout is None:
                break
            if progress:
                progress(layout)
    except BaseException:
        search.stop[0] = 1
        raise
    if failed:
        raise failed[0]


@cache
def _ready() -> None:
    """Pack a few shapes once, so that kernels are compiled, or loaded, before the seconds of a search are counted."""
    ring = shapely.box(0, 0, 1, 1).difference(shapely.box(0.2, 0.2, 0.8, 0.8))
    bent = shapely.Polygon([(0, 0), (1, 0), (1, 0.3), (0.3, 0.3), (0.3, 1), (0, 1)])
    some = np.array([ring, bent, *(shapely.box(0, 0, 0.1 * k, 0.4) for k in range(1, 5))], object)
    for columns in (1, 2):
        _phases(Search(some, Recipe(512, 1.0, 0.0, columns=columns, passes=4), Rules(), None))


def pack(
    regions: NDArray[np.object_],
    recipe: Recipe,
    progress: Callable[[Packing], None] | None = None,
    stop: Callable[[], bool] = lambda: False,
    rules: Rules | None = None,
) -> PackResult:
    """Arrange islands without overlap.

    Parameters
    ----------
    regions : (n,) shapely polygons or multipolygons at their relative sizes; with `recipe.density` they must come
        at the size in UV units that this density asks for, and are not scaled; held islands (see `rules`) come as
        they lie in tile space
    recipe : gaps, turning, tiles, budget
    progress : called with each better layout as soon as it is proven
    stop : asked often; True ends the search and keeps the best so far
    rules : what holds for single islands

    Raises
    ------
    DoesNotFit : at a held density, with the islands that found no place
    Cancelled : stopped before there was any layout
    """
    n = len(regions)
    if n == 0:
        none = np.zeros(0)
        return PackResult(Packing(1.0, none, none, none, np.zeros((0, 2)), np.zeros(0, np.int64), 0.0))
    rules = Rules() if rules is None else rules
    most = _most(recipe)
    if n - (0 if rules.held is None else int(rules.held.sum())) > most:
        raise DoesNotFit(
            f"{n} islands cannot keep {recipe.padding_px:g} px between them at any size: at most {most} could. Take less padding, a larger map, or "
            "another tile.", list(range(n)),
        )  # fmt: skip
    _ready()
    search = Search(regions, recipe, rules, progress)
    if not len(search.free):
        search.keep(_all_held(search))
    else:
        _in_thread(search, stop)
    best, stopped = search.least, bool(search.stop[0])
    if best is None and stopped:
        raise Cancelled("The packing was stopped before there was a layout.")
    if search.hold is not None and (best is None or best.side > search.hold * (1 + 1e-9)):
        share = None if stopped or search.frame.held.any() else _fit_first(search, rules, stop)
        best = search.least
        if best is None or best.side > search.hold * (1 + 1e-9):
            if stopped or stop():
                raise Cancelled(
                    f"The packing was stopped before all islands had found a place at {plain(float(recipe.density or 0))} px/m. Whether they fit is "
                    "not known: let it run longer."
                )
            raise _too_big(search, share)
    if best is None:
        raise DoesNotFit("No layout was found: the padding is too large for these islands.", [int(i) for i in search.free])
    return PackResult(search.packing(best), list(search.history), search.passes, stopped)


def _most(recipe: Recipe) -> int:
    """How many points could lie in the tiles at the padding from each other: more islands than that fit at no scale.

    Discs of diameter p around points of a square of side s lie in one of side s + p, and cover at most pi / sqrt(12) of it (Thue).
    """
    p = recipe.padding_px
    if p <= 0:
        return 2**62
    sides = np.maximum(recipe.map_px * recipe.ratio - 2 * recipe.margin_px, 0.0)
    return int((np.floor(2 / math.sqrt(3) * ((sides + p) / p) ** 2)).sum())


def _all_held(search: Search) -> State:
    side = search.shapes.scale
    wide = side * search.frame.ratio[search.held_tile]
    return State(search.held_at * wide[:, None], np.zeros(search.shapes.count, np.int64), search.held_tile, side)


def _fit_first(search: Search, rules: Rules, stop: Callable[[], bool]) -> float | None:
    """For a held density that the constructive passes did not reach: fit, then offer that layout in tiles of the held side.

    The compaction mends the gaps, which are a little wider there, and the proof decides as for any other layout: first spread over the
    tile, then, where islands that reach into each other do not allow that, as close together as they are. Returns the share of the
    held density that was fitted, None for nothing.
    """
    assert search.hold is not None
    recipe = search.recipe
    left = 1.0 if recipe.passes is not None else max(1.0, search.left())
    free = Search(search.regions, replace(recipe, density=None, seconds=left), rules, None)

    def enough() -> bool:
        return stop() or (free.best is not None and free.packing(free.best).common >= _ROOM)

    _in_thread(free, enough)
    if free.best is None:
        return None
    share = free.packing(free.best).common
    if share >= 1 and any(search.offer(s) for s in (search.sided(free.best, search.hold), replace(free.best, side=search.hold))):
        return share
    return min(share, 1 / _ROOM)


def _too_big(search: Search, share: float | None) -> DoesNotFit:
    """Which islands find no place at the held density (largest first); `share` of it is what would fit, where that is known."""
    assert search.hold is not None and search.recipe.density is not None
    construct = Construct(search)
    # Islands may be thousands of times too large: the grid follows them, not the tile, then.
    raster = construct.raster(max(search.hold / 512, BASE / 1024), search.hold)
    found = construct.one_pass(raster, construct.orders()[1], search.hold)
    lost = [int(i) for i in search.free if found.tile[i] < 0] or [int(i) for i in search.free]
    most = f"the most that fits is about {plain(search.recipe.density * share)} px/m. " if share else ""
    return DoesNotFit(
        f"{len(lost)} of {search.shapes.count} islands do not fit at {search.recipe.density:g} px/m: {most}"
        "Lower the density or add a tile.",
        lost,
        share,
    )
