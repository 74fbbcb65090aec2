"""Many pages at once on one running program: `python -m tests.hostile.clients --clients 50 --seconds 600`. Ends with 1 where an answer was an error of ours, or was lost.

Each client reads the state of its project and changes a setting on it, again and again, with a pause as a person makes; every third project is packed meanwhile."""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import threading
import time
from pathlib import Path

from tests.shapes import grid_obj

from .running import Running, running


def _client(
    r: Running, project: int, number: int, end: float, times: dict[str, list[float]], odd: list[str], pause: float, packs: bool
) -> None:
    chance, path = random.Random(number), f"/api/projects/{project}"
    time.sleep(chance.uniform(0, 2) * pause)  # people do not come all at once
    while time.monotonic() < end:
        begin = time.monotonic()
        status, state = r.ask("GET", path)
        times["state"].append(time.monotonic() - begin)
        if status != 200:
            odd.append(f"state: {status} {state}")
            continue
        body = {
            "base": state["snapshot"],
            "settings": {**state["settings"], "band": round(chance.uniform(1, 50), 2), "seconds": 2.0, "map_px": 512},
        }
        begin = time.monotonic()
        status, told = r.ask("POST", f"{path}/change", body)
        times["change"].append(time.monotonic() - begin)
        if status not in (200, 409):
            odd.append(f"change: {status} {told}")
        if packs and number % 10 == 0 and status == 200:
            r.ask("POST", f"{path}/jobs", {"kind": "pack", "base": told["snapshot"], "params": {}})
        time.sleep(chance.uniform(0.5, 1.5) * pause)


def main() -> int:
    """Run it and tell the 95th percentiles."""
    p = argparse.ArgumentParser(prog="tests.hostile.clients", description=__doc__)
    p.add_argument("--clients", type=int, default=50)
    p.add_argument("--seconds", type=float, default=600)
    p.add_argument("--projects", type=int, default=10)
    p.add_argument("--pause", type=float, default=2.0, help="seconds between two changes of one client")
    p.add_argument("--no-packs", action="store_true", help="a quiet machine: nothing is packed meanwhile")
    args = p.parse_args()
    times: dict[str, list[float]] = {"state": [], "change": []}
    odd: list[str] = []
    with tempfile.TemporaryDirectory() as folder, running(Path(folder) / "data") as r:
        projects = [r.project({"a.obj": grid_obj(60)}, f"Project {n}") for n in range(args.projects)]
        end = time.monotonic() + args.seconds
        clients = [
            threading.Thread(target=_client, args=(r, projects[n % len(projects)], n, end, times, odd, args.pause, not args.no_packs))
            for n in range(args.clients)
        ]
        for c in clients:
            c.start()
        for c in clients:
            c.join()
    for what, found in times.items():
        found.sort()
        print(
            f"{what}: {len(found):,} answers, median {found[len(found) // 2] * 1000:.0f} ms, 95 % within {found[int(len(found) * 0.95)] * 1000:.0f} ms"
        )
    print(f"{len(odd)} answers that were errors of ours" + "".join(f"\n{o[:200]}" for o in odd[:5]))
    return 1 if odd else 0


if __name__ == "__main__":
    sys.exit(main())
