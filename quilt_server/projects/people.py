"""What the one who asks may see and change: everything where nobody has to sign in, else their own projects and those that are shared with them."""

from __future__ import annotations

from collections.abc import Collection
from typing import TypeVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db.models import Model, Q, QuerySet
from django.http import Http404
from django.shortcuts import get_object_or_404
from ninja.errors import HttpError

from .asker import Right, asker
from .models import Job, Layout, Original, Project, ProjectBlob, Reading, Share

M = TypeVar("M", bound=Model)


def visible() -> QuerySet[Project]:
    """The projects that the one who asks may see."""
    if not settings.QUILT_TEAM:
        return Project.objects.all()
    me = asker().user
    return (
        Project.objects.none()
        if me is None
        else Project.objects.filter(Q(owner_id=me) | Q(pk__in=Share.objects.filter(user_id=me).values("project_id")))
    )


def may_change(project: Project) -> bool:
    """Whether the one who asks may change a project."""
    me = asker().user
    if not settings.QUILT_TEAM:
        return True
    return me is not None and (project.owner_id == me or Share.objects.filter(project=project, user_id=me, change=True).exists())


def _owns(project: Project) -> None:
    if settings.QUILT_TEAM and project.owner_id != asker().user:
        raise HttpError(403, f"This project belongs to {name_of(project.owner)}, who alone can do that.")


def project_of(project_id: int) -> Project:
    """A project by its number; 404 where there is none to be seen, 403 where the right that the address asks for (see `rights`) is missing."""
    project: Project = get_object_or_404(visible(), pk=project_id)
    _check(project)
    return project


def _check(project: Project) -> None:
    if asker().right is Right.OWN:
        _owns(project)
    if asker().right >= Right.CHANGE and not may_change(project):
        raise HttpError(403, f"You may look at this project. {name_of(project.owner)} can let you change it.")


def job_of(job_id: int, **more: object) -> Job:
    """A job by its number, of a project that may be seen."""
    job: Job = get_object_or_404(_within(Job.objects.defer("draft")), pk=job_id, **more)
    _check(job.project)
    return job


def layout_of(layout_id: int) -> Layout:
    """A layout by its number, of a project that may be seen; its largest fields come when they are asked for."""
    found: Layout = get_object_or_404(_within(Layout.objects.defer("findings", "picture", "members")), pk=layout_id)
    return found


def jobs() -> QuerySet[Job]:
    """The jobs of all projects that may be seen."""
    return _within(Job.objects.all())


def _within(rows: QuerySet[M]) -> QuerySet[M]:
    return rows.filter(project__in=visible()) if settings.QUILT_TEAM else rows


def reading_of(file_id: int, channel: int) -> Reading:
    """What was read of a file that may be seen."""
    rows = Reading.objects.filter(file__project__in=visible()) if settings.QUILT_TEAM else Reading.objects.all()
    found: Reading = get_object_or_404(rows, file_id=file_id, channel=channel)
    return found


def may_see(shas: Collection[str]) -> bool:
    """Whether all of some hashes are of bytes that are here, and that a project which may be seen has."""
    there = Original.objects.filter(sha__in=shas).count() == len(set(shas))
    return there and (not settings.QUILT_TEAM or _held(shas) == set(shas))


def original_of(sha: str) -> Original:
    """Bytes by their hash, where a project that may be seen has them: that a hash can be guessed or copied opens nothing."""
    original: Original = get_object_or_404(Original, pk=sha)
    if settings.QUILT_TEAM and not _held([sha]):
        raise Http404
    return original


def _held(shas: Collection[str]) -> set[str]:
    """Those of some hashes whose bytes belong to a project that may be seen."""
    return set(ProjectBlob.objects.filter(project__in=visible(), sha__in=shas).values_list("sha", flat=True))


def name_of(user: User | None) -> str:
    """A person's name for others."""
    return user.get_username() if user is not None else "somebody"
