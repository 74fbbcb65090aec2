"""The search after the greedy layouts: two workers press the layout into ever smaller tiles until overlaps remain."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from .compact import State
from .fields import Fields, build
from .search import Search
from .separate import SPOT, Memory, Scene, memory, separate, spots
from .shapes import BASE

MOST = 4000  # islands; the pairs' weights take n * n numbers
_ROUND = 60_000  # evaluations between two looks at the result
_LEAST = 0.06  # units, the finest step
_ENOUGH = 0.15  # total loss at which the compaction mends the rest


class Worker:
    """One of the two searches: its layout, memory, and how long it has been at its side."""

    def __init__(self, count: int, seed: int) -> None:
        self.memory: Memory = memory(count, seed)
        self.spots: NDArray[np.void] = np.zeros(0, SPOT)
        self.side = 0.0
        self.rounds = 0
        self.least = math.inf
        self.mended = math.inf
        self.total = math.inf
        self.best: NDArray[np.void] | None = None

    def state(self, best: bool = False) -> State:
        """The layout as it is, or the one of least loss at this side."""
        p = self.best if best and self.best is not None else self.spots
        return State(np.column_stack([p["x"], p["y"]]), p["pose"].astype(np.int64), p["tile"].astype(np.int64), self.side)


class Improve:
    """Rounds of overlap minimisation at shrinking sides; every layout without overlap is offered to the search."""

    def __init__(self, search: Search, step: float = 0.003) -> None:
        assert search.best is not None
        self.search = search
        side = search.best.side
        self.fields: Fields = build(search.shapes, max(search.gaps.pad(side) * 1.02, 1.2))
        n = search.shapes.count
        self.workers = [Worker(n, search.recipe.seed * 2 + k) for k in range(2)]
        self.first_step = self.step = step
        self.failures = 0
        for k, w in enumerate(self.workers):
            self.restart(w, self.target(k), 0)

    def target(self, worker: int) -> float:
        """The side that a worker aims at: the second is content with a third of the step."""
        best = self.search.best
        assert best is not None
        side = best.side * (1 - self.step * (0.35 if worker % 2 else 1.0))
        return side if self.search.hold is None else max(side, self.search.hold)

    def restart(self, w: Worker, side: float, swaps: int) -> None:
        """From the best layout, in tiles of another side, with some of the larger islands swapped."""
        s = self.search
        assert s.best is not None
        state = s.sided(s.best, side)
        at, pose = state.at.copy(), state.pose.copy()
        free = s.free
        large = free[np.argsort(-s.shapes.area[free], kind="stable")]
        part = max(3, int(len(free) * 0.4))
        for _ in range(swaps if len(free) > 3 else 0):
            a, b = (int(large[int(s.random.random() ** 1.5 * part) % len(large)]) for _ in range(2))
            if state.tile[a] == state.tile[b]:
                at[[a, b]] = at[[b, a]]
            for i in (a, b):
                pose[i] = s.random.choice(np.flatnonzero(s.shapes.allowed[i]))
        w.spots = spots(at[:, 0], at[:, 1], pose, state.tile, s.frame.size(side), s.frame.held)
        w.side, w.rounds, w.least, w.mended, w.best = side, 0, math.inf, math.inf, None
        w.memory.weight[:] = 1.0

    def round(self, w: Worker) -> None:
        """One call of the kernel for a worker."""
        s = self.search
        scene = Scene(w.side * s.frame.ratio, s.gaps.margin(w.side), max(s.gaps.pad(w.side), 0.1))
        best = np.empty_like(w.spots)
        total, least, _ = separate(self.fields, scene, w.spots, w.memory, _LEAST, _ENOUGH, _ROUND, 30, 15, s.stop, best)
        w.rounds += 1
        w.total = total
        if least < w.least:
            w.least, w.best = least, best

    def run(self) -> None:
        """Rounds until the budget is used up."""
        s = self.search
        with ThreadPoolExecutor(2) as pool:
            while not s.over():
                list(pool.map(self.round, self.workers))
                s.passes += 1
                if s.stop[0] != 0:
                    return
                self.judge()

    def judge(self) -> None:
        """Offer what the round found, and choose the sides of the next one."""
        s = self.search
        clear = [w for w in self.workers if w.total <= _ENOUGH]
        won = False
        for w in sorted(clear, key=lambda w: w.side):
            won |= s.offer(w.state(), 1.01, 4, 1.0)
        if not won:
            won = self.mend(clear)
        if won:
            self.step = min(self.first_step, self.step * 1.3)
            self.failures = 0
            assert s.best is not None
            for k, w in enumerate(self.workers):
                if w in clear or w.side >= s.best.side * (1 - 2e-4):
                    self.restart(w, self.target(k), 0)
            return
        for k, w in enumerate(self.workers):
            if w in clear:
                self.restart(w, self.target(k), 1)
            elif w.rounds >= 14:
                self.failures += 1
                if self.failures % 2 == 0:
                    self.step = max(0.001, self.step * 0.6)
                self.restart(w, self.target(k), self.failures % 4 if k == 0 else 0)
            elif s.shapes.count < 400 and w.rounds % 2 == 0 and w.least < 0.5 * w.total and w.best is not None:
                w.spots = w.best.copy()

    def mend(self, clear: list[Worker]) -> bool:
        """Let the compaction try layouts that are nearly free of overlap."""
        limit = 3.0 * math.sqrt(self.search.shapes.count) * BASE / 512
        for w in self.workers:
            if w in clear or w.least >= min(limit, 0.9 * w.mended):
                continue
            w.mended = w.least
            if self.search.offer(w.state(best=True), 1.01, 3, 1.0):
                return True
        return False
