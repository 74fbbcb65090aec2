"""How a running job tells how far it is, and hears that it should stop."""

from __future__ import annotations

import time
from typing import Any

from quilt_core.errors import Cancelled

from ..projects.models import Job


def report_progress(job: Job, progress: dict[str, Any], draft: bytes | None = None) -> None:
    """Write progress for the browser."""
    fields: dict[str, Any] = {"progress": progress}
    if draft is not None:
        fields["draft"] = draft
    Job.objects.filter(pk=job.pk).update(**fields)


class StopFlag:
    """The job's cancel flag, asked of the database a dozen times a second at most."""

    def __init__(self, job: Job) -> None:
        self.job, self.asked, self.value = job.pk, 0.0, False

    def raise_if(self) -> None:
        """Leave the work where it should stop.

        Raises
        ------
        Cancelled : it should
        """
        if self():
            raise Cancelled("Stopped. The project is as it was.")

    def __call__(self) -> bool:
        if not self.value and time.monotonic() - self.asked > 0.08:
            self.asked = time.monotonic()
            self.value = Job.objects.filter(pk=self.job, cancel=True).exists()
        return self.value
