"""The worker process itself: killed while it works, it leaves a job that is reported and can be started again."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.core.test_faults import squares
from tests.kit.processes import ROOT, children, free_port, wait_for

SET_UP = """
import django; django.setup()
from django.core.management import call_command
call_command('migrate', verbosity=0)
from quilt_server.jobs.kinds.bring_in import run_import
from quilt_server.projects.models import Job, Project
from quilt_server.projects.sources import store
from quilt_server.projects.state import RECIPE, advance
import sys
project = Project.objects.create(name='Killed')
files = [{'path': 'a.obj', 'sha': store(sys.stdin.buffer.read())}]
run_import(Job.objects.create(project=project, kind='import', state='done', params={'files': files}))
project.refresh_from_db()
advance(project, 'Long', project.head, project.head.layout, settings=RECIPE | {'seconds': 3600.0})
Job.objects.create(project=project, kind='pack', params={'base': project.head.pk})
"""


@pytest.fixture
def data(tmp_path: Path) -> Path:
    env = {**os.environ, "QUILT_DATA": str(tmp_path), "DJANGO_SETTINGS_MODULE": "quilt_server.settings", "PYTHONPATH": str(ROOT)}
    boxes = squares([(0.1 * k, 0.1, 0.1 * k + 0.05, 0.2) for k in range(9)])
    subprocess.run([sys.executable, "-c", SET_UP], input=boxes, env=env, cwd=ROOT, check=True)
    return tmp_path


def worker(data: Path) -> subprocess.Popen[bytes]:
    env = {**os.environ, "QUILT_DATA": str(data), "PYTHONPATH": str(ROOT)}
    return subprocess.Popen([sys.executable, "-m", "quilt_server.jobs.worker"], env=env, cwd=ROOT)


def job(data: Path) -> tuple[str, str]:
    with sqlite3.connect(data / "quilt.sqlite3") as db:
        return db.execute("select state, error from projects_job where kind = 'pack' order by id desc").fetchone()


def packing(data: Path) -> bool:
    with sqlite3.connect(data / "quilt.sqlite3") as db:
        state, text = db.execute("select state, progress from projects_job where kind = 'pack' order by id desc").fetchone()
    return state == "running" and "coverage" in text


def test_a_killed_worker_leaves_no_orphan_and_a_job_that_is_reported(data: Path) -> None:
    first = worker(data)
    wait_for(lambda: packing(data))
    own = children(first.pid)
    assert own, "the job runs in a process of its own"
    first.send_signal(signal.SIGKILL)
    first.wait()
    wait_for(lambda: not any(Path(f"/proc/{pid}").exists() and "Z" not in Path(f"/proc/{pid}/stat").read_text().split()[2] for pid in own))
    assert job(data)[0] == "running", "nobody could say yet that it ended"
    second = worker(data)
    try:
        wait_for(lambda: job(data)[0] == "interrupted")
        assert "Start it again" in job(data)[1]
        with sqlite3.connect(data / "quilt.sqlite3") as db:
            db.execute("update projects_job set state = 'waiting', error = '' where kind = 'pack'")
        wait_for(lambda: packing(data))
    finally:
        second.terminate()
        second.wait()


def test_a_killed_job_is_reported_and_the_worker_goes_on(data: Path) -> None:
    process = worker(data)
    try:
        wait_for(lambda: packing(data))
        for pid in children(process.pid):
            os.kill(pid, signal.SIGKILL)
        wait_for(lambda: job(data)[0] == "interrupted")
        assert process.poll() is None
    finally:
        process.terminate()
        process.wait()


def start_again(data: Path) -> None:
    """Two projects, each with a packing that takes an hour."""
    more = SET_UP.replace("'Killed'", "'Second'")
    env = {**os.environ, "QUILT_DATA": str(data), "DJANGO_SETTINGS_MODULE": "quilt_server.settings", "PYTHONPATH": str(ROOT)}
    boxes = squares([(0.1 * k, 0.1, 0.1 * k + 0.05, 0.2) for k in range(9)])
    subprocess.run([sys.executable, "-c", more], input=boxes, env=env, cwd=ROOT, check=True)


def states(data: Path) -> list[str]:
    with sqlite3.connect(data / "quilt.sqlite3") as db:
        return [s for (s,) in db.execute("select state from projects_job where kind = 'pack' order by id")]


def test_a_long_packing_of_one_project_makes_no_other_wait_and_a_stop_keeps_what_there_is(data: Path) -> None:
    start_again(data)
    process = worker(data)
    try:
        wait_for(lambda: states(data) == ["running", "running"])
        wait_for(lambda: packing(data))
        with sqlite3.connect(data / "quilt.sqlite3") as db:
            db.execute("update projects_job set cancel = 1 where kind = 'pack'")
        (data / "wake").touch()
        wait_for(lambda: states(data) == ["done", "done"])
        with sqlite3.connect(data / "quilt.sqlite3") as db:
            assert db.execute("select count(*) from projects_layout where kind = 'pack'").fetchone() == (2,)
    finally:
        process.terminate()
        process.wait()


def test_work_that_does_not_hear_a_stop_is_ended_and_the_project_is_as_it_was(data: Path) -> None:
    """A test bake at its largest asks nobody; its process is ended."""
    with sqlite3.connect(data / "quilt.sqlite3") as db:
        db.execute("update projects_job set kind = 'bake', params = json_set(params, '$.sheet', 1, '$.px', 8192, '$.rays', 1024, '$.maps', json('[\"occlusion\"]'), "
                   "'$.cage', null, '$.depth', 8, '$.pairs', json('{}')) where kind = 'pack'")  # fmt: skip
        db.execute("update projects_snapshot set settings = json_set(settings, '$.map_px', 8192)")
        head = db.execute("select head_id from projects_project").fetchone()
    process = worker(data)

    def state() -> tuple[str, str]:
        with sqlite3.connect(data / "quilt.sqlite3") as db:
            return db.execute("select state, error from projects_job where kind = 'bake'").fetchone()

    try:
        wait_for(lambda: state()[0] == "running")
        time.sleep(1.0)
        with sqlite3.connect(data / "quilt.sqlite3") as db:
            db.execute("update projects_job set cancel = 1 where kind = 'bake'")
        (data / "wake").touch()
        wait_for(lambda: state()[0] == "stopped", 20)
        assert "as it was" in state()[1] and not children(process.pid)
        with sqlite3.connect(data / "quilt.sqlite3") as db:
            assert db.execute("select head_id from projects_project").fetchone() == head
    finally:
        process.terminate()
        process.wait()


def test_a_second_worker_is_refused_before_it_touches_a_job(data: Path) -> None:
    first = worker(data)
    try:
        wait_for(lambda: packing(data))
        env = {**os.environ, "QUILT_DATA": str(data), "PYTHONPATH": str(ROOT)}
        second = subprocess.run([sys.executable, "-m", "quilt_server.jobs.worker"], env=env, cwd=ROOT, capture_output=True, timeout=60)
        assert second.returncode == 2 and b"in use already" in second.stderr and job(data)[0] == "running"
    finally:
        first.terminate()
        first.wait()


def test_a_worker_that_dies_is_started_again_and_a_second_start_is_refused(data: Path) -> None:
    env = {**os.environ, "QUILT_DATA": str(data), "PYTHONPATH": str(ROOT)}
    command = [sys.executable, "-m", "quilt_cli", "start", "--port", str(free_port()), "--data", str(data)]
    app = subprocess.Popen(command, env=env, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    try:
        wait_for(lambda: packing(data), 90)
        (old,) = children(app.pid)
        again = subprocess.run([*command[:-3], str(free_port()), "--data", str(data)], env=env, cwd=ROOT, capture_output=True, timeout=60)
        assert again.returncode == 2 and b"Open the one that runs" in again.stderr and job(data)[0] == "running"
        os.kill(old, signal.SIGKILL)
        wait_for(lambda: children(app.pid) not in ([], [old]), 60)
        wait_for(lambda: job(data)[0] == "interrupted", 60)
    finally:
        app.terminate()
        app.wait()
    wait_for(lambda: not children(app.pid))


def test_how_work_ended_is_told_by_what_the_system_says_of_it() -> None:
    """A full disk was told as memory that ran out."""
    import signal

    from quilt_server.jobs.worker import _UNWRITTEN, _ended

    full, killed, other = _ended(_UNWRITTEN << 8), _ended(signal.SIGKILL), _ended(1 << 8)
    assert "disk is full" in full[1] and "memory" not in full[1]
    assert "memory" in killed[1] and "disk" not in killed[1]
    assert "logs/quilt.log" in other[1] and not {"memory", "disk"} & set(other[1].split())
    assert all(state == "interrupted" and words.endswith("The project is as it was.") for state, words in (full, killed, other))
