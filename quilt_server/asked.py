"""Which project a request is about, and which state of it: a change names the snapshot that it was made on."""

from __future__ import annotations

from django.shortcuts import get_object_or_404
from ninja.errors import HttpError

from .projects.models import Project, Snapshot


def project_of(project_id: int) -> Project:
    """A project by its number; 404 where there is none."""
    return get_object_or_404(Project, pk=project_id)


def on(project: Project, base: int) -> Snapshot:
    """The project's state, which has to be the one that the page shows; 409 where it moved on."""
    if project.head is None or project.head_id != base:
        raise HttpError(409, "The project was changed in another tab. This page now shows the newer state; do your change again there.")
    return project.head
