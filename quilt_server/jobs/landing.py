"""From a job's work to the project's state: which state it was asked for on, and the one step that makes its layout the project's."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from quilt_core.errors import QuiltError

from ..projects.models import Job, Layout, Project, Snapshot
from ..projects.state import advance, project_now


def head_of(job: Job) -> tuple[Project, Snapshot, Layout]:
    """The project with the snapshot that a job was asked for on, and its layout.

    Raises
    ------
    QuiltError : the project moved on, or has no layout
    """
    project = project_now(job.project_id)
    head = project.head
    if head is None or head.pk != job.params["base"]:
        raise QuiltError("The project changed since this was asked for. Do it again.")
    if head.layout is None:
        raise QuiltError("There is nothing in this project yet. Bring in a mesh first.")
    return project, head, head.layout


def land(project: Project, head: Snapshot, layout: Layout, label: str, **changes: Any) -> None:
    """Make a measured layout the project's, in one transaction with what else changes. Nothing is computed while it is open.

    Raises
    ------
    QuiltError : the project moved on meanwhile
    """
    with transaction.atomic():
        project = project_now(project.pk)
        if project.head_id != head.pk:
            raise QuiltError("The project changed meanwhile. Nothing was done: do it again.")
        layout.save()
        advance(project, label, head, layout, **changes)
