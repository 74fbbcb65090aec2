"""The worker's side of batches: one at a time is done by a process of its own, which ends with the worker."""

from __future__ import annotations

import subprocess
import sys
import time

from django.utils import timezone

_PATIENCE = 5.0  # seconds that a batch has to end its cluster before its process is ended


class Batches:
    """Starts what waits, tells what should stop, and writes what became of a process that could not."""

    def __init__(self) -> None:
        self.process: subprocess.Popen[bytes] | None = None
        self.number = 0
        self.asked: float | None = None

    @staticmethod
    def sweep() -> None:
        """Batches that a former worker left running are interrupted: they can go on where they were."""
        from .models import Batch

        Batch.objects.filter(state="running").update(state="interrupted", error="")

    def look(self) -> None:
        """Do what there is to do now."""
        from .models import Batch

        if self.process is not None:
            if self.process.poll() is None:
                self._end_stopped()
                return
            Batch.objects.filter(pk=self.number, state="running").update(
                state="interrupted" if self.asked is None else "stopped",
                error="The work ended unexpectedly (perhaps the memory ran out)." if self.asked is None else "",
            )
            self.process, self.asked = None, None
        Batch.objects.filter(state="waiting", cancel=True).update(state="stopped")
        number = Batch.objects.filter(state="waiting").order_by("created").values_list("pk", flat=True).first()
        if number is not None and Batch.objects.filter(pk=number, state="waiting").update(state="running", begun=timezone.now()):
            self.number = number
            self.process = subprocess.Popen([sys.executable, "-m", "quilt_server.batches.runner", str(number)])

    def _end_stopped(self) -> None:
        from .models import Batch

        assert self.process is not None
        if self.asked is None:
            if Batch.objects.filter(pk=self.number, cancel=True).exists():
                self.asked = time.monotonic()
                self.process.terminate()
        elif time.monotonic() - self.asked > _PATIENCE:
            self.process.kill()
