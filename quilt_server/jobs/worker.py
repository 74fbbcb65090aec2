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

from quilt_cli.child import die_with_parent

from ..batches.keeper import Batches

log = logging.getLogger("quilt")
_PATIENCE = 0.7  # seconds that a job has to stop by itself before its process is ended
_MOMENT = 0.5  # seconds until a folder that cannot be used is looked at again
_LOOK = 0.5  # seconds after which the table is looked at even when nobody called


def sweep() -> None:
    """Jobs that a former worker left running are interrupted: they can be started again."""
    from ..projects.models import Job

    Job.objects.filter(state="running").update(state="interrupted", error="The work was interrupted. Start it again.", draft=b"")


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
    """The loop. `lock` is the file descriptor that keeps a second worker away; children close it."""

    def __init__(self, lock: int | None = None, most: int | None = None) -> None:
        self.lock, self.most = lock, most or max(1, os.cpu_count() or 1)
        self.running: dict[int, _Running] = {}
        self.batches = Batches()
        self.ended: dict[int, bool] = {}  # jobs whose process ended before its time, and whether it was told to; until that is written

    def fork(self, job_id: int) -> int:
        """Start a job in a child; returns the child's number."""
        from django.db import connections

        connections.close_all()
        child = os.fork()
        if child:
            return child
        code = 1
        try:
            die_with_parent()
            if self.lock is not None:
                os.close(self.lock)
            run_one(job_id)
            connections.close_all()
            code = 0
        except Exception as e:  # how it ended could not be written: the worker does that
            log.error("the end of job %d could not be written (%s)", job_id, e)
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
                self.ended[r.job] = r.asked is not None
        self._tell_ended()
        return ended

    def _tell_ended(self) -> None:
        """Write how jobs ended that could not write it themselves."""
        from ..projects.models import Job

        for job, killed in list(self.ended.items()):
            Job.objects.filter(pk=job, state="running").update(
                state="stopped" if killed else "interrupted", draft=b"",
                error="Stopped. The project is as it was." if killed else "The work ended unexpectedly (perhaps the memory ran out). Start it again.",
            )  # fmt: skip
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
        from .wake import seen

        last, looked, told = -1, 0.0, ""
        while True:
            try:
                ended = self.reap()
                now = seen()
                if ended or now != last or time.monotonic() - looked > (0.1 if self.running else _LOOK):
                    last, looked = now, time.monotonic()
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
            time.sleep(0.005)

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

    load_quick()
    measuring()  # so that no child has to load the kernels that every change needs
    sweep()
    Batches.sweep()
    # What is there now stays: a child need not copy pages only because its collector looked at them.
    gc.collect()
    gc.freeze()
    Worker(lock).loop()
    return 0


if __name__ == "__main__":
    sys.exit(main())
