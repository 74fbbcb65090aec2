"""The API. Every change names the snapshot it was made on, and is refused when the project moved on since."""

import math

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import File, Form, NinjaAPI, UploadedFile
from ninja.errors import HttpError

from quilt_core.errors import QuiltError
from quilt_core.pack import Recipe
from quilt_core.pack.shapes import ANGLES

from .blobs import router
from .projects.geometry import from_npz, to_npz
from .projects.models import Job, Layout, Project, Reading, Snapshot, SourceFile
from .projects.state import RECIPE, advance, fault_rows, object_rows, redo_target, settings_of
from .schemas import (
    Change,
    Discard,
    FaultOut,
    Figures,
    FileOut,
    JobIn,
    JobOut,
    Name,
    ObjectOut,
    ProjectOut,
    Settings,
    StateOut,
    Step,
    TryOut,
)

api = NinjaAPI(title="Untold Quilt", version="1", docs_url=None)
api.add_router("", router)


@api.exception_handler(QuiltError)
def user_error(request: HttpRequest, error: QuiltError) -> HttpResponse:
    """What the user can mend, in words."""
    return api.create_response(request, {"detail": str(error)}, status=422)


def _project(project_id: int) -> Project:
    return get_object_or_404(Project, pk=project_id)


def _row(p: Project) -> ProjectOut:
    files = p.head.files if p.head else []
    found = Reading.objects.filter(file_id__in=files, channel=settings_of(p.head)["channel_in"]).only("objects_info")
    objects = sum(len(r.objects_info) for r in found)
    return ProjectOut(id=p.pk, name=p.name, modified=p.modified.isoformat(), demo=p.demo, deleted=p.deleted is not None, objects=objects)


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
            for reading in Reading.objects.filter(file_id=old):
                reading.pk, reading.file, reading._state.adding = None, file, True
                reading.save()
        _copy_head(source.head, copy, renumbered)
    return _row(copy)


def _copy_head(head: Snapshot, copy: Project, renumbered: dict[int, int]) -> None:
    def other(key: str) -> str:
        """The key of an object or island ("file/object", "file:island") in the copy."""
        mark = "/" if "/" in key else ":"
        file, _, rest = key.partition(mark)
        return f"{renumbered.get(int(file), 0)}{mark}{rest}"

    layout = head.layout
    if layout is not None:
        tables = {str(renumbered[int(k)]): v for k, v in from_npz(layout.tables).items() if int(k) in renumbered}
        layout.pieces = [[renumbered.get(file, 0), first, count] for file, first, count in layout.pieces]
        layout.pk, layout.project, layout.tables, layout._state.adding = None, copy, to_npz(tables), True
        layout.save()
    settings = settings_of(head)
    for rule in ("weights", "turns"):
        settings[rule] = {other(k): v for k, v in settings[rule].items()}
    settings["held"] = [other(k) for k in settings["held"]]
    files = [renumbered[i] for i in head.files if i in renumbered]
    advance(copy, "Copy", head, layout, files=files, left_out=[other(k) for k in head.left_out], settings=settings)


@api.get("/projects/{project_id}", response=StateOut)
def project_state(request: HttpRequest, project_id: int) -> StateOut:
    """Everything that the screens show, for the current snapshot."""
    return _state(_project(project_id))


def _state(project: Project) -> StateOut:
    head = project.head
    job = project.jobs.exclude(state__in=Job.OVER).order_by("pk").only("pk").first()
    if head is None:
        return StateOut(
            id=project.pk, name=project.name, snapshot=None, undo=None, redo=None, settings=Settings(**RECIPE), channels=[], files=[],
            objects=[], layout=None, figures=None, packed=False, tries=[], job=job.pk if job else None,
        )  # fmt: skip
    follow, objects = redo_target(project), object_rows(head)
    files = SourceFile.objects.filter(pk__in=head.files).only("name", "warnings").order_by("pk")
    tries = project.layouts.filter(kind="pack", discarded=False).only("name", "figures", "recipe").order_by("pk")
    return StateOut(
        id=project.pk, name=project.name, snapshot=head.pk, undo=head.label if head.parent_id else None,
        redo=follow.label if follow else None, settings=Settings(**settings_of(head)), channels=sorted({c for o in objects for c in o["channels"]}),
        files=[FileOut(id=f.pk, name=f.name, warnings=f.warnings) for f in files],
        objects=[ObjectOut(**o) for o in objects], layout=head.layout_id,
        figures=Figures(**head.layout.figures) if head.layout else None, packed=bool(head.layout and head.layout.kind == "pack"),
        tries=[TryOut(id=t.pk, name=t.name, figures=Figures(**t.figures), padding_px=t.recipe["padding_px"], kept=t.pk == head.layout_id) for t in tries],
        job=job.pk if job else None,
    )  # fmt: skip


def _on(project: Project, base: int) -> Snapshot:
    if project.head is None or project.head_id != base:
        raise HttpError(409, "The project was changed in another tab. This page now shows the newer state; do your change again there.")
    return project.head


@api.get("/projects/{project_id}/faults", response=list[FaultOut])
def project_faults(request: HttpRequest, project_id: int) -> list[FaultOut]:
    """What is wrong with the present layout at the present settings, the heaviest first."""
    head = _project(project_id).head
    return [] if head is None else [FaultOut(**row) for row in fault_rows(head)]


@api.post("/projects/{project_id}/change", response=StateOut)
@transaction.atomic
def change(request: HttpRequest, project_id: int, body: Change) -> StateOut:
    """Settings, left-out objects or the kept try: one undo step."""
    project = _project(project_id)
    head = _on(project, body.base)
    if body.settings is not None:
        _check(body.settings)
        label = _what_changed(settings_of(head), body.settings)
        if body.settings.channel_in != settings_of(head)["channel_in"]:
            raise QuiltError("Another channel is read by a job, not by a change of settings.")
        advance(project, label, head, head.layout, settings=body.settings.model_dump())
    elif body.left_out is not None:
        known = {o["key"] for o in object_rows(head)}
        left_out = [k for k in body.left_out if k in known]
        advance(project, "Choose objects", head, head.layout, left_out=left_out)
    elif body.layout is not None:
        layout = get_object_or_404(Layout, pk=body.layout, project=project)
        if set(from_npz(layout.tables)) != {str(i) for i in head.files} or layout.channel != settings_of(head)["channel_in"]:
            raise QuiltError("This try was made with other files or another UV channel. Pack again.")
        advance(project, f"Keep {layout.name}", head, layout)
    return _state(project)


def _check(s: Settings) -> None:
    """Refuse settings that cannot work, in words."""
    try:
        Recipe(s.map_px, s.padding_px, s.margin_px, s.rotate, 1, 1, s.density if s.hold else None, s.seconds, None, s.seed)
    except ValueError as e:
        raise QuiltError(f"These settings cannot work: {e}.") from e
    limits = [v for v in (s.density_least, s.density_greatest) if v is not None]
    if not (0 <= s.band <= 1000) or any(not (math.isfinite(v) and v > 0) for v in limits) or limits != sorted(limits):
        raise QuiltError("The band is from 0 to 1000 %, and the least density is above 0 and below the greatest.")
    if any(not (math.isfinite(w) and 0.001 <= w <= 1000) for w in s.weights.values()):
        raise QuiltError("A weight is a factor from 0.001 to 1000.")
    if any(not k.replace("/", ":", 1).replace(":", "", 1).isdigit() for k in (*s.weights, *s.turns, *s.held)):
        raise QuiltError("Weights and rules belong to an object or an island.")
    if any(t not in ANGLES for t in s.turns.values()):
        raise QuiltError(f"An island turns by one of {', '.join(ANGLES)}.")
    if not (0 <= s.channel_out <= 7 and 0 <= s.channel_in <= 7):
        raise QuiltError("UV channels are 0 to 7.")


def _what_changed(old: dict[str, object], new: Settings) -> str:
    """A label for the step: which settings are other than before."""
    names = {
        "map_px": "map size", "padding_px": "padding", "margin_px": "margin", "rotate": "turning", "hold": "density", "density": "density",
        "keep_ratios": "sizes", "seconds": "time", "channel_out": "written channel", "band": "band", "density_least": "limits",
        "density_greatest": "limits", "weights": "weights", "turns": "turning", "held": "held islands",
    }  # fmt: skip
    changed = dict.fromkeys(names.get(k, k) for k, v in new.model_dump().items() if old.get(k) != v)
    return f"Change {', '.join(changed)}" if changed else "Change settings"


@api.post("/projects/{project_id}/tries/discard", response=StateOut)
@transaction.atomic
def discard_try(request: HttpRequest, project_id: int, body: Discard) -> StateOut:
    """Take a try out of the row of tries, or bring it back; the layout itself stays for undo."""
    project = _project(project_id)
    head = _on(project, body.base)
    layout = get_object_or_404(Layout, pk=body.layout, project=project, kind="pack")
    if layout.pk == head.layout_id and body.discarded:
        raise QuiltError("This try is the layout. Keep another one first.")
    layout.discarded = body.discarded
    layout.save(update_fields=["discarded"])
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
    from .jobs.gather import clean_path
    from .projects.reading import keep

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
    """Pack, explain, mend, read another channel, or deliver."""
    from .jobs.mend import check

    project = _project(project_id)
    _on(project, body.base)
    params: dict[str, object] = {}
    if body.kind == "mend":
        params = check(body.params)
    elif body.kind == "channel":
        channel = body.params.get("channel")
        if not isinstance(channel, int) or not 0 <= channel <= 7:
            raise QuiltError("UV channels are 0 to 7.")
        params = {"channel": channel}
    elif body.kind not in ("pack", "explain", "deliver"):
        raise QuiltError(f"'{body.kind}' is not work that can be started.")
    running = project.jobs.exclude(state__in=Job.OVER).first()
    if running is not None:
        raise HttpError(409, "This project is busy already. Stop that first, or wait for it.")
    return _job(Job.objects.create(project=project, kind=body.kind, params={"base": body.base, **params}))


@api.get("/jobs/{job_id}", response=JobOut)
def job_state(request: HttpRequest, job_id: int) -> JobOut:
    """How far a job is."""
    return _job(get_object_or_404(Job.objects.defer("output", "draft"), pk=job_id))


@api.post("/jobs/{job_id}/stop", response=JobOut)
def stop_job(request: HttpRequest, job_id: int) -> JobOut:
    """Stop a job; packing keeps its best layout so far."""
    Job.objects.filter(pk=job_id).exclude(state__in=Job.OVER).update(cancel=True)
    return _job(get_object_or_404(Job.objects.defer("output", "draft"), pk=job_id))
