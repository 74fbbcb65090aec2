"""The worker process itself: killed while it works, it leaves a job that is reported and can be started again."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.core.test_faults import squares

ROOT = Path(__file__).resolve().parents[2]
SET_UP = """
import django; django.setup()
from django.core.management import call_command
call_command('migrate', verbosity=0)
from quilt_server.jobs.gather import run_import
from quilt_server.projects.models import Job, Project
from quilt_server.projects.sources import keep
from quilt_server.projects.state import RECIPE, advance
import sys
project = Project.objects.create(name='Killed')
files = [{'path': 'a.obj', 'sha': keep(sys.stdin.buffer.read())}]
run_import(Job.objects.create(project=project, kind='import', state='done', params={'files': files}))
project.refresh_from_db()
advance(project, 'Long', project.head, project.head.layout, settings=RECIPE | {'seconds': 3600.0})
Job.objects.create(project=project, kind='pack', params={'base': project.head.pk})
"""


def wait_for(what: Callable[[], bool], seconds: float = 60.0) -> None:
    """Wait until something holds; fails when it never does."""
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, "it did not happen"
        time.sleep(0.1)


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


def children(pid: int) -> list[int]:
    """Processes whose parent is `pid`, from Linux' /proc."""
    found = []
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = stat.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == pid:
            found.append(int(stat.parent.name))
    return found


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
