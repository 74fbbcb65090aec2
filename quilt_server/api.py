"""The API. Every change names the snapshot it was made on, and is refused when the project moved on since."""

from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import File, Form, NinjaAPI, Schema, UploadedFile
from ninja.errors import HttpError

from quilt_core.errors import QuiltError
from quilt_core.pack import Recipe

from .projects.geometry import from_npz
from .projects.models import Job, Layout, Project, Snapshot, SourceFile
from .projects.state import advance, object_rows, recipe_settings, redo_target

api = NinjaAPI(title="Untold Quilt", version="1", docs_url=None)


class ProjectOut(Schema):
    id: int
    name: str
    modified: str
    demo: bool
    deleted: bool
    objects: int


class Density(Schema):
    median: float
    least: float
    greatest: float


class ObjectOut(Schema):
    key: str
    file: int
    number: int
    name: str
    path: str
    materials: list[str]
    triangles: int
    islands: int
    first_island: int
    channels: list[int]
    world_area: float
    left_out: bool
    density: Density | None


class FileOut(Schema):
    id: int
    name: str
    warnings: list[str]


class Overlap(Schema):
    pairs: int
    self: int
    px: float


class Figures(Schema):
    map_px: int
    islands: int
    coverage: float
    density: float | None
    smallest_gap_px: float | None
    smallest_margin_px: float | None
    overlap: Overlap
    outside: int
    flipped: int
    limiting: list[str] = []
    seconds: float | None = None


class TryOut(Schema):
    id: int
    name: str
    figures: Figures
    padding_px: float
    kept: bool


class Settings(Schema):
    map_px: int
    padding_px: float
    margin_px: float
    rotate: str
    hold: bool
    density: float
    keep_ratios: bool
    seconds: float
    seed: int


class StateOut(Schema):
    id: int
    name: str
    snapshot: int | None
    undo: str | None
    redo: str | None
    settings: Settings
    files: list[FileOut]
    objects: list[ObjectOut]
    layout: int | None
    figures: Figures | None
    packed: bool
    tries: list[TryOut]
    job: int | None


class JobOut(Schema):
    id: int
    kind: str
    state: str
    progress: dict[str, Any]
    error: str
    result: dict[str, Any]


class Name(Schema):
    name: str


class Change(Schema):
    base: int
    settings: Settings | None = None
    left_out: list[str] | None = None
    layout: int | None = None


class JobIn(Schema):
    kind: str
    base: int


class Step(Schema):
    base: int


@api.exception_handler(QuiltError)
def user_error(request: HttpRequest, error: QuiltError) -> HttpResponse:
    """What the user can mend, in words."""
    return api.create_response(request, {"detail": str(error)}, status=422)


def _project(project_id: int) -> Project:
    return get_object_or_404(Project, pk=project_id)


def _row(p: Project) -> ProjectOut:
    files = SourceFile.objects.filter(pk__in=p.head.files).only("objects_info") if p.head else []
    return ProjectOut(
        id=p.pk, name=p.name, modified=p.modified.isoformat(), demo=p.demo, deleted=p.deleted is not None,
        objects=sum(len(f.objects_info) for f in files),
    )  # fmt: skip


@api.get("/projects", response=list[ProjectOut])
def list_projects(request: HttpRequest) -> list[ProjectOut]:
    """All projects, the last used first; deleted ones too, so that they can be brought back."""
    return [_row(p) for p in Project.objects.order_by("-modified")]


def _name(text: str) -> str:
    if not text.strip():
        raise QuiltError("A project needs a name.")
    return text.strip()[:120]


@api.post("/projects", response=ProjectOut)
def create_project(request: HttpRequest, body: Name) -> ProjectOut:
    """An empty project."""
    return _row(Project.objects.create(name=_name(body.name)))


@api.patch("/projects/{project_id}", response=ProjectOut)
def rename_project(request: HttpRequest, project_id: int, body: Name) -> ProjectOut:
    """Another name."""
    project = _project(project_id)
    project.name = _name(body.name)
    project.save()
    return _row(project)


@api.delete("/projects/{project_id}", response=ProjectOut)
def delete_project(request: HttpRequest, project_id: int) -> ProjectOut:
    """Put a project aside; `restore` brings it back."""
    project = _project(project_id)
    project.deleted = timezone.now()
    project.save()
    return _row(project)


@api.post("/projects/{project_id}/restore", response=ProjectOut)
def restore_project(request: HttpRequest, project_id: int) -> ProjectOut:
    """Bring a deleted project back."""
    project = _project(project_id)
    project.deleted = None
    project.save()
    return _row(project)


@api.post("/projects/{project_id}/copy", response=ProjectOut)
@transaction.atomic
def copy_project(request: HttpRequest, project_id: int) -> ProjectOut:
    """A new project with the same files, settings and layout; its history starts here."""
    source = _project(project_id)
    copy = Project.objects.create(name=f"{source.name} (copy)"[:120])
    if source.head is not None:
        # Files belong to one project; their originals are shared by hash.
        renumbered = {}
        for file in SourceFile.objects.filter(pk__in=source.head.files):
            old = file.pk
            file.pk, file.project, file._state.adding = None, copy, True
            file.save()
            renumbered[old] = file.pk
        _copy_head(source.head, copy, renumbered)
    return _row(copy)


def _copy_head(head: Snapshot, copy: Project, renumbered: dict[int, int]) -> None:
    from .projects.geometry import to_npz

    layout = head.layout
    if layout is not None:
        tables = {str(renumbered[int(k)]): v for k, v in from_npz(layout.tables).items() if int(k) in renumbered}
        layout.pk, layout.project, layout.tables, layout._state.adding = None, copy, to_npz(tables), True
        layout.save()
    left_out = [f"{renumbered[int(k.split('/')[0])]}/{k.split('/')[1]}" for k in head.left_out]
    files = [renumbered[i] for i in head.files]
    advance(copy, "Copy", head, layout, files=files, left_out=left_out)


@api.get("/projects/{project_id}", response=StateOut)
def project_state(request: HttpRequest, project_id: int) -> StateOut:
    """Everything that the screens show, for the current snapshot."""
    return _state(_project(project_id))


def _state(project: Project) -> StateOut:
    head = project.head
    job = project.jobs.exclude(state__in=Job.OVER).order_by("pk").only("pk").first()
    if head is None:
        return StateOut(
            id=project.pk, name=project.name, snapshot=None, undo=None, redo=None, settings=Settings(**recipe_settings()), files=[],
            objects=[], layout=None, figures=None, packed=False, tries=[], job=job.pk if job else None,
        )  # fmt: skip
    follow = redo_target(project)
    files = SourceFile.objects.filter(pk__in=head.files).only("name", "warnings").order_by("pk")
    tries = project.layouts.filter(kind="pack", discarded=False).only("name", "figures", "recipe").order_by("pk")
    return StateOut(
        id=project.pk, name=project.name, snapshot=head.pk, undo=head.label if head.parent_id else None,
        redo=follow.label if follow else None, settings=Settings(**head.settings),
        files=[FileOut(id=f.pk, name=f.name, warnings=f.warnings) for f in files],
        objects=[ObjectOut(**o) for o in object_rows(head)], layout=head.layout_id,
        figures=Figures(**head.layout.figures) if head.layout else None, packed=bool(head.layout and head.layout.kind == "pack"),
        tries=[TryOut(id=t.pk, name=t.name, figures=Figures(**t.figures), padding_px=t.recipe["padding_px"], kept=t.pk == head.layout_id) for t in tries],
        job=job.pk if job else None,
    )  # fmt: skip


def _on(project: Project, base: int) -> Snapshot:
    if project.head is None or project.head_id != base:
        raise HttpError(409, "The project was changed in another tab. This page now shows the newer state; do your change again there.")
    return project.head


@api.post("/projects/{project_id}/change", response=StateOut)
@transaction.atomic
def change(request: HttpRequest, project_id: int, body: Change) -> StateOut:
    """Settings, left-out objects or the kept try: one undo step."""
    project = _project(project_id)
    head = _on(project, body.base)
    if body.settings is not None:
        s = body.settings
        try:
            Recipe(s.map_px, s.padding_px, s.margin_px, s.rotate, 1, 1, s.density if s.hold else None, s.seconds, None, s.seed)
        except ValueError as e:
            raise QuiltError(f"These settings cannot work: {e}.") from e
        advance(project, "Change settings", head, head.layout, settings=s.model_dump())
    elif body.left_out is not None:
        known = {o["key"] for o in object_rows(head)}
        left_out = [k for k in body.left_out if k in known]
        advance(project, "Choose objects", head, head.layout, left_out=left_out)
    elif body.layout is not None:
        layout = get_object_or_404(Layout, pk=body.layout, project=project)
        if set(from_npz(layout.tables)) != {str(i) for i in head.files}:
            raise QuiltError("This try was made with other files. Pack again.")
        advance(project, f"Keep {layout.name}", head, layout)
    return _state(project)


@api.post("/projects/{project_id}/undo", response=StateOut)
@transaction.atomic
def undo(request: HttpRequest, project_id: int, body: Step) -> StateOut:
    """One step back."""
    project = _project(project_id)
    head = _on(project, body.base)
    if head.parent_id:
        project.head = head.parent
        project.save()
    return _state(project)


@api.post("/projects/{project_id}/redo", response=StateOut)
@transaction.atomic
def redo(request: HttpRequest, project_id: int, body: Step) -> StateOut:
    """One step forward again."""
    project = _project(project_id)
    _on(project, body.base)
    follow = redo_target(project)
    if follow is not None:
        project.head = follow
        project.save()
    return _state(project)


@api.post("/projects/{project_id}/files", response=JobOut)
def bring_in(
    request: HttpRequest, project_id: int, files: list[UploadedFile] = File(...), paths: list[str] = Form(...), unit_m: float = Form(1.0)
) -> JobOut:
    """Upload files; a job reads them. `paths` holds the relative path of each, so that folders keep their shape."""
    from .jobs.work import clean_path, keep

    project = _project(project_id)
    if len(paths) != len(files):
        raise QuiltError("Every file needs a path.")
    if not 1e-6 <= unit_m <= 1e6:
        raise QuiltError("The unit must be between a micrometre and a thousand kilometres.")
    stored = [{"path": clean_path(p), "sha": keep(f.read())} for p, f in zip(paths, files, strict=True)]
    return _job(Job.objects.create(project=project, kind="import", params={"files": stored, "unit_m": unit_m}))


def _job(job: Job) -> JobOut:
    return JobOut(id=job.pk, kind=job.kind, state=job.state, progress=job.progress, error=job.error, result=job.result)


@api.post("/projects/{project_id}/jobs", response=JobOut)
def start_job(request: HttpRequest, project_id: int, body: JobIn) -> JobOut:
    """Pack or deliver."""
    project = _project(project_id)
    _on(project, body.base)
    if body.kind not in ("pack", "deliver"):
        raise QuiltError(f"'{body.kind}' is not work that can be started.")
    running = project.jobs.exclude(state__in=Job.OVER).first()
    if running is not None:
        raise HttpError(409, "This project is busy already. Stop that first, or wait for it.")
    return _job(Job.objects.create(project=project, kind=body.kind, params={"base": body.base}))


@api.get("/jobs/{job_id}", response=JobOut)
def job_state(request: HttpRequest, job_id: int) -> JobOut:
    """How far a job is."""
    return _job(get_object_or_404(Job.objects.defer("output", "draft"), pk=job_id))


@api.post("/jobs/{job_id}/stop", response=JobOut)
def stop_job(request: HttpRequest, job_id: int) -> JobOut:
    """Stop a job; packing keeps its best layout so far."""
    Job.objects.filter(pk=job_id).exclude(state__in=Job.OVER).update(cancel=True)
    return _job(get_object_or_404(Job.objects.defer("output", "draft"), pk=job_id))


def _table(blob: bytes, file_id: int) -> HttpResponse:
    if not blob:
        return HttpResponse(b"", content_type="application/octet-stream", status=204)
    table = from_npz(blob).get(str(file_id))
    if table is None:
        return HttpResponse(b"", content_type="application/octet-stream", status=204)
    return HttpResponse(table.astype("<f4").tobytes(), content_type="application/octet-stream")


@api.get("/jobs/{job_id}/draft/{file_id}", include_in_schema=False)
def job_draft(request: HttpRequest, job_id: int, file_id: int) -> HttpResponse:
    """The best layout so far of a running packing: (n, 5) float32 of a file."""
    return _table(bytes(get_object_or_404(Job, pk=job_id).draft), file_id)


@api.get("/jobs/{job_id}/output", include_in_schema=False)
def job_output(request: HttpRequest, job_id: int) -> HttpResponse:
    """The delivered zip."""
    job = get_object_or_404(Job, pk=job_id, kind="deliver", state="done")
    name = "".join(c if c.isalnum() or c in "-_ " else "_" for c in job.project.name).strip() or "quilt"
    return HttpResponse(
        bytes(job.output), content_type="application/zip", headers={"Content-Disposition": f'attachment; filename="{name}.zip"'}
    )


def _forever(response: HttpResponse) -> HttpResponse:
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@api.get("/layouts/{layout_id}/files/{file_id}", include_in_schema=False)
def layout_table(request: HttpRequest, layout_id: int, file_id: int) -> HttpResponse:
    """Similarities (n, 5) float32 of a file's islands."""
    return _forever(_table(bytes(get_object_or_404(Layout, pk=layout_id).tables), file_id))


@api.get("/layouts/{layout_id}/picture", include_in_schema=False)
def layout_picture(request: HttpRequest, layout_id: int) -> HttpResponse:
    """The small picture of a try."""
    return _forever(HttpResponse(bytes(get_object_or_404(Layout, pk=layout_id).picture), content_type="image/png"))


@api.get("/files/{file_id}/geometry", include_in_schema=False)
def file_geometry(request: HttpRequest, file_id: int) -> HttpResponse:
    """Binary geometry of a file; see `geometry.py`."""
    return _forever(HttpResponse(bytes(get_object_or_404(SourceFile, pk=file_id).geometry), content_type="application/octet-stream"))
