"""Keeping a try: it becomes the layout of its sheet."""

from __future__ import annotations

from typing import ClassVar

from quilt_core.errors import QuiltError

from ...projects.doing import doing
from ...projects.models import Job, Layout
from ...projects.tries import kept_layout
from ..kind import Asked, Kind, Number
from ..landing import head_of, land
from ..progress import StopFlag, say


class Keep(Asked):
    """The try, a layout's number."""

    words: ClassVar = {"layout": "Choose the try that should be kept."}
    layout: Number


def run_keep(job: Job) -> None:
    """Keep a try: its islands take the places that it gave them, the rest of the layout stays. One undo step."""
    project, head, before = head_of(job)
    say(job, "Laying the try out")
    try_ = Layout.objects.filter(pk=job.params["layout"], project=project, kind="pack").first()
    if try_ is None:
        raise QuiltError("This try is not there any more. Choose another one.")
    layout = kept_layout(project, head, before, try_, StopFlag(job))
    with doing("keep", {"sheets": [try_.sheet]}):
        land(project, head, layout, f"Keep {try_.name}", kept=head.kept | {str(try_.sheet): try_.pk})


KINDS = (Kind("keep", run_keep, Keep),)
