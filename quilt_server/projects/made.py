"""What work left with a project: proposals, deliveries, test bakes, ratings, findings. It stays until it is used, dropped, or made again, whoever looks at the project
then, and is stale once the project is another than it was made of."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from .models import Job, Project, Snapshot

# Kinds of work that leave something to look at or to fetch, and whether that is of the layout (or of the files alone).
OF_LAYOUT = {
    "propose": True, "deliver": True, "bake": True, "save": True, "seam_worth": True, "explain": True, "ready": True,
    "shapes": False, "compare": False, "dirt": False,
}  # fmt: skip


@dataclass(frozen=True)
class Made:
    """A job with what it left, and whether that belongs to another state by now."""

    job: Job
    stale: bool


def last_made(project: Project) -> list[Job]:
    """The newest work of every kind that left something and was not dropped."""
    found: dict[str, Job] = {}
    rows = project.jobs.filter(kind__in=OF_LAYOUT, state__in=("done", "interrupted"), dropped=False).defer("draft").order_by("-pk")
    for job in rows:
        if job.kind not in found and (job.state == "done" or job.result):
            found[job.kind] = job
    return list(found.values())


def put_away(project: Project, kind: str) -> None:
    """What work of a kind left was used or is wanted no more; nor is what it took the place of."""
    project.jobs.filter(kind=kind, state__in=Job.OVER).update(dropped=True)


def made_of(project: Project) -> Iterator[Made]:
    """What is there of a project now, the oldest first."""
    head = project.head
    jobs = sorted(last_made(project), key=lambda j: j.pk)
    bases = Snapshot.objects.in_bulk([b for j in jobs if isinstance(b := j.params.get("base"), int)])
    for job in jobs:
        if head is None:
            yield Made(job, True)
        elif job.kind in ("propose", "explain"):
            # Proposals and offers follow one state, and can be taken from that alone.
            yield Made(job, job.result.get("base") != head.pk)
        elif job.kind == "compare":
            yield Made(job, job.params.get("file") not in head.files)
        elif job.kind == "ready":
            yield Made(job, head.layout_id is None or not head.label.startswith("Make it ready"))
        else:
            base = bases.get(job.params.get("base") or 0)
            fields = ("files", "left_out", *(("layout_id",) if OF_LAYOUT[job.kind] else ()))
            known = base is not None or job.kind == "save"
            yield Made(job, not known or (base is not None and any(getattr(base, f) != getattr(head, f) for f in fields)))
