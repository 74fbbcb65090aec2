"""What bringing in and changing costs in the running application: `python -m bench.change [tree|small|middle|heap|million ...]`.

The application is started on a data folder of its own and asked over its API as the browser asks: from the request to the answer that the job is
over, the new state, the changed rows and the faults. Beside each the same measured whole, in this process, as a ratio.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
import urllib.request
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

PORT = 8399
ROOT = Path(__file__).resolve().parents[1]


class App:
    """The application, asked over HTTP on the loopback address."""

    def __init__(self, data: Path) -> None:
        env = {**os.environ, "QUILT_DATA": str(data), "PYTHONPATH": str(ROOT)}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "quilt_cli", "start", "--port", str(PORT)], env=env, cwd=ROOT, stdout=subprocess.PIPE
        )
        assert self.process.stdout is not None
        self.process.stdout.readline()
        time.sleep(3)  # the worker loads its kernels
        self.project = self.post("/api/projects", {"name": "Bench"})["id"]
        self.last: Any = None

    def ask(self, path: str, body: bytes | None = None, kind: str = "application/json") -> bytes:
        """A request; POST where there is a body."""
        request = urllib.request.Request(f"http://127.0.0.1:{PORT}{path}", body, {"X-Quilt": "1", "Content-Type": kind})
        with urllib.request.urlopen(request, timeout=600) as answer:
            return answer.read()

    def post(self, path: str, body: object) -> Any:
        return json.loads(self.ask(path, json.dumps(body).encode()))

    def state(self) -> Any:
        return json.loads(self.ask(f"/api/projects/{self.project}"))

    def finished(self, job: Any) -> Any:
        """Wait for a job; fails when it did not end well."""
        while job["state"] not in ("done", "failed", "stopped", "interrupted"):
            job = json.loads(self.ask(f"/api/jobs/{job['id']}?wait=0.5"))
        assert job["state"] == "done", job
        return job

    def bring(self, files: dict[str, bytes]) -> None:
        edge = uuid.uuid4().hex
        parts = []
        for name, body in files.items():
            parts.append(f'--{edge}\r\nContent-Disposition: form-data; name="files"; filename="{name}"\r\n\r\n'.encode() + body + b"\r\n")
            parts.append(f'--{edge}\r\nContent-Disposition: form-data; name="paths"\r\n\r\n{name}\r\n'.encode())
        parts.append(f"--{edge}--\r\n".encode())
        self.finished(json.loads(self.ask(f"/api/projects/{self.project}/files", b"".join(parts), f"multipart/form-data; boundary={edge}")))

    def do(self, kind: str, **params: object) -> Any:
        """A job and everything that the browser fetches after it; what it knows before is `last`."""
        before = self.last
        job = self.post(f"/api/projects/{self.project}/jobs", {"kind": kind, "base": before["snapshot"], "params": params})
        self.finished(job)
        return self.fetched(before)

    def fetched(self, before: Any) -> Any:
        """The new state with the rows and faults that go with it."""
        after = self.last = self.state()
        for f in after["files"]:
            self.ask(f"/api/layouts/{after['layout']}/files/{f['id']}?since={before['layout']}")
        self.ask(f"/api/projects/{self.project}/faults")
        return after


def timed(what: Callable[[], Any], times: int = 1) -> float:
    """Median seconds of some runs."""
    found = []
    for _ in range(times):
        begin = time.perf_counter()
        what()
        found.append(time.perf_counter() - begin)
    return sorted(found)[len(found) // 2]


def memory(pid: int) -> int:
    """Greatest resident memory in MB of a process and its children so far, each by itself; the largest counts."""
    most = 0
    for status in Path("/proc").glob("[0-9]*/status"):
        try:
            text = status.read_text()
        except OSError:
            continue
        if f"\nPPid:\t{pid}\n" in text or status.parent.name == str(pid):
            peak = [line for line in text.splitlines() if line.startswith("VmHWM")]
            most = max(most, int(peak[0].split()[1]) // 1024 if peak else 0)
    return most


def sets() -> dict[str, Callable[[], dict[str, bytes]]]:
    """The files of each bench."""
    from bench.stress import far_patches
    from tests.real_files import path

    def heap() -> dict[str, bytes]:
        return {
            "samurai.obj": path("pybullet", "samurai_monastry.obj").read_bytes(),
            "trunk.obj": path("pybullet", "a1/meshes/trunk.obj").read_bytes(),
            "far.obj": far_patches(),
        }

    def tree() -> dict[str, bytes]:
        """18,051 islands: branches side by side, and leaves of twelve shapes, all of a shape on each other."""
        lines, rows = [], 0
        for k in range(18_051):
            leaf, at = k >= 51, np.array([k % 97, k // 97 % 97, k // 9409], float)
            kind = k % 12
            low = np.array([0.02 + 0.07 * (kind % 4), 0.7 + 0.08 * (kind // 4)]) if leaf else np.array([0.02 * k % 0.9, 0.1 * (k // 9)])
            size = np.array([0.05, 0.06]) if leaf else np.array([0.015, 0.08])
            for x, y in ((0, 0), (1, 0), (1, 1), (0, 1)):
                lines.append("v {:.4f} {:.4f} {:.4f}".format(*(at + (x, y, 0))))
                lines.append("vt {:.6f} {:.6f}".format(*(low + size * (x, y))))
            lines.append("f " + " ".join(f"{rows + c}/{rows + c}" for c in range(1, 5)))
            rows += 4
        return {"tree.obj": "\n".join(lines).encode()}

    return {
        "tree": tree,
        "small": lambda: {"boxes.obj": far_patches(18, 4, 0.0)},
        "middle": lambda: {"patches.obj": far_patches(300, 9, 2.0, largest=0.15)},
        "heap": heap,
        "million": lambda: {f"part_{k:03}.obj": far_patches(100, 7, 1.0, k, 0.05, True) for k in range(100)},
    }


def main() -> None:
    """Print a table for each chosen set."""
    from quilt_core.measure.lie import measured, updated
    from quilt_core.measure.shapes import joined

    for name in sys.argv[1:] or ["tree", "small", "middle", "heap", "million"]:
        with tempfile.TemporaryDirectory() as folder:
            app = App(Path(folder))
            files = sets()[name]()
            try:
                print(f"\n{name}: {sum(map(len, files.values())) / 2**20:.0f} MB")
                print(f"  bring in                  {timed(lambda a=app, f=files: a.bring(f)):7.2f} s")
                state = app.last = app.state()
                objects, islands = len(state["objects"]), sum(o["islands"] for o in state["objects"])
                print(f"  {objects} objects, {islands} islands, {sum(o['triangles'] for o in state['objects']):,} triangles")
                print(f"  state alone               {timed(app.state, 5):7.3f} s")
                last = state["objects"][-1]
                file, first = last["file"], last["first_island"] + last["islands"] // 2
                far = [0.0]

                def move(a: App = app, file: int = file, first: int = first, far: list[float] = far) -> None:
                    far[0] += 0.01
                    a.do("mend", action="move", rows={str(file): [[first, 0.0, 1, 1.0, far[0], 0.0]]}, label="Move by hand")

                print(f"  one island moved by hand  {timed(move, 5):7.3f} s")
                before = app.state()
                print(f"  all flipped back          {timed(lambda a=app: a.do('mend', action='flip', islands=None)):7.2f} s")
                print(
                    f"  all evened                {timed(lambda a=app: a.do('mend', action='even', density=a.last['figures']['density'], islands=None)):7.2f} s"
                )

                def undo(a: App = app) -> None:
                    a.post(f"/api/projects/{a.project}/undo", {"base": a.last["snapshot"]})
                    a.fetched(a.last)

                print(f"  undo of that              {timed(undo):7.3f} s")
                print(f"  greatest process          {memory(app.process.pid):7} MB (web), layout {before['layout']}")
                whole(Path(folder), joined, measured, updated)
            finally:
                app.process.terminate()
                app.process.wait()


def whole(folder: Path, joined: Any, measured: Any, updated: Any) -> None:
    """The same move measured whole and incrementally in one process, without the application around it."""
    from quilt_core.arrays import open_arrays
    from quilt_core.measure.stored import islands_of
    from quilt_core.uv.analysis import IDENTITY

    shapes = joined([islands_of(*open_arrays(p)).shapes for p in sorted((folder / "derived").glob("*.islands*"))])
    rows, on = np.tile(IDENTITY, (shapes.count, 1)), np.zeros(shapes.count, np.int64)
    found: dict[str, Any] = {}
    found["lie"] = measured(shapes, rows, on)
    full = timed(lambda: measured(shapes, rows, on))
    moved = rows.copy()
    moved[0, 3] += 0.01
    part = timed(lambda: updated(shapes, found["lie"], rows, moved, on), 3)
    print(f"  pairs alone: whole {full:.3f} s, one moved {part:.4f} s, ratio {full / max(part, 1e-9):.0f}")


if __name__ == "__main__":
    main()
