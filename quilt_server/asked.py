"""Which project a request is about, and which state of it: a change names the snapshot that it was made on."""

from __future__ import annotations

from ninja.errors import HttpError

from .projects.asker import current_id
from .projects.models import Job, Project, Snapshot
from .projects.people import name_of, project_of

__all__ = ["busy", "on", "project_of"]


def on(project: Project, base: int) -> Snapshot:
    """The project's state, which has to be the one that the page shows; 409 where it moved on."""
    if project.head is None or project.head_id != base:
        head = project.head
        other = head is not None and head.author_id is not None and head.author_id != current_id()
        what = (
            f"{name_of(head.author)} changed this project meanwhile ({head.label})."
            if head and other
            else "The project was changed in another tab."
        )
        raise HttpError(409, f"{what} This page now shows the newer state; do your change again there.")
    return project.head


def busy(project: Project) -> None:
    """Refuse work on a project that is being worked on; 409."""
    running = project.jobs.exclude(state__in=Job.OVER).select_related("asker").first()
    if running is not None:
        other = running.asker is not None and running.asker_id != current_id()
        who = f"{name_of(running.asker)} has work done on this project" if other else "This project is busy already"
        raise HttpError(409, f"{who}. Stop that first, or wait for it.")
