"""A project as the browser sees it."""

from __future__ import annotations

import json
import logging
from typing import Any

from django.db import transaction
from django.db.models import Q

from quilt_core.errors import QuiltError

from .ours import of_machine
from .projects.figures import sheet_rows, whole
from .projects.models import Job, Layout, Project, Snapshot
from .projects.objects import object_rows
from .projects.people import may_change, name_of
from .projects.recent import Recent
from .projects.sheets import of_sheet
from .projects.state import RECIPE, settings_of, sizes_of, source_files, steps_after
from .schemas.settings import Settings

log = logging.getLogger("quilt")


def state_json(project: Project) -> str:
    """`state_of` as JSON; all of it that belongs to a snapshot, which is most, is written once for each."""
    moving = json.dumps(_moving(project), allow_nan=False)
    return moving if project.head is None else f"{_told(project.head)[:-1]}, {moving[1:]}"


def told_before(snapshot: Snapshot) -> str:
    """What of a state belongs to a snapshot that is not saved yet: where this fails, the project could not be shown with it. See `tell`."""
    return json.dumps(_fixed(snapshot), allow_nan=False)


def tell(snapshot: Snapshot, told: str) -> None:
    """Keep what `told_before` made of a snapshot, now that it is saved."""
    _told.keep(snapshot, told)


def back_to_good(project: Project) -> bool:
    """Go back to the last step that can be shown; whether there is one. What could not be shown stays as a row that no step leads to."""
    bad, at = project.head, project.head.parent if project.head else None
    while at is not None:
        try:
            _told(at)
            break
        except Exception as e:
            if of_machine(e) is not None:
                raise
            at = at.parent
    if bad is None or at is None:
        return False
    with transaction.atomic():
        # The one below the good one is what is told; nobody else's step is undone by this.
        gone = bad
        while gone.parent_id != at.pk and gone.parent is not None:
            gone = gone.parent
        if Project.objects.filter(pk=project.pk, head=bad).update(head=at):
            Snapshot.objects.filter(pk=gone.pk).update(broken=True)
    log.error("project %d: its state %d cannot be shown; it went back to %d", project.pk, bad.pk, at.pk)
    project.refresh_from_db(fields=["head"])
    return True


def state_of(project: Project) -> dict[str, Any]:
    """The project's head with all its figures, its tries, and the job that runs on it: what `StateOut` says, unchecked, since it is made here."""
    return _moving(project) | ({} if project.head is None else _fixed(project.head))


def _moving(project: Project) -> dict[str, Any]:
    """What of a state changes without a step: names, rights, what can be done again, tries and work; of an empty project all."""
    head = project.head
    job = project.jobs.exclude(state__in=Job.OVER).order_by("pk").values_list("pk", flat=True).first()
    out: dict[str, Any] = dict(snapshot=project.head_id, id=project.pk, name=project.name, may_change=may_change(project), job=job)
    if head is None:
        return out | dict(
            author="", undo=None, redo=None, broken=None, settings=Settings(**RECIPE).model_dump(), channels=[], files=[], objects=[], layout=None, figures=None,
            sheets=[], packed=False, tries=[],
        )  # fmt: skip
    redo, broken = steps_after(project)
    tries = (
        project.layouts.filter(Q(discarded=False) | Q(pk__in=list(head.kept.values())), kind="pack")
        .only("name", "figures", "recipe", "sheet")
        .order_by("pk")
    )
    return out | dict(
        author=name_of(head.author) if head.author_id else "", undo=head.label if head.parent_id else None, redo=redo, broken=broken,
        tries=[_try(t, head.kept) for t in tries],
    )  # fmt: skip


def _fixed(head: Snapshot) -> dict[str, Any]:
    """What belongs to a snapshot and its layout, and changes with them alone. The number of the snapshot is not part of it, so that one can be made before it is saved."""
    objects, rows, sources, sizes = object_rows(head), sheet_rows(head), source_files(head), sizes_of(head)
    files = [sources[f] for f in head.files if f in sources]
    used = [r for r in rows if r["islands"]]
    return dict(
        objects=objects, settings=Settings(**settings_of(head)).model_dump(), channels=sorted({c for o in objects for c in o["channels"]}),
        files=[
            {"id": f.pk, "name": f.name, "warnings": f.warnings, "materials": f.materials, "unit_m": f.unit_m, "size_m": sizes.get(f.pk)} for f in files
        ],
        layout=head.layout_id, figures=_filled(whole(head, rows)),
        sheets=[r | {"figures": _filled(r["figures"])} for r in rows],
        packed=bool(used) and all(r["kept"] and not r["stale"] for r in used),
    )  # fmt: skip


# Five people on as many projects, each with what they just went back from; of a large kit it is megabytes.
_told = Recent(64 << 20, lambda head: json.dumps(_fixed(head), allow_nan=False), size=lambda told: max(len(told), 1 << 20), proofs=True)


def _filled(figures: dict[str, Any] | None) -> dict[str, Any] | None:
    """Figures with what those of some layouts do not say."""
    return None if figures is None else {"limiting": [], "seconds": None, "passes": None, "tiles": [], "twins": 0} | figures


def _try(t: Layout, kept: dict[str, int]) -> dict[str, Any]:
    """A try with the figures of its sheet and the recipe that it was made with."""
    figures = t.figures.get("sheets", {}).get(str(t.sheet), t.figures)
    try:
        flat: dict[str, Any] = of_sheet(RECIPE | t.recipe, t.sheet)
    except QuiltError:  # the sheet is gone; the plain recipe is the next best thing to show
        flat = RECIPE | t.recipe
    shown = {
        k: flat[k]
        for k in ("map_px", "padding_px", "margin_px", "rotate", "hold", "density", "keep_ratios", "fill", "seconds", "passes", "seed")
    }
    extra = {k: t.figures[k] for k in ("seconds", "passes", "limiting") if k in t.figures}
    return {
        "id": t.pk, "sheet": t.sheet, "recipe": shown, "name": t.name, "figures": _filled(figures | extra), "padding_px": flat["padding_px"],
        "seed": int(flat["seed"]), "kept": kept.get(str(t.sheet)) == t.pk,
    }  # fmt: skip
