"""The worker process: takes waiting jobs, one for each project and as many as there are cores, each in a child process that dies with it."""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import signal
import sys
import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

from django.utils import timezone

from quilt_cli.child import die_with_parent

from ..batches.keeper import Batches

if TYPE_CHECKING:
    from ..projects.models import Job
    from .wake import Bell

log = logging.getLogger("quilt")
_PATIENCE = 0.7  # seconds that a job has to stop by itself before its process is ended
_MOMENT = 0.5  # seconds until a folder that cannot be used is looked at again
_LOOK = 5.0  # seconds after which the table is looked at even when nobody called
_LOOK_AT_WORK = 0.1  # the same while jobs run, which may have been told to stop

_UNWRITTEN = 75  # a child's exit code (EX_TEMPFAIL of sysexits.h): the folder or the database could not be written
_STOPPED = ("stopped", "Stopped. The project is as it was.")


def _ended(status: int) -> tuple[str, str]:
    """How a job is told whose process ended before its time, by what the system says of that."""
    if os.WIFEXITED(status) and os.WEXITSTATUS(status) == _UNWRITTEN:
        why = "The data folder could not be written (the disk is full, or the database is held). Make room there, and start it again."
    elif os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGKILL:
        why = "The system ended the work, as it does where memory runs out. Start it again, with less at once."
    else:
        why = "The work ended unexpectedly; the details are in logs/quilt.log of the data folder. Start it again."
    return "interrupted", f"{why} The project is as it was."


def sweep() -> None:
    """Jobs that a former worker left running are interrupted: they can be started again."""
    from ..projects.models import Job

    for job in Job.objects.filter(state="running"):
        interrupted(job, "interrupted", "The work was interrupted. Start it again.")


_FILLS = ("open", "job", "asset")  # kinds that fill an empty project from what was uploaded


def interrupted(job: Job, state: str, words: str) -> None:
    """Write that a job's process ended before its time, and leave nothing half done behind: steps that were to become one are forgotten, and what fills an empty
    project begins again, once."""
    from ..projects.models import Job, Project, Snapshot
    from ..projects.proposals import drop
    from ..projects.room import make_empty

    ended: dict[str, object] = {"state": state, "error": words, "draft": b""}
    if job.kind == "ready":
        drop(list(Snapshot.objects.filter(project=job.project_id, proposal=True, created__gte=job.created).values_list("pk", flat=True)))
    elif job.kind == "propose" and job.progress.get("proposals"):
        ended["result"] = {"base": job.params["base"], "proposals": job.progress["proposals"]}  # those that were found are there
    elif job.kind == "open" and job.project.head_id is not None:
        ended = {"state": "done", "result": {"name": job.project.name}}  # its last step was done; how it ended alone was not written
    elif job.kind in _FILLS:
        make_empty(job.project)
        if state == "interrupted" and not job.params.get("again"):
            ended = {"state": "waiting", "params": {**job.params, "again": True}, "draft": b""}
        else:
            Project.objects.filter(pk=job.project_id).update(deleted=timezone.now())
    Job.objects.filter(pk=job.pk, state="running").update(**ended)


def run_one(job_id: int) -> None:
    """Do a job in this process and write how it ended."""
    from quilt_core.errors import Cancelled, QuiltError

    from ..ours import of_machine
    from ..projects.asker import asked_by
    from ..projects.doing import doing
    from ..projects.models import Job
    from ..projects.room import forget_beyond
    from .every import EVERY

    job = Job.objects.get(pk=job_id)
    try:
        job.params = EVERY[job.kind].usual() | job.params
        with asked_by(job.asker_id), doing(job.kind, job.params):
            EVERY[job.kind].run(job)
        job.state = "done"
    except Cancelled as e:
        job.state, job.error = "stopped", str(e)
    except QuiltError as e:
        job.state, job.error = "failed", str(e)
    except MemoryError:
        job.state, job.error = "failed", "There was not enough memory for this. Try with fewer files at once."
    except Exception as e:
        told = of_machine(e)
        log.error("job %d, %s, failed: %s", job_id, job.kind, told or type(e).__name__, exc_info=None if told else e)
        job.state, job.error = (
            "failed",
            told
            or f"Something went wrong while doing '{job.kind}'. The project is as it was; the details are in logs/quilt.log of the data folder.",
        )
    job.draft = b""
    job.save(update_fields=["state", "error", "result", "output_sha", "draft"])
    if job.state == "done":
        forget_beyond(job.project)


@dataclass
class _Running:
    """A job in its child process. `asked`: when it was told to stop."""

    job: int
    project: int
    kind: str
    asked: float | None = None


class Worker:
    """The loop. `lock` is the file descriptor that keeps a second worker away; children close it. `bell`: what wakes it."""

    def __init__(self, lock: int | None = None, most: int | None = None, bell: Bell | None = None) -> None:
        self.lock, self.most, self.bell = lock, most or max(1, os.cpu_count() or 1), bell
        self.running: dict[int, _Running] = {}
        self.batches = Batches()
        self.ended: dict[int, tuple[str, str]] = {}  # jobs whose process ended before its time, and how; until that is written

    def fork(self, job_id: int) -> int:
        """Start a job in a child; returns the child's number."""
        from django.db import connections

        from ..ours import of_machine

        connections.close_all()
        child = os.fork()
        if child:
            return child
        code = 1
        try:
            die_with_parent()
            if self.lock is not None:
                os.close(self.lock)
            if self.bell is not None:
                self.bell.leave()
            run_one(job_id)
            connections.close_all()
            code = 0
        except Exception as e:  # how it ended could not be written: the worker does that
            log.error("the end of job %d could not be written (%s)", job_id, e)
            code = _UNWRITTEN if of_machine(e) is not None else 1
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(code)

    def reap(self) -> bool:
        """Note which children ended; returns whether any did."""
        ended = False
        for pid, r in list(self.running.items()):
            done, status = os.waitpid(pid, os.WNOHANG)
            if not done:
                continue
            ended = True
            del self.running[pid]
            if status:
                self.ended[r.job] = _STOPPED if r.asked is not None else _ended(status)
        self._tell_ended()
        return ended

    def _tell_ended(self) -> None:
        """Write how jobs ended that could not write it themselves."""
        from ..projects.models import Job

        for job, (state, words) in list(self.ended.items()):
            for found in Job.objects.filter(pk=job, state="running"):
                interrupted(found, state, words)
            del self.ended[job]

    def end_stopped(self) -> None:
        """End the processes of jobs that were told to stop and did not: what they do counts only once it is written as a whole."""
        from ..projects.models import Job
        from .every import EVERY

        told = set(Job.objects.filter(pk__in=[r.job for r in self.running.values()], cancel=True).values_list("pk", flat=True))
        for pid, r in self.running.items():
            if r.job not in told or EVERY[r.kind].keeps_best:
                continue
            r.asked = time.monotonic() if r.asked is None else r.asked
            if time.monotonic() - r.asked > _PATIENCE:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)

    def begin(self) -> None:
        """Start waiting jobs of projects that have none running."""
        from ..projects.models import Job

        busy = {r.project for r in self.running.values()}
        for job in Job.objects.filter(state="waiting").order_by("pk").only("pk", "project_id", "kind", "cancel"):
            if job.cancel:
                Job.objects.filter(pk=job.pk, state="waiting").update(state="stopped", error="Stopped before it began.")
            elif (
                len(self.running) < self.most
                and job.project_id not in busy
                and Job.objects.filter(pk=job.pk, state="waiting").update(state="running")
            ):
                busy.add(job.project_id)
                self.running[self.fork(job.pk)] = _Running(job.pk, job.project_id, job.kind)

    def loop(self) -> None:
        """Work until terminated."""
        from ..ours import of_machine

        told = ""
        while True:
            try:
                self.reap()
                if self.running:
                    self.end_stopped()
                self.begin()
                self.batches.look()
                if told:
                    log.info("The data folder can be used again; the work goes on.")
                    told = ""
            except Exception as e:
                what = of_machine(e)
                if what is None:
                    raise
                if what != told:
                    log.error("%s (%s)", what, e)
                    told = what
                self._rest()
            self._sleep(_LOOK_AT_WORK if self.running or self.batches.process else _LOOK)

    def _sleep(self, seconds: float) -> None:
        """Until somebody calls, a child ends, or it is time to look again."""
        if self.bell is None:
            time.sleep(min(seconds, _LOOK_AT_WORK))
        else:
            self.bell.wait(seconds)

    @staticmethod
    def _rest() -> None:
        """Let go of the database, and look again in a moment."""
        from django.db import connections

        with contextlib.suppress(Exception):
            connections.close_all()
        time.sleep(_MOMENT)


def main() -> int:
    """Entry of the worker process."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    die_with_parent()
    import django

    django.setup()
    from django.conf import settings

    from ..only_one import Taken, take

    try:
        lock = take(settings.DATA_DIR, "worker")
    except Taken as e:
        print(f"quilt: {e} Another worker runs there; this one ends before it touches a job.", file=sys.stderr)
        return 2
    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    from quilt_cli.compile_kernels import measuring
    from quilt_core.formats.registry import load_quick

    from . import every  # noqa: F401  (loads what jobs need, once for all children)
    from .wake import Bell

    load_quick()
    measuring()  # so that no child has to load the kernels that every change needs
    sweep()
    Batches.sweep()
    # What is there now stays: a child need not copy pages only because its collector looked at them.
    gc.collect()
    gc.freeze()
    Worker(lock, bell=Bell()).loop()
    return 0


if __name__ == "__main__":
    sys.exit(main())
