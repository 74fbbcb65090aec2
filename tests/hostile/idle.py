"""What the program costs while nobody does anything: `python -m tests.hostile.idle [SECONDS]` opens a project in Chromium, waits, and prints the share of a core that
page, server and worker took, and how many requests the page made."""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import psutil
from playwright.sync_api import sync_playwright

from tests.e2e.steps import start
from tests.hostile.running import running
from tests.kit.chromium import launched
from tests.shapes import grid_obj


def seconds_of(pids: set[int]) -> float:
    """Processor time of some processes so far."""
    total = 0.0
    for pid in pids:
        try:
            t = psutil.Process(pid).cpu_times()
        except psutil.NoSuchProcess:
            continue
        total += t.user + t.system
    return total


def measured(folder: Path, seconds: float) -> dict[str, float]:
    """Shares of a core, and requests, over so many seconds with a page open."""
    mesh = folder / "patches.obj"
    mesh.write_bytes(grid_obj(9))
    with running(folder / "data") as r, sync_playwright() as p:
        browser = launched(p)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        start(page, r.url, "Idle", mesh)
        page.wait_for_timeout(12_000)
        asked: list[str] = []
        page.on("request", lambda request: asked.append(request.url))
        worker = set(r.named("quilt_server.jobs.worker"))
        server = set(r.processes()) - worker
        devtools = page.context.new_cdp_session(page)
        devtools.send("Performance.enable")

        def of_page() -> float:
            """Processor time of the process that shows the page, by Chromium's own count."""
            return next(float(m["value"]) for m in devtools.send("Performance.getMetrics")["metrics"] if m["name"] == "ProcessTime")

        groups = {"worker": worker, "server": server}
        before, begin = {k: seconds_of(v) for k, v in groups.items()} | {"page": of_page()}, time.monotonic()
        page.wait_for_timeout(1000 * seconds)
        passed = time.monotonic() - begin
        out = {k: (seconds_of(v) - before[k]) / passed for k, v in groups.items()} | {"page": (of_page() - before["page"]) / passed}
        browser.close()
    return out | {"requests": float(len(asked))}


def main() -> int:
    """Measure and print."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    with tempfile.TemporaryDirectory() as folder:
        found = measured(Path(folder), seconds)
    shares = {k: v for k, v in found.items() if k != "requests"}
    print(
        ", ".join(f"{k} {v:.2%}" for k, v in shares.items()),
        f"together {sum(shares.values()):.2%}, {found['requests']:.0f} requests in {seconds:.0f} s",
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
