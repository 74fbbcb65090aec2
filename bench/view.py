"""Frames per second of the two views while they move, 1,000 islands and 200,000 triangles, in headless Chromium with software GL.

`python -m bench.view`. Software GL is some hundred times slower than a graphics card: compare runs, not machines.
"""

from __future__ import annotations

import os
import resource
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parents[1]
ARGS = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-gpu", "--disable-background-networking"]
COUNT = """async (moves) => {
  const box = document.querySelector(`[data-testid=${moves}]`).getBoundingClientRect()
  const canvas = document.querySelector(`[data-testid=${moves}] canvas`)
  let frames = 0
  const begin = performance.now()
  while (performance.now() - begin < 4000) {
    canvas.dispatchEvent(new WheelEvent('wheel', { deltaY: frames % 20 < 10 ? 8 : -8, clientX: box.x + box.width / 2, clientY: box.y + box.height / 2,
      bubbles: true, cancelable: true }))
    await new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r)))
    frames++
  }
  return frames / ((performance.now() - begin) / 1000)
}"""


def sheet(islands: int = 1000, cells: int = 10) -> bytes:
    """An OBJ of square patches of cells x cells quads, each an island: islands * cells^2 * 2 triangles."""
    lines, n = [], cells + 1
    for k in range(islands):
        x, y = k % 40, k // 40
        for j in range(n):
            for i in range(n):
                lines.append(
                    f"v {x + 0.9 * i / cells:.4f} {y + 0.9 * j / cells:.4f} 0\nvt {(x + 0.9 * i / cells) / 40:.6f} {(y + 0.9 * j / cells) / 40:.6f}"
                )
        first = k * n * n + 1
        for j in range(cells):
            for i in range(cells):
                a = first + j * n + i
                lines.append(f"f {a}/{a} {a + 1}/{a + 1} {a + n + 1}/{a + n + 1} {a + n}/{a + n}")
    return "\n".join(lines).encode()


def measure(page: Page, url: str, file: Path) -> None:
    """Bring the file in and count frames."""
    page.goto(url)
    page.get_by_role("button", name="Start a project").click()
    begin = time.perf_counter()
    page.get_by_test_id("files").set_input_files(file)
    page.get_by_role("heading", name="Inspect").wait_for(timeout=120_000)
    print(f"brought in and inspected in {time.perf_counter() - begin:.1f} s", flush=True)
    page.wait_for_timeout(1500)
    for view in ("table", "model"):
        print(f"{view}: {page.evaluate(COUNT, view):.1f} frames a second", flush=True)


def main() -> None:
    """Start the application, measure, stop it."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "sheet.obj"
        file.write_bytes(sheet())
        env = {**os.environ, "PYTHONPATH": str(ROOT)}
        app = subprocess.Popen([sys.executable, "-m", "quilt_cli", "start", "--port", str(port), "--data", folder], cwd=ROOT, env=env)
        try:
            while True:
                try:
                    urllib.request.urlopen(f"http://localhost:{port}/api/projects").close()
                    break
                except OSError:
                    time.sleep(0.2)
            with sync_playwright() as p:
                browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=ARGS)
                measure(browser.new_page(viewport={"width": 1280, "height": 800}), f"http://localhost:{port}", file)
                browser.close()
        finally:
            app.terminate()
            app.wait()
    print(f"greatest memory of the application's processes {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
