"""The worker process: takes waiting jobs one by one, each in a child process that dies with it."""

from __future__ import annotations

import ctypes
import os
import signal
import sys
import time
import traceback

_PR_SET_PDEATHSIG = 1


def die_with_parent() -> None:
    """Ask Linux to end this process when its parent ends, however that happens."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def sweep() -> None:
    """Jobs that a former worker left running are interrupted: they can be started again."""
    from ..projects.models import Job

    Job.objects.filter(state="running").update(state="interrupted", error="The work was interrupted. Start it again.")


def run_one(job_id: int) -> None:
    """Do a job in this process and write how it ended."""
    from quilt_core.errors import Cancelled, QuiltError

    from ..projects.models import Job
    from .work import KINDS

    job = Job.objects.get(pk=job_id)
    try:
        KINDS[job.kind](job)
        job.state = "done"
    except Cancelled as e:
        job.state, job.error = "stopped", str(e)
    except QuiltError as e:
        job.state, job.error = "failed", str(e)
    except MemoryError:
        job.state, job.error = "failed", "There was not enough memory for this. Try with fewer files at once."
    except Exception:
        traceback.print_exc()
        job.state, job.error = (
            "failed",
            f"Something went wrong while doing '{job.kind}'. The project is as it was; the log has the details.",
        )
    job.draft = b""
    job.save(update_fields=["state", "error", "result", "output_sha", "draft"])


def _fork(job_id: int) -> int:
    from django.db import connections

    connections.close_all()
    child = os.fork()
    if child:
        return child
    code = 1
    try:
        die_with_parent()
        run_one(job_id)
        connections.close_all()
        code = 0
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


def loop() -> None:
    """Work until terminated."""
    from ..projects.models import Job

    sweep()
    child = 0
    current = 0
    while True:
        if child:
            done, status = os.waitpid(child, os.WNOHANG)
            if done:
                child = 0
                if status:
                    Job.objects.filter(pk=current, state="running").update(
                        state="interrupted", error="The work ended unexpectedly (perhaps the memory ran out). Start it again."
                    )
        if not child:
            job = Job.objects.filter(state="waiting").order_by("pk").first()
            if job is not None:
                if job.cancel:
                    Job.objects.filter(pk=job.pk).update(state="stopped", error="Stopped before it began.")
                elif Job.objects.filter(pk=job.pk, state="waiting").update(state="running"):
                    current = job.pk
                    child = _fork(job.pk)
        time.sleep(0.05)


def main() -> None:
    """Entry of the worker process."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    die_with_parent()
    import django

    django.setup()
    from . import work  # noqa: F401  (loads the kernels once, before any child)

    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    loop()


if __name__ == "__main__":
    main()
