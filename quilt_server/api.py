"""The API. Every change names the snapshot it was made on, and is refused when the project moved on since."""

import json
import threading
from collections.abc import Callable
from functools import wraps
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError

from quilt_core.errors import QuiltError
from quilt_core.formats.registry import FORMATS

from .asked import busy, on, project_of
from .batches.api import router as batches
from .binary import router
from .by_hand import router as by_hand
from .checks import MEASURED, READ, check, what_changed, whole_settings
from .events import router as events
from .incoming import router as incoming
from .ours import answer, of_machine
from .parsing import StrictParser
from .projects.copies import copied
from .projects.faults import fault_rows
from .projects.files import NoRoom
from .projects.made import put_away
from .projects.models import Layout, Project, Reading
from .projects.people import may_change, name_of, visible
from .projects.planning import plan, suggest
from .projects.proposals import proposal_of, take
from .projects.room import MOST_KEPT, purge, size_of, thin
from .projects.sheets import sheet_by
from .projects.state import following, redo_target, settings_of, step
from .projects.tile_orders import order
from .rights import CHANGE, LOOK, OWN, SIGNED_IN
from .schemas.asked import (
    Change,
    Discard,
    FormatOut,
    Name,
    OrderIn,
    OrderOut,
    PlanIn,
    PlanOut,
    Step,
    SuggestIn,
    SuggestOut,
    Take,
    ThinIn,
    ThinOut,
)
from .schemas.state import FaultOut, ProjectOut, StateOut
from .sharing import router as sharing
from .signing import router as signing
from .states import back_to_good, state_json, tell, told_before
from .work import router as work

api = NinjaAPI(title="Untold Quilt", version="1", docs_url=None, parser=StrictParser())
api.add_router("", router)
api.add_router("", by_hand)
api.add_router("", signing)
api.add_router("", sharing)
api.add_router("", incoming)
api.add_router("", work)
api.add_router("", batches)
api.add_router("", events)


@api.exception_handler(QuiltError)
def user_error(request: HttpRequest, error: QuiltError) -> HttpResponse:
    """What the user can mend, in words."""
    return api.create_response(request, {"detail": str(error)}, status=422)


@api.exception_handler(ValidationError)
def form_error(request: HttpRequest, error: ValidationError) -> HttpResponse:
    """What came in and has not the form that was asked for: which value, and what it should be."""
    first = error.errors[0]
    place = ".".join(str(x) for x in first["loc"] if x not in ("body", "query", "path", "form", "file"))[:120]
    if first["type"] == "form":
        return api.create_response(request, {"detail": first["msg"]}, status=422)
    return api.create_response(request, {"detail": f"'{place}' is not what it should be: {first['msg'].lower()}."}, status=422)


@api.exception_handler(OverflowError)
def number_error(request: HttpRequest, error: OverflowError) -> HttpResponse:
    """A number that no column of the database takes: there is nothing of that number."""
    if "SQLite" not in str(error):
        return our_error(request, error)
    return api.create_response(request, {"detail": "There is nothing of that number."}, status=404)


@api.exception_handler(NoRoom)
@api.exception_handler(Exception)
def our_error(request: HttpRequest, error: Exception) -> HttpResponse:
    """What nobody who uses the page can have caused."""
    return answer(error, f"{request.method} {request.path}")


@api.exception_handler(HttpError)
def told_error(request: HttpRequest, error: HttpError) -> HttpResponse:
    """An answer that is no success; where a body could not be read, what its reader said of it."""
    if isinstance(error.__context__, QuiltError):
        return user_error(request, error.__context__)
    return api.create_response(request, {"detail": error.message}, status=error.status_code)


def _row(p: Project) -> ProjectOut:
    files = p.head.files if p.head else []
    found = Reading.objects.filter(file_id__in=files, channel=settings_of(p.head)["channel_in"]).only("objects_info")
    # A file whose islands were joined was read twice.
    objects = sum({r.file_id: len(r.objects_info) for r in found}.values())
    return ProjectOut(
        id=p.pk, name=p.name, modified=p.modified.isoformat(), demo=p.demo, deleted=p.deleted is not None, objects=objects,
        owner=name_of(p.owner) if p.owner else "", may_change=may_change(p),
    )  # fmt: skip


@api.get("/formats", response=list[FormatOut])
@SIGNED_IN
def list_formats(request: HttpRequest) -> list[FormatOut]:
    """The file formats that are read and written."""
    return [
        FormatOut(
            title=f.title, endings=list(f.endings), exports=dict(f.exports), one_channel=f.one_channel, says_unit=f.says_unit,
            names_channels=f.names_channels,
        )
        for f in FORMATS
    ]  # fmt: skip


@api.get("/projects", response=list[ProjectOut])
@SIGNED_IN
def list_projects(request: HttpRequest) -> list[ProjectOut]:
    """All projects, the last used first; deleted ones too, so that they can be brought back."""
    return [_row(p) for p in visible().select_related("owner").order_by("-modified")]


def _name(text: str, what: str = "A project") -> str:
    if not text.strip():
        raise QuiltError(f"{what} needs a name.")
    return text.strip()[:120]


@api.post("/projects", response=ProjectOut)
@SIGNED_IN
def create_project(request: HttpRequest, body: Name) -> ProjectOut:
    """An empty project."""
    return _row(Project.objects.create(name=_name(body.name)))


@api.patch("/projects/{project_id}", response=ProjectOut)
@CHANGE
def rename_project(request: HttpRequest, project_id: int, body: Name) -> ProjectOut:
    """Another name."""
    project = project_of(project_id)
    project.name = _name(body.name)
    project.save(update_fields=["name", "modified"])
    return _row(project)


@api.delete("/projects/{project_id}", response=ProjectOut)
@OWN
def delete_project(request: HttpRequest, project_id: int) -> ProjectOut:
    """Put a project aside; `restore` brings it back."""
    project = project_of(project_id)
    project.deleted = timezone.now()
    project.save(update_fields=["deleted", "modified"])
    return _row(project)


@api.post("/projects/{project_id}/restore", response=ProjectOut)
@OWN
def restore_project(request: HttpRequest, project_id: int) -> ProjectOut:
    """Bring a deleted project back."""
    project = project_of(project_id)
    project.deleted = None
    project.save(update_fields=["deleted", "modified"])
    return _row(project)


@api.post("/projects/{project_id}/purge", response=list[ProjectOut])
@OWN
def purge_project(request: HttpRequest, project_id: int) -> list[ProjectOut]:
    """Delete a deleted project for good, with its files; answers with those that are left."""
    project = project_of(project_id)
    purge(project)
    return list_projects(request)


@api.post("/projects/{project_id}/thin", response=ThinOut)
@CHANGE
def thin_history(request: HttpRequest, project_id: int, body: ThinIn) -> ThinOut:
    """Forget the steps of a project's history but the last ones."""
    if not 0 <= body.keep <= MOST_KEPT:
        raise QuiltError(f"From 0 to {MOST_KEPT:,} steps can be kept.")
    project = project_of(project_id)
    busy(project)
    before = size_of(project)
    steps = thin(project, body.keep)
    return ThinOut(steps=steps, freed=before - size_of(project))


@api.post("/projects/{project_id}/copy", response=ProjectOut)
@LOOK
@transaction.atomic
def copy_project(request: HttpRequest, project_id: int) -> ProjectOut:
    """A new project with the same files, settings and layout; its history starts here. It belongs to who asks, who need not be able to change the other."""
    return _row(copied(project_of(project_id)))


@api.get("/projects/{project_id}", response=StateOut)
@LOOK
def project_state(request: HttpRequest, project_id: int, look: int | None = None) -> HttpResponse:
    """Everything that the screens show, for the current snapshot; or for a proposal, to look at it before it is taken."""
    return _state(_looked(project_of(project_id), look))


def _looked(project: Project, look: int | None) -> Project:
    """A project as it would be with a proposal taken; nothing is saved."""
    if look is not None:
        project.head = proposal_of(project, look)
    return project


# Changes of this process take turns here: the database makes whoever waits for it look again after ever longer pauses, so that some wait for seconds.
_turn = threading.Lock()


def _changes(view: Callable[..., Project]) -> Callable[..., HttpResponse]:
    """A view that changes a project in one transaction, and answers with the state that this makes. That is put together afterwards, when others may change
    theirs: what it is made of does not change any more."""

    @wraps(view)
    def run(*args: Any, **given: Any) -> HttpResponse:
        with _turn, transaction.atomic():
            project = view(*args, **given)
        return _state(project)

    return run


@api.post("/projects/{project_id}/take", response=StateOut)
@CHANGE
@_changes
def take_proposal(request: HttpRequest, project_id: int, body: Take) -> Project:
    """Make a proposal the project's next step."""
    project = project_of(project_id)
    on(project, body.base)
    take(project, proposal_of(project, body.snapshot))
    put_away(project, "propose")
    return project


def _state(project: Project) -> HttpResponse:
    """A project's state; not checked against its schema again, which would take longer than making it. A test does that. Where the last step cannot be shown,
    the project goes back to the last that can."""
    try:
        told = state_json(project)
    except Exception as e:
        if of_machine(e) is not None or not back_to_good(project):
            raise
        told = state_json(project)
    return HttpResponse(told, content_type="application/json")


@api.get("/projects/{project_id}/faults", response=list[FaultOut])
@LOOK
def project_faults(request: HttpRequest, project_id: int, look: int | None = None) -> HttpResponse:
    """What is wrong with the present layout (or that of a proposal) at the present settings, the heaviest first."""
    head = _looked(project_of(project_id), look).head
    return HttpResponse(json.dumps([] if head is None else fault_rows(head), allow_nan=False), content_type="application/json")


@api.post("/projects/{project_id}/plan", response=PlanOut)
@LOOK
def plan_sheet(request: HttpRequest, project_id: int, body: PlanIn) -> PlanOut:
    """What a sheet would reach at each map size, before anything is packed."""
    project = project_of(project_id)
    if project.head is None:
        raise QuiltError("There is nothing to plan yet. Bring in a mesh first.")
    if body.density is not None and not 0 < body.density < 1e9:
        raise QuiltError("The density must be greater than 0 px/m.")
    return PlanOut(**plan(project, project.head, body.sheet, body.objects, body.density))


@api.post("/projects/{project_id}/suggest", response=SuggestOut)
@LOOK
def suggest_sheets(request: HttpRequest, project_id: int, body: SuggestIn) -> SuggestOut:
    """A split of all objects over some sheets, evenly filled, with what belongs together on one."""
    head = project_of(project_id).head
    if head is None or not body.sheets:
        raise QuiltError("There is nothing to share out yet. Bring in a mesh, and add sheets.")
    for s in body.sheets:
        sheet_by(settings_of(head), s)
    return SuggestOut(sheet_of=suggest(head, body.sheets, body.by))


@api.post("/projects/{project_id}/belongs", response=OrderOut)
@LOOK
def order_tiles(request: HttpRequest, project_id: int, body: OrderIn) -> OrderOut:
    """Settings by which the parts of a sheet belong to its tiles in an order; nothing is changed."""
    head = project_of(project_id).head
    if head is None:
        raise QuiltError("There is nothing to send to tiles yet. Bring in a mesh.")
    return OrderOut(**order(head, body.sheet, body.by, body.pattern, body.tile))


@api.post("/projects/{project_id}/change", response=StateOut)
@CHANGE
def change(request: HttpRequest, project_id: int, body: Change) -> HttpResponse:
    """Settings: one undo step. What the layout is measured with is changed by jobs. The state that it leads to is made before it lands: nothing does that cannot
    be shown."""
    project = project_of(project_id)
    head = on(project, body.base)
    check(body.settings)
    old, new = whole_settings(settings_of(head)), body.settings.model_dump()
    if any(new[k] != old[k] for k in READ):
        raise QuiltError("What is read from the files is changed by a job, not by a change of settings.")
    if head.layout is not None and any(new[k] != old[k] for k in MEASURED if k != "map_px"):
        raise QuiltError("Sheets and twins are changed by a job, since the layout is measured again.")
    after = following(project, what_changed(old, body.settings), head, head.layout, settings=new)
    told = told_before(after)
    with _turn, transaction.atomic():
        project = project_of(project_id)
        on(project, body.base)
        step(project, after)
    tell(after, told)
    return _state(project)


@api.post("/projects/{project_id}/tries/discard", response=StateOut)
@CHANGE
@_changes
def discard_try(request: HttpRequest, project_id: int, body: Discard) -> Project:
    """Take a try out of the row of tries, or bring it back, or name it; the layout itself stays for undo."""
    project = project_of(project_id)
    head = on(project, body.base)
    layout = get_object_or_404(Layout, pk=body.layout, project=project, kind="pack")
    if body.discarded and layout.pk in head.kept.values():
        raise QuiltError("This try is the layout. Keep another one first.")
    layout.discarded = body.discarded
    layout.name = layout.name if body.name is None else _name(body.name, "A try")
    layout.save(update_fields=["discarded", "name"])
    return project


@api.post("/projects/{project_id}/undo", response=StateOut)
@CHANGE
@_changes
def undo(request: HttpRequest, project_id: int, body: Step) -> Project:
    """One step back."""
    project = project_of(project_id)
    head = on(project, body.base)
    if head.parent_id:
        project.head = head.parent
        project.save(update_fields=["head", "modified"])
    return project


@api.post("/projects/{project_id}/redo", response=StateOut)
@CHANGE
@_changes
def redo(request: HttpRequest, project_id: int, body: Step) -> Project:
    """One step forward again."""
    project = project_of(project_id)
    on(project, body.base)
    follow = redo_target(project)
    if follow is not None:
        project.head = follow
        project.save(update_fields=["head", "modified"])
    return project
