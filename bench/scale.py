"""How batches scale, by simulation from what was measured: `python -m bench.scale /tmp/quilt-batch/2.json`. See `docs/scale.md`.

One scheduler takes so many ms of its own time for a task, one after the other; each worker does one task at a time, and is idle from when it is done until the scheduler has got to it; so many tasks are handed over at once. Durations
are drawn from those measured. Lost workers, the network and a shared disk are not in it.
"""

from __future__ import annotations

import argparse
import heapq
import json
from pathlib import Path

import numpy as np

from quilt_server.jobfile import batch

BESIDE = 0.03  # seconds an asset beside its own work, as measured


def simulated(durations: np.ndarray, workers: int, engine: float, window: int, together: int) -> float:
    """Seconds until all assets are done.

    Parameters
    ----------
    durations : (n,) seconds of each asset; engine : seconds of the scheduler for a task
    """
    count = -(-len(durations) // together)
    tasks = np.array([float(durations[n::count].sum()) + BESIDE * len(durations[n::count]) for n in range(count)])
    scheduler, at = 0.0, 0
    busy: list[float] = []  # when each task that is handed over is done
    end = 0.0
    for length in tasks[: min(window, workers)]:
        scheduler += engine
        heapq.heappush(busy, scheduler + length)
        at += 1
    while busy:
        done = heapq.heappop(busy)
        end = max(end, done)
        if at < len(tasks):
            # The answer and the next task both pass the scheduler.
            scheduler = max(scheduler, done) + engine
            heapq.heappush(busy, scheduler + tasks[at])
            at += 1
    return end


def main() -> None:
    """Print a table."""
    p = argparse.ArgumentParser(prog="bench.scale", description=__doc__)
    p.add_argument("measured", type=Path)
    p.add_argument("--engine-ms", type=float, help="of a task, in place of what was measured")
    args = p.parse_args()
    found = json.loads(args.measured.read_text())
    known, engine = np.array(found["seconds"]), (args.engine_ms or found["engine_ms"]) / 1000
    random = np.random.default_rng(5)
    print(
        f"assets of {known.mean():.2f} s (median {np.median(known):.2f}, at most {known.max():.1f}), {engine * 1000:.1f} ms of the engine for a task"
    )
    print("| assets | workers | ideal | one by one, 400 waiting | busy | as it is | busy | in a task |")
    print("|---|---|---|---|---|---|---|---|")
    for assets in (10_000, 1_000_000):
        durations = -np.sort(-random.choice(known, assets))
        for workers in (10, 100, 300, 1000):
            ideal = max(float((durations + BESIDE).sum()) / workers, float(durations.max()))
            plain = simulated(durations, workers, engine, 400, 1)
            many = batch.together(assets, workers)
            now = simulated(durations, workers, engine, batch.window(workers), many)
            print(
                f"| {assets:,} | {workers:,} | {_time(ideal)} | {_time(plain)} | {ideal / plain:.0%} | {_time(now)} | {ideal / now:.0%} | {many} |",
                flush=True,
            )


def _time(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


if __name__ == "__main__":
    main()
