"""The search after the greedy layouts: two workers press the layout into ever smaller tiles until overlaps remain."""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from .compact import State
from .fields import Fields, Ints, build
from .neighbours import SPOT, scene, spots
from .search import Search
from .separate import Memory, memory, separate

MOST = 4000  # islands; the pairs' weights take n * n numbers
# Evaluations between two looks at the result: short rounds let a run of seconds give up more sides, and end in time.
_ROUND, _ROUND_MANY = 8_000, 40_000
_WIDE, _NEAR = 12, 6  # samples for a move, anywhere and nearby
_STRIDE = 0.012  # the longest step of the side
_IDLE = 6  # rounds without progress before a side is given up
# With many islands long steps jam everywhere at once, and a disturbed layout takes longer to clear than it gains.
_MANY, _STRIDE_MANY, _IDLE_MANY = 400, 0.004, 3
_LEAST = 0.06  # units, the finest step
# Share of a long run in which the second worker betters layouts of its own: shorter runs, in seconds, lose more than they gain by it.
_EXPLORE, _LONG = 0.35, 15.0
_WORSE, _TRIES, _MORE = 1.015, 2, 6  # a layout so much larger than the best is left after so many misses, others after more
_ENOUGH = 0.15  # total loss at which the compaction mends the rest


class Worker:
    """One of the two searches: its layout, memory, and how long it has been at its side."""

    def __init__(self, count: int, seed: int) -> None:
        self.memory: Memory = memory(count, seed)
        self.spots: NDArray[np.void] = np.zeros(0, SPOT)
        self.side = 0.0
        self.rounds = self.idle = 0
        self.least = math.inf
        self.mended = math.inf
        self.total = math.inf
        self.best: NDArray[np.void] | None = None
        self.failures = 0
        self.own: State | None = None  # a layout of its own that it betters, apart from the best
        self.stride = 0.0  # of the side of its own layout
        self.random = np.random.default_rng(seed)

    def state(self, best: bool = False) -> State:
        """The layout as it is, or the one of least loss at this side."""
        p = self.best if best and self.best is not None else self.spots
        return State(np.column_stack([p["x"], p["y"]]), p["pose"].astype(np.int64), p["tile"].astype(np.int64), self.side)


class Improve:
    """Rounds of overlap minimisation at shrinking sides; every layout without overlap is offered to the search."""

    def __init__(self, search: Search, starts: Sequence[State] = (), step: float = 0.005) -> None:
        assert search.best is not None
        self.search, self.starts = search, list(starts)
        side = search.best.side
        self.fields: Fields = build(search.shapes, max(search.gaps.pad(side) * 1.02, 1.2))
        n = search.shapes.count
        self.workers = [Worker(n, search.recipe.seed * 2 + k) for k in range(2)]
        # Compaction: steps and reach. With many islands it would take most of the time.
        self.many = search.shapes.count > _MANY
        self.effort = (1, 0.35) if self.many else (4, 1.0)
        self.stride, self.idle = (_STRIDE_MANY, _IDLE_MANY) if self.many else (_STRIDE, _IDLE)
        self.step = min(step, self.stride)
        for w in self.workers:
            self.restart(w, self.target(w))
        self.tried = 0
        if (
            not self.many
            and len(self.starts) > 1
            and search.hold is None
            and search.recipe.passes is None
            and search.recipe.seconds >= _LONG
        ):
            self.explore(self.workers[1])

    def explore(self, w: Worker) -> None:
        """Begin with another start, as a layout of its own."""
        self.tried += 1
        w.own = self.starts[self.tried % len(self.starts)]
        w.failures, w.stride = 0, 0.01
        self.begin(w, w.own, w.own.side * (1 - w.stride))

    def exploring(self, w: Worker) -> bool:
        """Whether a worker betters a layout of its own; at the end of that share of the time it joins the other."""
        if w.own is not None and self.search.share() > _EXPLORE:
            w.own = None
            self.restart(w, self.target(w))
        return w.own is not None

    def better_own(self, w: Worker) -> None:
        """Judge a round of a worker with a layout of its own."""
        s = self.search
        assert w.own is not None and s.best is not None
        clear = w.total <= _ENOUGH
        found = s.bettered(w.state(), w.own.side, 1.01, *self.effort) if clear else None
        if found is None and not clear and w.least < min(3.0 * math.sqrt(s.shapes.count), 0.9 * w.mended):
            w.mended = w.least
            found = s.bettered(w.state(best=True), w.own.side, 1.01, *self.effort)
        if found is not None:
            w.own, w.failures, w.stride = found, 0, min(0.012, w.stride * 1.3)
            s.keep(found)
            self.begin(w, w.own, w.own.side * (1 - w.stride))
        elif clear or w.idle >= self.idle:
            w.failures += 1
            w.stride = max(0.002, w.stride * 0.6)
            if w.failures >= (_TRIES if w.own.side > _WORSE * s.best.side else _MORE):
                self.explore(w)
            else:
                self.begin(w, w.own, w.own.side * (1 - w.stride), w.failures if w.failures % 3 else 0)

    def target(self, w: Worker) -> float:
        """The side that a worker aims at: the second is content with a third of the step."""
        best = self.search.best
        assert best is not None
        side = best.side * (1 - self.step * (1.0 if w is self.workers[0] else 0.35))
        return side if self.search.hold is None else max(side, self.search.hold)

    def restart(self, w: Worker, side: float, unrest: int = 0) -> None:
        """From the best layout in tiles of another side; with `unrest` some of it is disturbed first, in turn in other ways."""
        s = self.search
        assert s.best is not None
        start = s.best
        if unrest and unrest % 3 == 0 and self.starts:
            start = self.starts[(unrest // 3) % len(self.starts)]
        self.begin(w, start, side, unrest)

    def begin(self, w: Worker, start: State, side: float, unrest: int = 0) -> None:
        """From a layout in tiles of another side; with `unrest` some of it is disturbed first."""
        s = self.search
        state = s.sided(start, side)
        at, pose, tile = state.at.copy(), state.pose.copy(), state.tile.copy()
        if unrest and unrest % 3 == 1:
            self.swap(w.random, at, pose, tile, 1 + unrest % 4)
        elif unrest and unrest % 3 == 2:
            self.ruin(w.random, at, tile, side)
        w.spots = spots(at[:, 0], at[:, 1], pose, tile, s.frame.size(side), s.frame.held)
        w.side, w.rounds, w.idle, w.least, w.mended, w.best = side, 0, 0, math.inf, math.inf, None
        w.memory.weight[:] = 1.0
        w.memory.heavy[:] = False

    def swap(self, random: np.random.Generator, at: Floats, pose: Ints, tile: Ints, times: int) -> None:
        """Exchange some of the larger islands."""
        s = self.search
        large = s.free[np.argsort(-s.shapes.area[s.free], kind="stable")]
        part = min(len(large), max(3, int(len(large) * 0.4)))
        for _ in range(times):
            a, b = (int(large[int(random.random() ** 1.5 * part)]) for _ in range(2))
            if tile[a] == tile[b]:
                at[[a, b]] = at[[b, a]]
            for i in (a, b):
                pose[i] = random.choice(np.flatnonzero(s.shapes.allowed[i]))

    def ruin(self, random: np.random.Generator, at: Floats, tile: Ints, side: float) -> None:
        """Throw the islands of a random part of a tile anywhere in it."""
        s = self.search
        t = int(random.integers(len(s.frame.ratio)))
        wide = side * s.frame.ratio[t]
        middle, reach = random.random(2) * wide, wide * (0.15 + 0.2 * random.random())
        hit = s.free[(tile[s.free] == t) & (np.abs(at[s.free] - middle).max(axis=1) < reach)]
        at[hit] = random.random((len(hit), 2)) * wide

    def round(self, w: Worker) -> None:
        """One call of the kernel for a worker."""
        s = self.search
        around = scene(w.side * s.frame.ratio, s.gaps.margin(w.side), max(s.gaps.pad(w.side), 0.1), s.shapes.count)
        best = np.empty_like(w.spots)
        total, least, _ = separate(
            self.fields, around, w.spots, w.memory, _LEAST, _ENOUGH, _ROUND_MANY if self.many else _ROUND, _WIDE, _NEAR, s.stop, best
        )
        w.rounds += 1
        w.total = total
        if least < 0.98 * w.least:
            w.idle = 0
        else:
            w.idle += 1
        if least < w.least:
            w.least, w.best = least, best

    def run(self) -> None:
        """Rounds until the budget is used up.

        Bounded by seconds, the workers go on without waiting for each other. Bounded by passes they take turns in step, so that
        a result can be repeated.
        """
        with ThreadPoolExecutor(len(self.workers)) as pool:
            if self.search.recipe.passes is None:
                list(pool.map(self.go_on, self.workers))
                return
            while not self.search.over():
                list(pool.map(self.round, self.workers))
                self.search.passes += 1
                for w in self.workers:
                    self.judge(w)

    def go_on(self, w: Worker) -> None:
        """Rounds of one worker until the budget is used up."""
        while not self.search.over():
            self.round(w)
            self.search.passes += 1
            self.judge(w)

    def judge(self, w: Worker) -> None:
        """Offer what a worker found, and choose the side of its next round."""
        s = self.search
        assert s.best is not None
        if s.stop[0] != 0:
            return
        if self.exploring(w):
            self.better_own(w)
            return
        if w.side >= s.best.side * (1 - 2e-4):
            self.restart(w, self.target(w))  # the other one has come that far meanwhile
            return
        clear = w.total <= _ENOUGH
        won = (clear and s.offer(w.state(), 1.01, *self.effort)) or self.mend(w, clear)
        with s.turn:
            self.follow(w, won, clear)

    def follow(self, w: Worker, won: bool, clear: bool) -> None:
        """The side and start of a worker's next round, after one that `won` a better layout, was `clear` of overlap, or neither."""
        if won:
            self.step = min(self.stride, self.step * 1.3)
            for other in self.workers:
                other.failures = 0
            self.restart(w, self.target(w))
        elif clear:
            self.restart(w, self.target(w), 1)
        elif w.idle >= self.idle:
            w.failures += 1
            failures = sum(o.failures for o in self.workers)
            if failures % 2 == 0:
                self.step = max(0.001, self.step * 0.5)
            # The second presses on from the best every other time.
            calm = self.many or (w is not self.workers[0] and w.failures % 2 == 1)
            self.restart(w, self.target(w), 0 if calm else failures)
        elif not self.many and w.rounds % 2 == 0 and w.least < 0.5 * w.total and w.best is not None:
            w.spots = w.best.copy()

    def mend(self, w: Worker, clear: bool) -> bool:
        """Let the compaction try a layout that is nearly free of overlap."""
        limit = (1.0 if self.many else 3.0) * math.sqrt(self.search.shapes.count)
        if clear or w.least >= min(limit, 0.9 * w.mended):
            return False
        w.mended = w.least
        return self.search.offer(w.state(best=True), 1.01, *self.effort)
