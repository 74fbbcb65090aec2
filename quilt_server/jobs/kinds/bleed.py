"""The bleed proof of all sheets; the result is kept with the layout."""

from __future__ import annotations

from ...projects.models import Job
from ..kind import Kind
from ..landing import head_of
from ..proving import prove_bleed


def run_bleed(job: Job) -> None:
    """Prove all sheets; the result is kept with the layout."""
    _, head, before = head_of(job)
    job.result = {"sheets": prove_bleed(job, head, before)}


KINDS = (Kind("bleed", run_bleed),)
