"""Room on the disk: projects deleted for good, history that is older than wanted, and files that nothing names any more."""

from __future__ import annotations

import time
from collections.abc import Collection, Iterable, Iterator
from contextlib import contextmanager

from django.db import connection, transaction

from quilt_core.errors import QuiltError

from . import files
from .made import last_made
from .models import Job, Layout, Original, Project, ProjectBlob, Snapshot, SourceFile
from .shown import ENDING
from .sources import derived_names
from .state import all_work, settings_of

MOST_KEPT = 100_000
_YOUNG = 600.0  # seconds


def purge(project: Project) -> None:
    """Delete a project for good, with everything that no other project needs.

    Raises
    ------
    QuiltError : it is not deleted yet, or works
    """
    if project.deleted is None:
        raise QuiltError("Delete the project first; then it can be deleted for good.")
    if project.jobs.exclude(state__in=Job.OVER).exists():
        raise QuiltError("This project is busy. Stop that first, or wait for it.")
    mine = named_by(SourceFile.objects.filter(project=project)) | set(
        Job.objects.filter(project=project).values_list("output_sha", flat=True)
    )
    with transaction.atomic():
        Project.objects.filter(pk=project.pk).update(head=None)
        Snapshot.objects.filter(project=project).delete()
        Job.objects.filter(project=project).delete()
        project.delete()
    sweep(mine)


def thin(project: Project, keep: int) -> int:
    """Forget all but the last `keep` steps of a project's history and give the space back; returns how many went."""
    count = forget(project, keep)
    sweep()
    return count


def forget_beyond(project: Project) -> int:
    """Forget what is older than the limit that the project's settings have; returns how many steps went. The space comes back with the next sweep.

    A few steps over the limit stay, so that not every change has to look for one that goes.
    """
    keep = settings_of(project.head)["history"] if project.head_id else 0
    if not keep or Snapshot.objects.filter(project=project).count() <= keep + max(5, keep // 10):
        return 0
    return forget(project, keep)


def forget(project: Project, keep: int) -> int:
    """Forget all but the last `keep` steps of a project's history, and what could be redone beyond them; returns how many went.

    Kept tries stay, and so does every layout that a step still shows.
    """
    with transaction.atomic():
        project = Project.objects.get(pk=project.pk)
        stay: list[int] = []
        at = project.head
        while at is not None and len(stay) <= keep:
            stay.append(at.pk)
            at = at.parent
        gone = Snapshot.objects.filter(project=project).exclude(pk__in=stay)
        if stay and gone.exists():
            first = Snapshot.objects.get(pk=stay[-1])
            first.work = all_work(first)
            first.save(update_fields=["work"])
        count = gone.count()
        Snapshot.objects.filter(parent__in=gone.values("pk")).update(parent=None)
        gone.delete()
        shown = set(Snapshot.objects.filter(project=project).values_list("layout_id", flat=True))
        kept = {int(k) for v in Snapshot.objects.filter(project=project).values_list("kept", flat=True) for k in v.values()}
        for shelf in (
            s for v in Snapshot.objects.filter(project=project).values_list("settings", flat=True) for s in v.get("shelved", {}).values()
        ):
            kept |= {int(k) for k in (shelf.get("layout"), *shelf.get("kept", {}).values()) if k}  # of a channel that may come back
        old = project.layouts.exclude(pk__in=shown | kept)
        old.exclude(kind="pack").delete()
        old.filter(kind="pack", discarded=True).delete()
        project.jobs.filter(state__in=Job.OVER).exclude(pk__in=_last_outputs(project)).delete()
    return count


def _last_outputs(project: Project) -> list[int]:
    """The newest work at all, and what work left with the project: the page may still show or ask for it."""
    newest = project.jobs.order_by("-pk").values_list("pk", flat=True).first()
    return [*([] if newest is None else [newest]), *(j.pk for j in last_made(project))]


def named_by(found: Iterable[SourceFile]) -> set[str]:
    """Hashes of everything that source files need."""
    return {sha for file in found for sha in file.hashes()}


def sweep(now: Collection[str] = ()) -> None:
    """Remove files that nothing names any more, and give the space back; those in `now` at once, others only when they are old enough that no
    upload can be about to name them."""
    # In one transaction: a bring-in that begins now saves its files after this, one that began before is seen.
    with transaction.atomic():
        if Job.objects.exclude(state__in=Job.OVER).exists():
            return  # what runs may be writing files that no row names yet
        for project in Project.objects.all():
            used = {f for s in Snapshot.objects.filter(project=project).values_list("files", flat=True) for f in s}
            while more := set(SourceFile.objects.filter(pk__in=used).exclude(before=None).values_list("before_id", flat=True)) - used:
                used |= more  # the old UVs that paint is carried over from
            SourceFile.objects.filter(project=project).exclude(pk__in=used).delete()
    every = list(SourceFile.objects.all())
    named = named_by(every) | set(Job.objects.exclude(output_sha="").values_list("output_sha", flat=True))
    derived = {name for file in every for name in derived_names(file)}
    for settings in Snapshot.objects.values_list("settings", flat=True):
        named |= {p["sha"] for p in settings.get("pictures", {}).values()}
    for job in Job.objects.values_list("params", flat=True):
        named |= {f["sha"] for f in job.get("files", []) if isinstance(f, dict) and "sha" in f}
    Original.objects.filter(sha__in=set(Original.objects.values_list("sha", flat=True)) - named).delete()
    ProjectBlob.objects.exclude(sha__in=Original.objects.values("sha")).delete()
    for path in files.folder("files").glob("*/*"):
        if path.name not in named and (path.name in now or time.time() - path.stat().st_mtime > _YOUNG):
            path.unlink(missing_ok=True)
    for path in files.folder("derived").iterdir():
        if path.name not in derived and not _shows(path.name, named):
            path.unlink(missing_ok=True)
    if not connection.in_atomic_block:
        with connection.cursor() as c:
            c.execute("VACUUM")


def _shows(name: str, named: Collection[str]) -> bool:
    """Whether a kept file is a small picture of something that is still there."""
    return name.endswith(ENDING) and name.partition(".")[0].partition("-")[0] in named


def size_of(project: Project) -> int:
    """Bytes that a project's layouts take in the database; files are shared, so they are not counted."""
    from django.db.models import Sum
    from django.db.models.functions import Length

    found = Layout.objects.filter(project=project).aggregate(
        n=Sum(Length("transforms") + Length("findings") + Length("picture") + Length("members"))
    )
    return int(found["n"] or 0)


@contextmanager
def empty_else(project: Project) -> Iterator[None]:
    """What fills an empty project does so meanwhile; the project is empty again where it fails."""
    try:
        yield
    except BaseException:
        make_empty(project)
        raise


def make_empty(project: Project) -> None:
    """Away with all that is in a project."""
    with transaction.atomic():
        Project.objects.filter(pk=project.pk).update(head=None)
        project.snapshots.all().delete()
        project.layouts.all().delete()
        SourceFile.objects.filter(project=project).delete()
