"""A process that does one asset after the other, each in a child of its own with a data folder of its own: what an asset breaks ends with it, and what all need is loaded once.

It reads orders as lines of JSON and answers with lines of JSON; `Desk` is the other end.
"""

from __future__ import annotations

import gc
import json
import os
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import traceback
from pathlib import Path
from typing import Any

from quilt_cli.child import die_with_parent

MEMORY = 4 << 30  # bytes that an asset may take
Row = dict[str, Any]


class Desk:
    """Starts such a process and gives it orders; one that died is started again by the next order."""

    def __init__(self) -> None:
        self.process: subprocess.Popen[str] | None = None

    def do(self, order: Row) -> Row:
        """Do an asset; the answer says how it ended, whatever became of it."""
        if self.process is None or self.process.poll() is not None:
            command = [sys.executable, "-m", "quilt_server.jobfile.desk"]
            # Wherever the worker was started: this very program.
            path = os.pathsep.join(filter(None, [str(Path(__file__).resolve().parents[2]), os.environ.get("PYTHONPATH")]))
            env = {**os.environ, "PYTHONPATH": path}
            self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=env)
        p = self.process
        assert p.stdin is not None and p.stdout is not None
        try:
            p.stdin.write(json.dumps(order) + "\n")
            p.stdin.flush()
            line = p.stdout.readline()
        except OSError:
            line = ""
        if not line:
            p.kill()
            p.wait()
            self.process = None
            raise RuntimeError("the process that does the work ended")  # whoever asked asks again
        found: Row = json.loads(line)
        return found

    def end(self) -> None:
        """Stop it."""
        if self.process is not None and self.process.stdin is not None:
            self.process.stdin.close()
            self.process.wait()
        self.process = None


def _own(template: Path) -> Path:
    """A data folder with an empty database for one asset, which this process works on from now on."""
    from django.conf import settings
    from django.db import connections

    place = Path(tempfile.mkdtemp(prefix="asset-", dir=template))
    shutil.copy(template / "empty.sqlite3", place / "quilt.sqlite3")
    settings.DATA_DIR = place
    connections["default"].settings_dict["NAME"] = place / "quilt.sqlite3"
    return place


def _load(template: Path) -> None:
    """Load what nearly every asset needs, so that its child has it."""
    from django.db import connections

    from quilt_cli.compile_kernels import measuring
    from quilt_core.formats.registry import load_quick

    from . import engine
    from .text import parsed

    connections.close_all()
    shutil.copy(template / "quilt.sqlite3", template / "empty.sqlite3")

    load_quick()
    measuring()
    # A job of two squares: what the children of this process need is loaded then, once.
    squares = b"".join(
        b"v %d 0 0\nv %d 0 0\nv %d 1 0\nv %d 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf %s\n"
        % (2 * k, 2 * k + 1, 2 * k + 1, 2 * k, b" ".join(b"%d/%d" % (4 * k + c, 4 * k + c) for c in (1, 2, 3, 4)))
        for k in range(2)
    )
    place = _own(template)
    (place / "two.obj").write_bytes(squares)
    engine.Engine(parsed({"job": 1, "recipe": {"map_px": 64, "passes": 1}}, "two"), place).run(["two.obj"])
    connections.close_all()
    shutil.rmtree(place)


def _asset(order: Row) -> Row:
    """Do an order in this process, which is there for it alone."""
    from quilt_core.errors import DoesNotFit, QuiltError

    begin = time.monotonic()
    try:
        return {**_done(order), "seconds": round(time.monotonic() - begin, 3)}
    except DoesNotFit as e:
        why, kind = str(e), "does not fit"
    except QuiltError as e:
        why, kind = str(e), "failed"
    except MemoryError:
        why, kind = f"It takes more than {MEMORY >> 30} GB of memory. Do it in several parts.", "failed"
    return {"name": order["name"], "state": "failed", "kind": kind, "why": why, "seconds": round(time.monotonic() - begin, 3)}


def _done(order: Row) -> Row:
    from django.conf import settings

    from .engine import Above, Engine, reported
    from .places import places_of
    from .results import PROJECT, short
    from .text import parsed

    begin = time.monotonic()
    there, out = places_of(order)
    folder, root = there.at_hand(order["files"], Path(settings.DATA_DIR))
    job = parsed(order["job"], order["name"])
    engine = Engine(job, folder, root=root)
    try:
        done = engine.run(order["files"])
    except Above:
        engine = Engine(job, root)
        done = engine.run([(folder / f).relative_to(root).as_posix() for f in order["files"]])
        done.read = {os.path.relpath(root / p, folder): sha for p, sha in done.read.items()}
    if picture := engine.picture():
        done.files["sheet.png"] = picture
    if order.get("keep"):
        engine.save(kept := Path(settings.DATA_DIR) / PROJECT)
        done.files[PROJECT] = kept.read_bytes()
    report = reported(done, engine, order["key"], order["files"], time.monotonic() - begin) | {"batch": order.get("batch")}
    out.put(done.files, report)
    return {"name": order["name"], "state": "done", **short(report)}


def _in_child(order: Row, template: Path) -> Row:
    """Do an order in a child, and answer for it where it cannot."""
    place = _own(template)
    read, write = os.pipe()
    pid = os.fork()
    if not pid:
        code = 1
        try:
            die_with_parent()
            os.close(read)
            resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, resource.getrlimit(resource.RLIMIT_DATA)[1]))
            sys.stdout = sys.stderr
            with os.fdopen(write, "w") as f:
                json.dump(_asset(order), f)
            code = 0
        except BaseException:
            print(f"{order['name']}:\n{traceback.format_exc()}", file=sys.stderr)
        finally:
            os._exit(code)
    os.close(write)
    with os.fdopen(read) as f:
        body = f.read()
    _, status, used = os.wait4(pid, 0)
    shutil.rmtree(place, ignore_errors=True)
    if status or not body:
        why = f"signal {os.WTERMSIG(status)}" if os.WIFSIGNALED(status) else "an error that is ours; it is told on standard error"
        return {"name": order["name"], "state": "failed", "kind": "crashed", "why": f"The work on it ended with {why}.", "seconds": None}
    return {**json.loads(body), "peak_mb": used.ru_maxrss // 1024, "cpu_seconds": round(used.ru_utime + used.ru_stime, 3)}


def main() -> int:
    """Orders from standard input, one a line."""
    die_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # whoever gives the orders decides
    from .place import own_place

    with own_place() as template:
        _load(template)
        gc.collect()
        gc.freeze()  # a child need not copy pages only because its collector looked at them
        for line in sys.stdin:
            print(json.dumps(_in_child(json.loads(line), template)), flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
