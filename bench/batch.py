"""A batch over real assets of the tests' packages: how much faster with two workers, what the engine costs, how much memory an asset takes, and the same bytes with workers that are killed.

`python -m bench.batch --assets 200 --passes 20 --kill 8`; the list of assets is written beside the results.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shutil
import signal
import statistics
import threading
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

from quilt_core import formats
from quilt_server.jobfile import batch
from quilt_server.jobfile.places import Here
from tests.real_files import CACHE

JOB = {"job": 1, "recipe": {"map_px": 1024, "padding_px": 4.0}, "delivery": {"templates": "none"}}


def chosen(top: Path, count: int, most: int) -> list[str]:
    """Mesh files of the packages, in an order that has nothing to do with what they are."""
    found = [
        p.relative_to(top).as_posix() for p in top.rglob("*") if p.is_file() and formats.is_mesh(p.name) and 200 < p.stat().st_size < most
    ]
    return sorted(found, key=lambda p: hashlib.sha256(p.encode()).hexdigest())[:count]


def _passed(x: int) -> int:
    return x


def engine_ms(client: Any, count: int = 1000) -> float:
    """Milliseconds that the engine itself takes for a task that does nothing."""
    client.gather(client.map(_passed, range(50), pure=False))
    begin = time.perf_counter()
    client.gather(client.map(_passed, range(count), pure=False))
    return (time.perf_counter() - begin) / count * 1000


def done(orders: list[dict[str, Any]], workers: int, kill: float) -> tuple[list[dict[str, Any]], float, int, float]:
    """Rows, seconds (the workers' start is not counted), how many workers were killed, and ms of the engine for a task."""
    killed, over = 0, threading.Event()
    with batch.cluster(None, workers) as client:
        ms = engine_ms(client)
        # Every worker has its process for the work before it counts.
        client.run(_warm)

        def kill_now_and_then() -> None:
            nonlocal killed
            while not over.wait(kill):
                for pid in list(client.run(os.getpid).values())[:1]:
                    os.kill(pid, signal.SIGKILL)
                    killed += 1

        killer = threading.Thread(target=kill_now_and_then, daemon=True)
        if kill:
            killer.start()
        begin = time.monotonic()
        rows = batch.run(client, orders, lambda *_: None)
        seconds = time.monotonic() - begin
        over.set()
        if kill:
            killer.join()
    return rows, seconds, killed, ms


def _warm() -> None:
    batch.one(
        {
            "name": "none",
            "root": "/nonexistent",
            "inner": ".",
            "out": "/nonexistent/out",
            "files": ["none.obj"],
            "job": JOB,
            "key": batch.key_of(_text()),
            "force": False,
        }
    )


def _text() -> bytes:
    return json.dumps(JOB, sort_keys=True).encode()


def bytes_of(out: Path) -> dict[str, str]:
    """Hashes of all that was put out, but of how long it took."""
    return {
        p.relative_to(out).as_posix(): hashlib.sha256(p.read_bytes()).hexdigest()
        for p in out.rglob("*")
        if p.is_file() and p.name != "run.json"
    }


def main() -> None:
    """Measure and print."""
    p = argparse.ArgumentParser(prog="bench.batch", description=__doc__)
    p.add_argument("--assets", type=int, default=200)
    p.add_argument("--largest", type=int, default=1500, help="kB of the largest file taken")
    p.add_argument("--passes", type=int, default=20)
    p.add_argument("--kill", type=float, default=8.0, help="seconds between two kills of a worker in the last run; 0 for none")
    p.add_argument("--out", type=Path, default=Path("/tmp/quilt-batch"))
    args = p.parse_args()
    shutil.rmtree(args.out, ignore_errors=True)
    args.out.mkdir(parents=True)
    files = chosen(CACHE, args.assets, args.largest * 1000)
    (args.out / "assets.txt").write_text("\n".join(files) + "\n")
    job = {**JOB, "recipe": {**JOB["recipe"], "passes": args.passes}}  # type: ignore[dict-item]
    took: dict[int, float] = {}
    found: dict[str, dict[str, str]] = {}
    for workers, kill in ((1, 0.0), (2, 0.0), *(((2, args.kill),) if args.kill else ())):
        out = args.out / f"{workers}{'-killed' if kill else ''}"
        orders = [batch.order_of(a, job, Here(CACHE), Here(out), False) for a in batch.assets_of(files, "file")]
        rows, seconds, killed, ms = done(orders, workers, kill)
        Here(out).sweep()
        found[out.name] = bytes_of(out)
        (args.out / f"{out.name}.json").write_text(json.dumps({"seconds": [r["seconds"] for r in rows if r["seconds"]], "engine_ms": ms}))
        own = [r["seconds"] for r in rows if r["seconds"]]
        states = {s: sum(r["state"] == s for r in rows) for s in ("done", "failed", "unchanged")}
        peaks = [r["peak_mb"] for r in rows if r.get("peak_mb")]
        cores = sum(r["cpu_seconds"] for r in rows if r.get("cpu_seconds")) / sum(own)
        spare = (seconds * workers - sum(own)) / len(rows) * 1000
        took.setdefault(workers, seconds)
        print(
            f"{workers} workers{f', {killed} killed' if kill else ''}: {states} in {seconds:.0f} s, {statistics.median(own):.2f} s an asset (median, {max(own):.1f} at most, on {cores:.2f} cores), {spare:.0f} ms an asset beside its own work, "
            f"{ms:.1f} ms of it the engine's; memory at most {max(peaks):.0f} MB, median {statistics.median(peaks):.0f}",
            flush=True,
        )
        kinds = sorted({str(r.get("why", ""))[-90:] for r in rows if r["state"] == "failed"})
        print("  " + "\n  ".join(kinds[:12]), flush=True)
    print(f"two workers are {took[1] / took[2]:.2f} times as fast as one")
    names = list(found)
    print("the same bytes: " + ", ".join(f"{a} and {b}: {found[a] == found[b]}" for a, b in pairwise(names)))


if __name__ == "__main__":
    main()
