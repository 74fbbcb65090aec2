"""How a running job tells how far it is, and hears that it should stop."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, TypeVar

from quilt_core.errors import Cancelled

from ..projects.models import Job

T = TypeVar("T")
WAITS = "Waiting for the worker"
_listener: ContextVar[Callable[[str, float | None], None] | None] = ContextVar("listener", default=None)


def report_progress(job: Job, progress: dict[str, Any], draft: bytes | None = None) -> None:
    """Write progress for the browser."""
    fields: dict[str, Any] = {"progress": progress}
    if draft is not None:
        fields["draft"] = draft
    Job.objects.filter(pk=job.pk).update(**fields)
    job.progress = progress
    if (tell := _listener.get()) is not None:
        tell(str(progress.get("text", "")), part_of(progress))


@contextmanager
def heard_by(tell: Callable[[str, float | None], None]) -> Iterator[None]:
    """Whoever does jobs without a browser hears how far they are: what is done, and which part (0 to 1) of it where that is known."""
    token = _listener.set(tell)
    try:
        yield
    finally:
        _listener.reset(token)


def say(job: Job, text: str, **more: Any) -> None:
    """Tell what a job is at, and which part (0 to 1) of its steps is done; that never goes back."""
    part = max(job.span[0], job.progress.get("part", 0.0))
    report_progress(job, {"text": text, "part": part, **more})


def steps(
    job: Job, items: Collection[T], words: Callable[[T], str] | None = None, share: tuple[float, float] = (0.0, 1.0), stops: bool = True
) -> Iterator[T]:
    """Steps of a job one after the other, each an equal part of what the step around them is; a step may have steps of its own.

    Parameters
    ----------
    words : what is told of a step when it begins
    share : from which part (0 to 1) of the step around them to which these steps go
    stops : whether a job that should stop leaves before the next step; not where it keeps what it has

    Raises
    ------
    Cancelled : the job should stop
    """
    whole, stop = job.span, StopFlag(job)
    low, high = (whole[0] + (whole[1] - whole[0]) * s for s in share)
    try:
        for n, item in enumerate(items):
            if stops:
                stop.raise_if()
            job.span = (low + (high - low) * n / len(items), low + (high - low) * (n + 1) / len(items))
            if words is not None:
                say(job, words(item))
            yield item
    finally:
        job.span = whole


def part_of(progress: dict[str, Any]) -> float | None:
    """Which part (0 to 1) of a job is done by its progress: by its steps, or by the time that it has; None where that is not known yet."""
    if progress.get("of"):
        return float(min(1.0, progress["seconds"] / progress["of"]))
    return float(progress["part"]) if progress.get("part") else None


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
