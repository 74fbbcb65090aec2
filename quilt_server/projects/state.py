"""The pointer among snapshots: one step forward, undo, redo; and a project's state as the browser sees it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

import numpy as np

from quilt_core.scene import Floats

from .geometry import from_npz
from .models import Layout, Project, Reading, Snapshot
from .sheets import grid, of_sheet, sheets

RECIPE: dict[str, Any] = {
    "map_px": 2048, "padding_px": 8.0, "margin_px": 4.0, "rotate": "90", "hold": False, "density": 512.0,
    "keep_ratios": False, "fill": "common", "mirror": False, "seconds": 10.0, "seed": 0, "channel_in": 0, "channel_out": 0, "band": 10.0,
    "density_least": None, "density_greatest": None, "weights": {}, "turns": {}, "held": [], "twins": [], "welded": [], "pictures": {},
    "sheets": [], "recipes": {}, "sheet_of": {}, "bunches": [], "bunch_objects": "", "apart_px": 0.0,
}  # fmt: skip
T = TypeVar("T")


def settings_of(snapshot: Snapshot | None) -> dict[str, Any]:
    """A snapshot's settings, with the usual values where it is older than a setting."""
    return RECIPE | (snapshot.settings if snapshot is not None else {})


def advance(project: Project, label: str, base: Snapshot, layout: Layout | None, **changes: Any) -> Snapshot:
    """A new snapshot after the project's head: as `base`, with another layout or other fields."""
    fields = {"files": base.files, "left_out": base.left_out, "settings": base.settings, "kept": base.kept} | changes
    snapshot = Snapshot.objects.create(project=project, parent=project.head, label=label[:120], layout=layout, **fields)
    project.head = snapshot
    project.save()
    return snapshot


def redo_target(project: Project) -> Snapshot | None:
    """The newest snapshot that follows the head."""
    return Snapshot.objects.filter(project=project, parent_id=project.head_id).order_by("-pk").first() if project.head_id else None


def readings(snapshot: Snapshot) -> list[Reading]:
    """The readings of a snapshot's files in its channel, without their geometry, in the order of the files."""
    settings = settings_of(snapshot)
    found = Reading.objects.filter(file_id__in=snapshot.files, channel=int(settings["channel_in"])).defer("geometry").order_by("file_id")
    welded = set(settings["welded"])
    return [r for r in found if r.welded == (r.file_id in welded)]


def of_islands(values: Mapping[str, T], usual: T, file: int, number: int, first: int, end: int) -> list[T]:
    """What holds for each of an object's islands: the object's value, over it those of single islands.

    `values`: "file/object number" or "file:island" to a value.
    """
    whole = values.get(f"{file}/{number}", usual)
    if not any(k.startswith(f"{file}:") for k in values):
        return [whole] * (end - first)
    return [values.get(f"{file}:{i}", whole) for i in range(first, end)]


def weight_of(weights: Mapping[str, float], file: int, number: int, first: int, end: int) -> Floats:
    """Weights (end - first,) of an object's islands."""
    return np.array(of_islands(weights, 1.0, file, number, first, end), float)


def by_file(snapshot: Snapshot, values: Mapping[str, T], usual: T) -> dict[int, list[T]]:
    """What holds for every island of every file; of a mesh that several objects place, what holds for the first one."""
    out: dict[int, list[T]] = {}
    for reading in readings(snapshot):
        total = reading.objects_info[0]["file_islands"] if reading.objects_info else 0
        whole = out.setdefault(reading.file_id, [usual] * total)
        for n, info in reversed(list(enumerate(reading.objects_info))):
            first, end = info["islands"]
            whole[first:end] = of_islands(values, usual, reading.file_id, n, first, end)
    return out


def laid(layout: Layout, values: Mapping[int, list[T]]) -> list[T]:
    """What holds for the islands of a layout's findings, from what `by_file` gave."""
    return [v for file, first, size in layout.pieces if file in values for v in values[file][first : first + size]]


def resolutions(snapshot: Snapshot) -> dict[int, Floats]:
    """px of the map of every island of every file: that of the tile that it lies in, on its sheet."""
    settings = settings_of(snapshot)
    on = by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"])
    flats = {s["id"]: of_sheet(settings, s["id"]) for s in sheets(settings)}
    out = {file: np.array([float(flats[s]["map_px"]) for s in numbers]) for file, numbers in on.items()}
    layout = snapshot.layout
    if layout is None or not layout.findings or not any(f["sheet"]["tile_px"] for f in flats.values()):
        return out
    box, at = from_npz(layout.findings)["box"], 0
    for file, first, size in layout.pieces:
        if file in out:
            numbers = np.array(on[file][first : first + size])
            for s, flat in flats.items():
                mine = numbers == s
                known = np.nan_to_num(grid(flat).px_of(box[at : at + size][mine]), nan=float(flat["map_px"]))
                out[file][first : first + size][mine] = known
        at += size
    return out
