"""Work on projects: started, looked at, stopped. What it is stands in `jobs/kinds`."""

import time

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Router

from .asked import busy, on, project_of
from .jobs.kinds import checked
from .jobs.progress import WAITS, part_of
from .jobs.wake import wake
from .projects.asker import current_id
from .projects.made import made_of, put_away
from .projects.models import Job
from .projects.people import job_of, jobs
from .projects.state import settings_of
from .rights import CHANGE, LOOK, SIGNED_IN
from .schemas.asked import AtWork, JobIn, JobOut, MadeOut

router = Router()


def started(job: Job) -> JobOut:
    """A new job, which the worker is told of."""
    wake()
    return _job(job)


def _job(job: Job) -> JobOut:
    return JobOut(
        id=job.pk,
        kind=job.kind,
        state=job.state,
        progress=job.progress,
        part=part_of(job.progress),
        error=job.error,
        result=job.result,
        mine=job.asker_id == current_id(),
    )


@router.post("/projects/{project_id}/jobs", response=JobOut)
@CHANGE
def start_job(request: HttpRequest, project_id: int, body: JobIn) -> JobOut:
    """Start work on a project; see `jobs/kinds`."""
    project = project_of(project_id)
    params = checked(body.kind, body.params, settings_of(on(project, body.base)))
    busy(project)
    return started(Job.objects.create(project=project, kind=body.kind, params={"base": body.base, **params}))


@router.get("/jobs", response=list[AtWork])
@SIGNED_IN
def at_work(request: HttpRequest) -> list[AtWork]:
    """What is being done in all projects, the oldest first."""
    return work_in_all()


def work_in_all() -> list[AtWork]:
    """What is being done in all projects that may be seen, the oldest first."""
    now = timezone.now()
    rows = jobs().exclude(state__in=Job.OVER).select_related("project").defer("draft", "params", "result").order_by("pk")
    return [
        AtWork(id=j.pk, kind=j.kind, project=j.project_id, name=j.project.name, text=str(j.progress.get("text", WAITS)),
               part=part_of(j.progress), seconds=(now - j.created).total_seconds())
        for j in rows
    ]  # fmt: skip


@router.get("/jobs/{job_id}", response=JobOut)
@LOOK
def jobstate_of(request: HttpRequest, job_id: int, wait: float = 0.0) -> JobOut:
    """How far a job is; with `wait` the answer comes when it is over, or after that many seconds (1 at most)."""
    job_of(job_id)
    until = time.monotonic() + min(max(wait, 0.0), 1.0)
    while time.monotonic() < until and not Job.objects.filter(pk=job_id, state__in=Job.OVER).exists():
        time.sleep(0.01)
    return _job(get_object_or_404(Job.objects.defer("draft"), pk=job_id))


@router.get("/projects/{project_id}/made", response=list[MadeOut])
@LOOK
def made(request: HttpRequest, project_id: int) -> list[MadeOut]:
    """What work left with a project: to be shown wherever it is opened, until it is used, made again or dropped."""
    found = made_of(project_of(project_id))
    return [MadeOut(job=_job(m.job), stale=m.stale, made=m.job.created.isoformat()) for m in found]


@router.post("/jobs/{job_id}/drop", response=JobOut)
@CHANGE
def drop_made(request: HttpRequest, job_id: int) -> JobOut:
    """What a job left is wanted no more."""
    job = job_of(job_id)
    put_away(job.project, job.kind)
    return _job(job)


@router.post("/jobs/{job_id}/stop", response=JobOut)
@CHANGE
def stop_job(request: HttpRequest, job_id: int) -> JobOut:
    """Stop a job; packing keeps its best layout so far."""
    job_of(job_id)
    Job.objects.filter(pk=job_id).exclude(state__in=Job.OVER).update(cancel=True)
    wake()
    return _job(get_object_or_404(Job.objects.defer("draft"), pk=job_id))
