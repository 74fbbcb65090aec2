"""The pointer among snapshots: one step forward, undo, redo; and a project's state as the browser sees it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from functools import lru_cache
from typing import Any, TypeVar

import numpy as np
from django.db.models import QuerySet, TextField
from django.db.models.functions import Cast
from numpy.typing import NDArray

from quilt_core.model.scene import Floats

from ..schemas.settings import Settings
from .doing import work_now
from .models import Layout, Project, ProjectBlob, Reading, Snapshot, SourceFile
from .opened import arrays_of
from .sheets import grid, of_sheet, sheets

RECIPE: dict[str, Any] = {
    "map_px": 2048, "padding_px": 8.0, "margin_px": 4.0, "rotate": "90", "hold": False, "density": 512.0,
    "keep_ratios": False, "ratios": "uv", "fill": "common", "mirror": False, "texel_grid": False, "grid_percent": 1.0, "seconds": 10.0, "passes": None, "seed": 0, "channel_in": 0, "channel_out": 0, "band": 10.0,
    "density_least": None, "density_greatest": None, "weights": {}, "rotations": {}, "held": [], "twins": [], "pictures": {},
    "sheets": [], "recipes": {}, "sheet_of": {}, "tile_of": {}, "bunches": [], "bunch_objects": "", "apart_px": 0.0, "history": 0, "links": [], "channel_names": {},
    "shelved": {},
}  # fmt: skip
T = TypeVar("T")
# Where work that is made of several steps has come to: snapshots that no step leads to until all of it is done.
_aside: ContextVar[list[Snapshot] | None] = ContextVar("aside", default=None)


@contextmanager
def steps_aside() -> Iterator[list[Snapshot]]:
    """The steps of this process are no steps of their project meanwhile, but the snapshots of this list; the last of them stands for the head."""
    chain: list[Snapshot] = []
    token = _aside.set(chain)
    try:
        yield chain
    finally:
        _aside.reset(token)


def project_now(number: int) -> Project:
    """A project from the database, with the head that the next step is made on."""
    project = Project.objects.get(pk=number)
    if chain := _aside.get():
        project.head = chain[-1]
    return project


def settings_of(snapshot: Snapshot | None) -> dict[str, Any]:
    """A snapshot's settings, with the usual values where it is older than a setting."""
    return RECIPE | (snapshot.settings if snapshot is not None else {})


def following(project: Project, label: str, base: Snapshot, layout: Layout | None, **changes: Any) -> Snapshot:
    """The snapshot that would come after the project's head, not saved: as `base`, with another layout or other fields."""
    fields = {"files": base.files, "left_out": base.left_out, "settings": base.settings, "kept": base.kept, "work": work_on(base)} | changes
    snapshot = Snapshot(project=project, parent=project.head, label=label[:120], layout=layout, **fields)
    if snapshot.files == base.files:
        snapshot._sources = source_files(base)  # type: ignore[attr-defined]
    return snapshot


def advance(project: Project, label: str, base: Snapshot, layout: Layout | None, **changes: Any) -> Snapshot:
    """A new snapshot after the project's head: as `base`, with another layout or other fields. Its settings have the form that settings have."""
    snapshot = following(project, label, base, layout, **changes)
    if "settings" in changes:
        snapshot.settings = Settings(**(RECIPE | snapshot.settings)).model_dump()
    step(project, snapshot)
    return snapshot


def step(project: Project, snapshot: Snapshot) -> None:
    """Save a snapshot as the project's head. Pictures under its tiles belong to the project from now on."""
    chain = _aside.get()
    snapshot.proposal = chain is not None
    snapshot.save()
    if chain is not None:
        chain.append(snapshot)
        project.head = snapshot
        return
    ProjectBlob.hold(project.pk, (p["sha"] for p in snapshot.settings.get("pictures", {}).values()))
    project.head = snapshot
    # Only these fields: whoever renamed the project meanwhile keeps the new name.
    project.save(update_fields=["head", "modified"])


def work_on(snapshot: Snapshot) -> list[dict[str, Any]]:
    """What is being done to a state, as the next one keeps it."""
    return work_now({k: f.name for k, f in source_files(snapshot).items()})


def all_work(snapshot: Snapshot | None) -> list[dict[str, Any]]:
    """All that led to a state, the first first."""
    chain = list[list[dict[str, Any]]]()
    while snapshot is not None:
        chain.append(snapshot.work)
        snapshot = snapshot.parent
    return [w for work in reversed(chain) for w in work]


def redo_target(project: Project) -> Snapshot | None:
    """The newest snapshot that follows the head."""
    return _after(project).filter(broken=False).first()


def steps_after(project: Project) -> tuple[str | None, str | None]:
    """What the newest step after the head is called, that redo goes to; and the newest that could not be shown."""
    found = list(_after(project).values_list("label", "broken"))
    return tuple(next((label for label, is_broken in found if is_broken == broken), None) for broken in (False, True))  # type: ignore[return-value]


def _after(project: Project) -> QuerySet[Snapshot]:
    found = Snapshot.objects.filter(project=project, parent_id=project.head_id, proposal=False)
    return found.order_by("-pk") if project.head_id else found.none()


def readings(snapshot: Snapshot) -> list[Reading]:
    """The readings of a snapshot's files in its channel, without their geometry, in the order of the files."""
    known: list[Reading] | None = getattr(snapshot, "_readings", None)
    if known is None:
        settings = settings_of(snapshot)
        known = list(
            Reading.objects.filter(file_id__in=snapshot.files, channel=int(settings["channel_in"]))
            .annotate(text=Cast("objects_info", TextField()))
            .defer("geometry", "objects_info")
            .order_by("file_id")
        )
        for r in known:
            r.objects_info = _infos(vars(r)["text"])
        snapshot._readings = known  # type: ignore[attr-defined]
    return known


@lru_cache(maxsize=48)
def _infos(text: str) -> list[dict[str, Any]]:
    """What a reading says of its objects; a kit has thousands, and every request asks. Nobody changes it."""
    found: list[dict[str, Any]] = json.loads(text)
    return found


def sizes_of(snapshot: Snapshot) -> dict[int, list[float]]:
    """How far each file reaches along x, y and z in metres; not of those that were read before that was kept."""
    out = {}
    for r in readings(snapshot):
        boxes = [b for info in r.objects_info if (b := info.get("box")) is not None]
        if boxes:
            at = np.array(boxes)
            out[r.file_id] = (at[:, 1].max(axis=0) - at[:, 0].min(axis=0)).tolist()
    return out


def source_files(snapshot: Snapshot) -> dict[int, SourceFile]:
    """The files of a snapshot by number, asked for once."""
    known: dict[int, SourceFile] | None = getattr(snapshot, "_sources", None)
    if known is None:
        known = {f.pk: f for f in SourceFile.objects.filter(pk__in=snapshot.files).order_by("pk")}
        snapshot._sources = known  # type: ignore[attr-defined]
    return known


def values_of_islands(found: Sequence[Reading], values: Mapping[str, T], usual: T) -> dict[int, NDArray[Any]]:
    """What holds for every island of every file: the object's value, over it those of single islands; of a mesh that several objects place,
    what holds for the first one.

    `values`: "file/object number" or "file:island" to a value.
    """
    kind: Any = {bool: bool, int: np.int64, float: np.float64}.get(type(usual), object)
    objects: dict[str, dict[int, T]] = {}
    islands: dict[str, dict[int, T]] = {}
    for key, value in values.items():
        for sign, into in (("/", objects), (":", islands)):
            file, there, number = key.partition(sign)
            if there:
                into.setdefault(file, {})[int(number)] = value
    out: dict[int, NDArray[Any]] = {}
    for reading in found:
        infos = reading.objects_info
        whole = np.full(infos[0]["file_islands"] if infos else 0, usual, kind)
        mine = objects.get(str(reading.file_id), {})
        for n, info in reversed(list(enumerate(infos))) if mine else ():
            first, end = info["islands"]
            whole[first:end] = mine.get(n, usual)
        for i, value in islands.get(str(reading.file_id), {}).items():
            if i < len(whole):
                whole[i] = value
        out[reading.file_id] = whole
    return out


def by_file(snapshot: Snapshot, values: Mapping[str, T], usual: T) -> dict[int, NDArray[Any]]:
    """The same for the files of a snapshot."""
    return values_of_islands(readings(snapshot), values, usual)


def laid(layout: Layout, values: Mapping[int, NDArray[Any]]) -> NDArray[Any]:
    """What holds for the islands of a layout's findings, from what `by_file` gave."""
    return np.concatenate([values[file][first : first + size] for file, first, size in layout.pieces if file in values] or [np.zeros(0)])


def left_out_islands(snapshot: Snapshot) -> dict[int, NDArray[np.bool_]]:
    """For every file which islands (n,) belong to left-out objects alone."""
    left = set(snapshot.left_out)
    out = {}
    for r in readings(snapshot):
        taken = np.zeros(r.objects_info[0]["file_islands"] if r.objects_info else 0, bool)
        if not left:
            taken[:] = True
        for n, info in enumerate(r.objects_info if left else ()):
            first, end = info["islands"]
            taken[first:end] |= f"{r.file_id}/{n}" not in left
        out[r.file_id] = ~taken
    return out


def resolutions(snapshot: Snapshot) -> dict[int, Floats]:
    """px of the map of every island of every file: that of the tile that it lies in, on its sheet."""
    settings = settings_of(snapshot)
    on = by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"])
    flats = {s["id"]: of_sheet(settings, s["id"]) for s in sheets(settings)}
    out = {file: np.full(len(numbers), float(settings["map_px"])) for file, numbers in on.items()}
    for s, flat in flats.items():
        for file, numbers in on.items():
            out[file][numbers == s] = float(flat["map_px"])
    layout = snapshot.layout
    if layout is None or not layout.measured or not any(f["sheet"]["tile_px"] for f in flats.values()):
        return out
    box, at = arrays_of(layout, "findings")["box"], 0
    for file, first, size in layout.pieces:
        if file in out:
            numbers = on[file][first : first + size]
            for s, flat in flats.items():
                mine = numbers == s
                known = np.nan_to_num(grid(flat).px_of(box[at : at + size][mine]), nan=float(flat["map_px"]))
                out[file][first : first + size][mine] = known
        at += size
    return out
