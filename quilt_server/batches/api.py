"""Batches over the API: what the library holds, a batch started, followed, stopped, gone on with, and its assets one by one."""

from __future__ import annotations

import shutil
import tempfile
import zipfile
from typing import Literal

from django.conf import settings
from django.db.models import Count, QuerySet
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Field, Router, Schema
from ninja.errors import HttpError

from quilt_core.errors import QuiltError
from quilt_core.words import cut

from ..jobfile import summary
from ..jobfile.assets import pattern_of
from ..jobfile.checking import checked_apart
from ..jobs.wake import wake
from ..projects.asker import asker
from ..projects.models import Job, Project
from ..rights import SIGNED_IN
from ..schemas.asked import OpenedOut
from ..work import started
from .library import inside, results_of, seen
from .models import Asset, Batch

router = Router()
PAGE = 100
Show = Literal["all", "failed", "outside", "unfit", "fine", "waiting"]
_RANKS = {"failed": summary.FAILED, "outside": summary.OUTSIDE, "unfit": summary.UNFIT, "fine": summary.FINE, "waiting": 9}


class FolderOut(Schema):
    """A folder of the library. `path`: below it; `meshes`: in and below it, at least so many where there are `more`."""

    path: str
    folders: list[str]
    meshes: int
    more: bool


class BatchIn(Schema):
    """`folder`: below the library; `group`: file, folder or a regular expression; `job_name`, `job_text`: the job file."""

    folder: str = Field(max_length=4000)
    group: str = Field("file", max_length=1000)
    job_name: str = Field(max_length=1000)
    job_text: str


class BatchOut(Schema):
    """`counts`: assets by what they came to; `seconds`: of this run, or the last; `stopping`: it was told to; `results`: where they lie, for who may go there; `least`, `greatest`: the limits of the density."""

    id: int
    name: str
    folder: str
    group: str
    created: str
    state: str
    stopping: bool
    error: str
    counts: dict[str, int]
    done: int
    total: int
    seconds: float
    workers: int
    results: str
    least: float | None
    greatest: float | None


class AssetOut(Schema):
    """`said`: what it came to in words; `files`: whether something was put out; `picture`: whether there is one."""

    id: int
    name: str
    state: str
    ok: bool
    coverage: float | None
    density: float | None
    islands: int | None
    seconds: float | None
    said: str
    files: bool
    picture: bool


class AssetsOut(Schema):
    rows: list[AssetOut]
    more: int


def _mine() -> QuerySet[Batch]:
    return Batch.objects.filter(owner_id=asker().user) if settings.QUILT_TEAM else Batch.objects.all()


def _batch(number: int) -> Batch:
    found: Batch = get_object_or_404(_mine(), pk=number)
    return found


def _asset(number: int, asset: int) -> Asset:
    found: Asset = get_object_or_404(Asset.objects.select_related("batch"), pk=asset, batch=_batch(number))
    return found


def _out(b: Batch) -> BatchOut:
    counts = dict.fromkeys(_RANKS, 0)
    names = {rank: name for name, rank in _RANKS.items()}
    for rank, n in b.assets.values_list("rank").annotate(n=Count("pk")):
        counts[names[rank]] = n
    total = sum(counts.values())
    least, greatest = summary.limits_of(b.job)
    going = (timezone.now() - b.begun).total_seconds() if b.state == "running" and b.begun else 0.0
    return BatchOut(
        id=b.pk, name=b.name, folder=b.folder, group=b.group, created=b.created.isoformat(), state=b.state, stopping=b.cancel and b.state not in Batch.OVER, error=b.error, counts=counts, total=total,
        done=total - counts["waiting"], seconds=going or b.seconds, workers=b.workers, results="" if settings.QUILT_TEAM else str(results_of(b.pk, b.name)),
        least=least, greatest=greatest,
    )  # fmt: skip


@router.get("/library", response=FolderOut | None)
@SIGNED_IN
def library(request: HttpRequest, folder: str = "") -> FolderOut | None:
    """What a folder of the library holds; nothing where no library is allowed."""
    if settings.QUILT_LIBRARY is None:
        return None
    found = seen(folder)
    return FolderOut(path=found.path, folders=found.folders, meshes=found.meshes, more=found.more)


@router.get("/batches", response=list[BatchOut])
@SIGNED_IN
def batches(request: HttpRequest) -> list[BatchOut]:
    """All batches, the newest first."""
    return [_out(b) for b in _mine().order_by("-pk")]


@router.post("/batches", response=BatchOut)
@SIGNED_IN
def start_batch(request: HttpRequest, body: BatchIn) -> BatchOut:
    """Start a batch: a job file over a folder of the library."""
    here = inside(body.folder)
    name = body.job_name.replace("\\", "/").rsplit("/", 1)[-1][:120]
    group = body.group.strip()
    if not group or len(group) > 200:
        raise QuiltError("Say what is one asset: each file, all of a folder, or a pattern of at most 200 characters.")
    pattern_of(group)
    job = checked_apart(body.job_text.encode("utf-8", "replace"), name)
    title = cut(f"{job.get('name') or name.rsplit('.', 1)[0]}, {here.name if body.folder else 'all'}", 100)
    found = Batch.objects.create(name=title, folder=body.folder, group=group, job=job)
    wake()
    return _out(found)


@router.get("/batches/{batch_id}", response=BatchOut)
@SIGNED_IN
def batch(request: HttpRequest, batch_id: int) -> BatchOut:
    """How far a batch is."""
    return _out(_batch(batch_id))


@router.post("/batches/{batch_id}/stop", response=BatchOut)
@SIGNED_IN
def stop_batch(request: HttpRequest, batch_id: int) -> BatchOut:
    """Stop a batch; what is done stays."""
    found = _batch(batch_id)
    Batch.objects.filter(pk=found.pk).exclude(state__in=Batch.OVER).update(cancel=True)
    wake()
    return _out(_batch(batch_id))


@router.post("/batches/{batch_id}/again", response=BatchOut)
@SIGNED_IN
def again(request: HttpRequest, batch_id: int) -> BatchOut:
    """Go on with a batch, or do it once more: only what changed is made anew."""
    found = _batch(batch_id)
    if not Batch.objects.filter(pk=found.pk, state__in=Batch.OVER).update(state="waiting", cancel=False, error=""):
        raise HttpError(409, "This batch is at work already.")
    wake()
    return _out(_batch(batch_id))


@router.delete("/batches/{batch_id}", response=list[BatchOut])
@SIGNED_IN
def delete_batch(request: HttpRequest, batch_id: int) -> list[BatchOut]:
    """Delete a batch with its results; answers with those that are left."""
    found = _batch(batch_id)
    if found.state not in Batch.OVER:
        raise HttpError(409, "This batch is at work. Stop it first.")
    out = results_of(found.pk, found.name)
    found.delete()
    shutil.rmtree(out, ignore_errors=True)
    return batches(request)


@router.get("/batches/{batch_id}/assets", response=AssetsOut)
@SIGNED_IN
def assets(request: HttpRequest, batch_id: int, show: Show = "all", start: int = 0) -> AssetsOut:
    """The assets of a batch, what needs somebody's eye first, a page at a time."""
    found = _batch(batch_id)
    rows = found.assets.order_by("rank", "-far", "name")
    if show != "all":
        rows = rows.filter(rank=_RANKS[show])
    begin = max(0, min(start, 10**9))
    least, greatest = summary.limits_of(found.job)
    return AssetsOut(rows=[_row(a, least, greatest) for a in rows[begin : begin + PAGE]], more=max(0, rows.count() - begin - PAGE))


def _row(a: Asset, least: float | None, greatest: float | None) -> AssetOut:
    r = a.row if a.state != "waiting" else {}
    density, out = r.get("density_px_per_m"), a.state in ("done", "unchanged")
    return AssetOut(
        id=a.pk, name=a.name, state=a.state, ok=bool(r.get("ok")), coverage=r.get("coverage"), density=density, islands=r.get("islands"),
        seconds=r.get("seconds"), said=summary.said(r, least, greatest) if r else "", files=out, picture=out and bool(r.get("islands")),
    )  # fmt: skip


@router.get("/batches/{batch_id}/assets/{asset_id}/picture")
@SIGNED_IN
def picture(request: HttpRequest, batch_id: int, asset_id: int) -> HttpResponse:
    """The small picture of an asset's first sheet."""
    found = _asset(batch_id, asset_id)
    path = results_of(found.batch_id, found.batch.name) / found.name / "sheet.png"
    if not path.is_file():
        raise Http404
    return HttpResponse(path.read_bytes(), content_type="image/png")


@router.get("/batches/{batch_id}/assets/{asset_id}/files")
@SIGNED_IN
def asset_files(request: HttpRequest, batch_id: int, asset_id: int) -> FileResponse:
    """What was put out for an asset, as one zip."""
    found = _asset(batch_id, asset_id)
    folder = results_of(found.batch_id, found.batch.name) / found.name
    if not (folder / "run.json").is_file():
        raise HttpError(404, "Nothing was put out for this asset.")
    stream = tempfile.TemporaryFile()  # noqa: SIM115  (the answer closes it)
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for path in sorted(folder.rglob("*")):
            if path.is_file() and not path.is_symlink():
                archive.write(path, path.relative_to(folder).as_posix())
    stream.seek(0)
    return FileResponse(stream, as_attachment=True, filename=f"{found.name.rsplit('/', 1)[-1]}.zip")


@router.get("/batches/{batch_id}/summary.csv")
@SIGNED_IN
def summary_csv(request: HttpRequest, batch_id: int) -> HttpResponse:
    """All assets of a batch as a table."""
    found = _batch(batch_id)
    rows = [{"name": a.name, "state": a.state} | a.row for a in found.assets.order_by("rank", "-far", "name").iterator()]
    body = summary.table(rows, *summary.limits_of(found.job))
    return HttpResponse(body, content_type="text/csv; charset=utf-8", headers={"Content-Disposition": 'attachment; filename="batch.csv"'})


@router.post("/batches/{batch_id}/assets/{asset_id}/open", response=OpenedOut)
@SIGNED_IN
def open_asset(request: HttpRequest, batch_id: int, asset_id: int) -> OpenedOut:
    """Open an asset as a project of its own: as the batch left it, or, where it failed, brought in and not packed."""
    found = _asset(batch_id, asset_id)
    project = Project.objects.create(name=found.name[-120:])
    return OpenedOut(project=project.pk, job=started(Job.objects.create(project=project, kind="asset", params={"asset": found.pk})))
