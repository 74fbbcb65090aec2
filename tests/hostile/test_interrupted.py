"""A disk that is full, a folder that is gone, a database that somebody holds, processes that are killed: told in words, nothing lost, and the work goes on."""

from __future__ import annotations

import contextlib
import http.client
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.kit.processes import ROOT, children, wait_for
from tests.shapes import grid_obj

from .running import Running, running

KILLS = int(os.environ.get("QUILT_KILLS", "8"))


@pytest.fixture
def program(tmp_path: Path) -> Iterator[Running]:
    with running(tmp_path / "data") as r:
        yield r


def weigh(r: Running, project: int, value: float) -> tuple[int, dict]:
    """Change the weight of an island."""
    state = r.ask("GET", f"/api/projects/{project}")[1]
    if "settings" not in state:
        return 503, state
    file = state["files"][0]["id"]
    settings = {**state["settings"], "weights": {f"{file}:0": value}, "seconds": 0.3, "map_px": 256}
    return r.ask("POST", f"/api/projects/{project}/change", {"base": state["snapshot"], "settings": settings})


def test_a_full_disk_is_told_and_nothing_is_lost(program: Running) -> None:
    project = program.project({"a.obj": grid_obj(40)})
    assert weigh(program, project, 2.0)[0] == 200
    before = program.ask("GET", f"/api/projects/{project}")[1]
    program.grow(4096)
    status, told = weigh(program, project, 3.0)
    assert status == 503 and "disk" in told["detail"], told
    status, told = program.ask("POST", f"/api/projects/{project}/files", files={"b.obj": grid_obj(3000)})
    assert status == 503 and "Nothing" in told["detail"], told
    assert program.ask("GET", f"/api/projects/{project}")[0] == 200, "reading needs no room"
    program.grow(-1)
    assert program.ask("GET", f"/api/projects/{project}")[1] == before
    assert weigh(program, project, 4.0)[0] == 200
    done = program.done(program.ask("POST", f"/api/projects/{project}/files", files={"b.obj": grid_obj(3000)})[1])
    assert done["state"] == "done", done


def test_a_disk_that_fills_up_during_a_job_leaves_the_project_and_the_work_goes_on(program: Running) -> None:
    project = program.project({"a.obj": grid_obj(40)})
    weigh(program, project, 2.0)
    before = program.ask("GET", f"/api/projects/{project}")[1]
    job = program.ask("POST", f"/api/projects/{project}/jobs", {"kind": "pack", "base": before["snapshot"], "params": {}})[1]
    program.grow(4096)
    time.sleep(2)
    program.grow(-1)
    ended = program.done(job)
    assert ended["state"] in ("failed", "interrupted", "done")
    if ended["state"] != "done":
        assert program.ask("GET", f"/api/projects/{project}")[1]["snapshot"] == before["snapshot"]
    again = {"kind": "pack", "base": program.ask("GET", f"/api/projects/{project}")[1]["snapshot"], "params": {}}
    assert program.done(program.ask("POST", f"/api/projects/{project}/jobs", again)[1])["state"] == "done"


def test_a_folder_that_is_gone_for_a_while_comes_back_as_it_was(program: Running) -> None:
    project = program.project({"a.obj": grid_obj(5)})
    before = program.ask("GET", f"/api/projects/{project}")[1]
    away = program.data.with_name("away")
    program.data.rename(away)
    status, told = program.ask("GET", f"/api/projects/{project}")
    assert status == 503 and "data folder" in told["detail"], told
    assert program.ask("GET", "/")[0] == 200, "the page itself needs no data"
    time.sleep(1.5)
    assert not program.data.exists(), "nothing makes another one in its place"
    away.rename(program.data)
    wait_for(lambda: program.ask("GET", f"/api/projects/{project}")[0] == 200)
    assert program.ask("GET", f"/api/projects/{project}")[1] == before
    assert program.done(program.ask("POST", f"/api/projects/{project}/files", files={"b.obj": grid_obj(3)})[1])["state"] == "done"


def test_a_database_that_somebody_holds_is_waited_for(program: Running) -> None:
    project = program.project({"a.obj": grid_obj(5)})
    other = sqlite3.connect(program.data / "quilt.sqlite3", isolation_level=None, check_same_thread=False)
    other.execute("BEGIN IMMEDIATE")
    threading.Timer(2.0, lambda: other.execute("ROLLBACK")).start()
    assert weigh(program, project, 2.0)[0] == 200


def test_a_copy_that_is_taken_while_the_program_runs_is_a_backup(program: Running, tmp_path: Path) -> None:
    """The order that docs/security.md gives: the database by SQLite's own backup, then the files."""
    project = program.project({"a.obj": grid_obj(20)})
    state = program.ask("GET", f"/api/projects/{project}")[1]
    body = {"kind": "pack", "base": state["snapshot"], "params": {}}
    job = program.ask("POST", f"/api/projects/{project}/jobs", body)[1]
    copy = tmp_path / "copy"
    copy.mkdir()
    with sqlite3.connect(program.data / "quilt.sqlite3") as source, sqlite3.connect(copy / "quilt.sqlite3") as target:
        source.backup(target)
    shutil.copytree(program.data / "files", copy / "files")
    program.ask("POST", f"/api/jobs/{job['id']}/stop")
    program.done(job)
    with running(copy) as other:
        found = other.ask("GET", f"/api/projects/{project}")[1]
        assert found["objects"] == state["objects"] and found["figures"] == state["figures"]
        wait_for(lambda: other.ask("GET", "/api/jobs")[1] == [])  # what was running when the copy was taken is told to be interrupted
        assert weigh(other, project, 2.0)[0] == 200
        body["base"] = other.ask("GET", f"/api/projects/{project}")[1]["snapshot"]
        assert other.done(other.ask("POST", f"/api/projects/{project}/jobs", body)[1])["state"] == "done"


@pytest.mark.parametrize("kind", ["a file", "no way", "a database that is none"])
def test_a_folder_that_cannot_be_written_is_told_at_the_start(kind: str, tmp_path: Path) -> None:
    data = tmp_path / "data"
    if kind == "a file":
        data.write_text("I am a file")
    elif kind == "no way":
        data = Path("/proc/1/none/data")
    else:
        data.mkdir()
        (data / "quilt.sqlite3").write_bytes(b"this is no database at all" * 100)
    command = [sys.executable, "-m", "quilt_cli", "start", "--port", "1", "--data", str(data)]
    env = {k: v for k, v in os.environ.items() if k not in ("QUILT_DATA", "DJANGO_SETTINGS_MODULE")} | {"PYTHONPATH": str(ROOT)}
    done = subprocess.run(command, cwd=ROOT, env=env, capture_output=True, timeout=60, check=False)
    words = done.stderr.decode()
    assert done.returncode in (1, 2) and "data folder" in words and "--data" in words and "Traceback" not in words, words


def test_processes_that_are_killed_lose_nothing_that_was_acknowledged(tmp_path: Path) -> None:
    """Somebody works while worker, jobs and the whole program are killed at random moments; after each of these everything that was acknowledged is there."""
    chance, data = random.Random(11), tmp_path / "data"
    r = Running(data)
    try:
        project = r.project({"a.obj": grid_obj(60)})
        acknowledged: dict[int, float] = {}
        for kill in range(KILLS):
            stop = threading.Event()
            worker = threading.Thread(target=_work, args=(r, project, acknowledged, stop, kill))
            worker.start()
            time.sleep(chance.uniform(0.2, 1.5))
            whole = _kill(chance, r)
            stop.set()
            worker.join()
            if whole:
                r.end()
                r = Running(data)
            wait_for(lambda now=r: now.ask("GET", f"/api/projects/{project}")[0] == 200)
            assert acknowledged, "something was done"
            assert set(acknowledged) <= _chain(data, project), f"after kill {kill}"
        # No work is left that waits for nobody.
        wait_for(lambda: r.ask("GET", "/api/jobs")[1] == [])
        base = r.ask("GET", f"/api/projects/{project}")[1]["snapshot"]
        done = r.done(r.ask("POST", f"/api/projects/{project}/jobs", {"kind": "pack", "base": base, "params": {}})[1])
        assert done["state"] == "done", done
    finally:
        r.end()


def _work(r: Running, project: int, acknowledged: dict[int, float], stop: threading.Event, kill: int) -> None:
    for k in range(1000):
        if stop.is_set():
            return
        try:
            status, answer = weigh(r, project, 1.0 + kill + k / 1000)
            if status == 200:
                acknowledged[answer["snapshot"]] = 1.0 + kill + k / 1000
                r.ask("POST", f"/api/projects/{project}/jobs", {"kind": "pack", "base": answer["snapshot"], "params": {}})
        except (OSError, ValueError, KeyError, http.client.HTTPException):
            return  # the program is gone: whatever it did not answer was not acknowledged


def _kill(chance: random.Random, r: Running) -> bool:
    """Kill the program, its worker or a job; whether it was the whole program."""
    workers = children(r.process.pid)
    jobs = [c for w in workers for c in children(w)]
    victims = {"program": [r.process.pid], "worker": workers, "job": jobs}
    kind = chance.choice([k for k, v in victims.items() if v])
    for pid in victims[kind]:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
    return kind == "program"


def _chain(data: Path, project: int) -> set[int]:
    """The states from a project's head back to its first, read from the database itself."""
    with sqlite3.connect(data / "quilt.sqlite3", timeout=20) as db:
        parents = dict(db.execute("select id, parent_id from projects_snapshot where project_id = ?", (project,)).fetchall())
        (at,) = db.execute("select head_id from projects_project where id = ?", (project,)).fetchone()
    out = set()
    while at is not None:
        out.add(at)
        at = parents[at]
    return out
