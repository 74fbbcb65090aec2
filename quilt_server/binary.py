"""What the API gives out in binary: geometry, layouts, pictures, the zip."""

import csv
import io
import json
import zipfile
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from django.http import FileResponse, HttpRequest, HttpResponse
from ninja import Router

from quilt_core.arrays import unpack_arrays
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats

from .jobs.outputs import path_of
from .projects import files
from .projects.models import Job, Project
from .projects.objects import density_report
from .projects.opened import arrays_of
from .projects.people import job_of, layout_of, original_of, project_of, reading_of
from .projects.shown import kept, of_original
from .rights import LOOK

router = Router()


def _table(transforms: Mapping[str, Floats], file_id: int) -> HttpResponse:
    similarities = transforms.get(str(file_id))
    if similarities is None:
        return HttpResponse(b"", content_type="application/octet-stream", status=204)
    return HttpResponse(similarities.astype("<f4").tobytes(), content_type="application/octet-stream")


@router.get("/jobs/{job_id}/draft/{file_id}", include_in_schema=False)
@LOOK
def job_draft(request: HttpRequest, job_id: int, file_id: int) -> HttpResponse:
    """The best layout so far of a running packing: (n, 5) float32 of a file."""
    return _table(unpack_arrays(draft) if (draft := bytes(job_of(job_id).draft)) else {}, file_id)


@router.get("/jobs/{job_id}/output", include_in_schema=False)
@LOOK
def job_output(request: HttpRequest, job_id: int) -> FileResponse:
    """The delivered zip."""
    job = job_of(job_id, kind="deliver", state="done")
    return _zip(job, f"{_file_name(job.project)}.zip")


def _zip(job: Job, name: str) -> FileResponse:
    """What a job put out, to be saved under a name."""
    return FileResponse(files.path_of(job.output_sha).open("rb"), content_type="application/zip", as_attachment=True, filename=name)


@router.get("/jobs/{job_id}/carried/{number}.png", include_in_schema=False)
@LOOK
def carried_map(request: HttpRequest, job_id: int, number: int, px: int = 2048) -> HttpResponse:
    """A map that old paint was carried over to, by its number in the report of a delivery, as PNG of at most `px`."""
    job = job_of(job_id, kind="deliver", state="done")
    carried = job.result.get("figures", {}).get("carried", [])
    if not 0 <= number < len(carried):
        return HttpResponse(status=404)

    def source(folder: Path) -> Path:
        with zipfile.ZipFile(files.path_of(job.output_sha)) as archive:
            return Path(archive.extract(carried[number]["file"], folder))

    return _png(kept(f"{job.output_sha}-{number}", px, source, plain=True))


def _cell(value: object) -> object:
    """A value for a spreadsheet, which would take a text that begins like a formula for one (OWASP, "CSV Injection")."""
    return f"'{value}" if isinstance(value, str) and value[:1] in "=+-@\t\r" and value else value


def _png(body: bytes) -> HttpResponse:
    return _forever(HttpResponse(body, content_type="image/png"))


@router.get("/jobs/{job_id}/baked/{sheet}/{tile}/{kind}.png", include_in_schema=False)
@LOOK
def baked_map(request: HttpRequest, job_id: int, sheet: int, tile: int, kind: str) -> HttpResponse:
    """A map of a test bake."""
    job = job_of(job_id, kind="bake", state="done")
    with zipfile.ZipFile(files.path_of(job.output_sha)) as archive:
        name = path_of(sheet, tile, kind)
        if name not in archive.namelist():
            return HttpResponse(status=404)
        return _forever(HttpResponse(archive.read(name), content_type="image/png"))


@router.get("/jobs/{job_id}/baked.zip", include_in_schema=False)
@LOOK
def baked_zip(request: HttpRequest, job_id: int) -> FileResponse:
    """All maps of a test bake."""
    return _zip(job_of(job_id, kind="bake", state="done"), "test-bake.zip")


@router.get("/jobs/{job_id}/saved", include_in_schema=False)
@LOOK
def saved_project(request: HttpRequest, job_id: int) -> FileResponse:
    """A project as one file."""
    job = job_of(job_id, kind="save", state="done")
    return _zip(job, f"{_file_name(job.project)}.quilt.zip")


def _file_name(project: Project) -> str:
    return "".join(c if c.isalnum() or c in "-_ " else "_" for c in project.name).strip() or "quilt"


def _changed(layout_id: int, since: int, file: str) -> HttpResponse | None:
    """The rows of a file that differ between two layouts; None where all of them may as well be sent."""
    layout, other = layout_of(layout_id), layout_of(since)
    if layout.project_id != other.project_id:
        return None
    new, old = (arrays_of(x, "transforms").get(file) for x in (layout, other))
    if new is None or old is None or len(new) != len(old):
        return None
    which = np.flatnonzero((new != old).any(axis=1))
    if len(which) > len(new) // 2:
        return None
    body = np.uint32(len(which)).tobytes() + which.astype("<u4").tobytes() + new[which].astype("<f4").tobytes()
    return HttpResponse(body, content_type="application/octet-stream", headers={"X-Rows": "changed"})


def _forever(response: HttpResponse) -> HttpResponse:
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@router.get("/layouts/{layout_id}/files/{file_id}", include_in_schema=False)
@LOOK
def layout_table(request: HttpRequest, layout_id: int, file_id: int, since: int | None = None) -> HttpResponse:
    """Similarities (n, 5) float32 of a file's islands.

    With `since`, another layout that the browser has: where few rows differ only those come, under the header X-Rows: their number as
    uint32, the islands (k,) uint32, the rows (k, 5) float32.
    """
    if since is not None:
        rows = _changed(layout_id, since, str(file_id))
        if rows is not None:
            return _forever(rows)
    return _forever(_table(arrays_of(layout_of(layout_id), "transforms"), file_id))


@router.get("/layouts/{layout_id}/picture", include_in_schema=False)
@LOOK
def layout_picture(request: HttpRequest, layout_id: int) -> HttpResponse:
    """The small picture of a try."""
    return _forever(HttpResponse(bytes(layout_of(layout_id).picture), content_type="image/png"))


@router.get("/files/{file_id}/channels/{channel}/geometry", include_in_schema=False)
@LOOK
def file_geometry(request: HttpRequest, file_id: int, channel: int) -> HttpResponse:
    """Binary geometry of a file in one of its UV channels; see `geometry.py`."""
    reading = reading_of(file_id, channel)
    return _forever(HttpResponse(bytes(reading.geometry), content_type="application/octet-stream"))


@router.get("/pictures/{sha}", include_in_schema=False)
@LOOK
def picture(request: HttpRequest, sha: str, px: int = 2048) -> HttpResponse:
    """A material's picture or one that was dropped on a tile, as PNG of at most `px`."""
    return _png(of_original(original_of(sha).sha, px))


@router.get("/projects/{project_id}/density.{ending}", include_in_schema=False)
@LOOK
def project_density(request: HttpRequest, project_id: int, ending: str) -> HttpResponse:
    """The density of every island, as CSV or JSON."""
    head = project_of(project_id).head
    if ending not in ("csv", "json"):
        raise QuiltError("The density report comes as csv or json.")
    rows = [] if head is None else density_report(head)
    if ending == "json":
        body, kind = json.dumps(rows, indent=1), "application/json"
    else:
        out = io.StringIO()
        writer = csv.DictWriter(out, list(rows[0]) if rows else ["file"])
        writer.writeheader()
        writer.writerows({k: _cell(v) for k, v in row.items()} for row in rows)
        body, kind = out.getvalue(), "text/csv; charset=utf-8"
    return HttpResponse(body, content_type=kind, headers={"Content-Disposition": f'attachment; filename="density.{ending}"'})
