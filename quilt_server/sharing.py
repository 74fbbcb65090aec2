"""A project among several people: who may see and change it, and what is new in it."""

from __future__ import annotations

from django.conf import settings
from django.contrib.auth.models import User
from django.http import HttpRequest
from ninja import Router
from ninja.errors import HttpError

from quilt_core.errors import QuiltError

from .asked import project_of
from .jobs.progress import WAITS, part_of
from .projects.asker import current_id
from .projects.models import Job, Project, Share
from .projects.people import name_of
from .rights import LOOK, OWN
from .schemas.asked import NowOut, OthersWork, PeopleOut, PersonOut, ShareIn

router = Router()


def now_of(project: Project) -> NowOut:
    """What a page shows of what others do to a project: its newest state, by whom, and the work on it."""
    job = project.jobs.exclude(state__in=Job.OVER).select_related("asker").only("progress", "asker__username").order_by("pk").first()
    head = project.head
    author = name_of(head.author) if head is not None and head.author_id else ""
    return NowOut(snapshot=project.head_id, author=author, label=head.label if head else "", work=_work(job) if job else None)


@router.get("/projects/{project_id}/now", response=NowOut)
@LOOK
def project_now(request: HttpRequest, project_id: int) -> NowOut:
    """The same once, for whoever cannot listen to `/events`."""
    return now_of(project_of(project_id))


def _work(job: Job) -> OthersWork:
    return OthersWork(id=job.pk, author=name_of(job.asker), text=str(job.progress.get("text", WAITS)), part=part_of(job.progress))


def _people(project: Project) -> PeopleOut:
    shares = list(project.shares.select_related("user").order_by("user__username"))
    known = [k for k in (project.owner_id, *(s.user_id for s in shares)) if k is not None]
    others = User.objects.exclude(pk__in=known).filter(is_active=True).order_by("username")
    return PeopleOut(
        owner=name_of(project.owner), mine=project.owner_id == current_id(), shared=[PersonOut(name=s.user.get_username(), change=s.change) for s in shares],
        others=[u.get_username() for u in others],
    )  # fmt: skip


def _team() -> None:
    if not settings.QUILT_TEAM:
        raise HttpError(404, "Nobody else works here.")


@router.get("/projects/{project_id}/people", response=PeopleOut)
@LOOK
def project_people(request: HttpRequest, project_id: int) -> PeopleOut:
    """Who may see and change a project."""
    _team()
    return _people(project_of(project_id))


@router.post("/projects/{project_id}/people", response=PeopleOut)
@OWN
def share_project(request: HttpRequest, project_id: int, body: ShareIn) -> PeopleOut:
    """Share a project with somebody, or no more: its owner alone can."""
    _team()
    project = project_of(project_id)
    user = User.objects.filter(username=body.name, is_active=True).exclude(pk=project.owner_id or 0).first()
    if user is None:
        raise QuiltError("There is nobody else of that name here.")
    if body.how not in ("look", "change", "none"):
        raise QuiltError("A project is shared to look at, to change, or not.")
    if body.how == "none":
        Share.objects.filter(project=project, user=user).delete()
    else:
        Share.objects.update_or_create(project=project, user=user, defaults={"change": body.how == "change"})
    return _people(project)
