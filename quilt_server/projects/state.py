"""The pointer among snapshots: one step forward, undo, redo; and a project's state as the browser sees it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from quilt_core.density import densities, spread
from quilt_core.faults.findings import Findings
from quilt_core.faults.listing import Fault, Limits, listing
from quilt_core.report import density_rows
from quilt_core.scene import Floats

from .geometry import from_npz
from .models import Layout, Project, Reading, Snapshot, SourceFile

RECIPE: dict[str, Any] = {
    "map_px": 2048, "padding_px": 8.0, "margin_px": 4.0, "rotate": "90", "hold": False, "density": 512.0,
    "keep_ratios": False, "seconds": 10.0, "seed": 0, "channel_in": 0, "channel_out": 0, "band": 10.0,
    "density_least": None, "density_greatest": None, "weights": {},
    "turns": {}, "held": [],
}  # fmt: skip
MOST_ISLANDS, MOST_PLACES = 2000, 500
T = TypeVar("T")


def settings_of(snapshot: Snapshot | None) -> dict[str, Any]:
    """A snapshot's settings, with the usual values where it is older than a setting."""
    return RECIPE | (snapshot.settings if snapshot is not None else {})


def advance(project: Project, label: str, base: Snapshot, layout: Layout | None, **changes: Any) -> Snapshot:
    """A new snapshot after the project's head: as `base`, with another layout or other fields."""
    fields = {"files": base.files, "left_out": base.left_out, "settings": base.settings} | changes
    snapshot = Snapshot.objects.create(project=project, parent=project.head, label=label[:120], layout=layout, **fields)
    project.head = snapshot
    project.save()
    return snapshot


def redo_target(project: Project) -> Snapshot | None:
    """The newest snapshot that follows the head."""
    return Snapshot.objects.filter(project=project, parent_id=project.head_id).order_by("-pk").first() if project.head_id else None


def readings(snapshot: Snapshot) -> list[Reading]:
    """The readings of a snapshot's files in its channel, without their geometry, in the order of the files."""
    channel = int(settings_of(snapshot)["channel_in"])
    return list(Reading.objects.filter(file_id__in=snapshot.files, channel=channel).defer("geometry").order_by("file_id"))


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


def object_rows(snapshot: Snapshot) -> list[dict[str, Any]]:
    """Every object with its figures under the snapshot's layout and map size."""
    rows = []
    settings = settings_of(snapshot)
    tables = from_npz(snapshot.layout.tables) if snapshot.layout else {}
    left_out = set(snapshot.left_out)
    map_px, weights = float(settings["map_px"]), settings["weights"]
    points = _points(snapshot)
    for reading in readings(snapshot):
        file = reading.file_id
        areas, table = from_npz(reading.areas), tables.get(str(file))
        infos = reading.objects_info
        for n, info in enumerate(infos):
            first, end = info["islands"]
            found = None
            world = 0.0
            if f"uv{n}" in areas and table is not None:
                uv, on_model = areas[f"uv{n}"] * table[first:end, 2] ** 2, areas[f"world{n}"]
                found, world = spread(densities(uv, on_model, map_px), on_model), float(np.sum(on_model))
            key = f"{file}/{n}"
            rows.append(
                {
                    "key": key, "file": file, "number": n, "name": info["name"], "path": info["path"],
                    "materials": info["materials"], "triangles": info["triangles"], "islands": end - first, "first_island": first,
                    "channels": info["channels"], "world_area": world, "left_out": key in left_out,
                    "shares": [o["name"] for m, o in enumerate(infos) if m != n and end > first and o["islands"] == info["islands"]][:3],
                    "weight": float(weights.get(key, 1.0)), "points": sum(bool(marks[first:end].any()) for marks in points.get(file, [])),
                    "density": None if found is None else {"median": found.median, "least": found.least, "greatest": found.greatest},
                }
            )  # fmt: skip
    return rows


def limits_of(snapshot: Snapshot, findings: Findings) -> Limits:
    """What the snapshot's settings ask for, with the weights of the islands in the findings."""
    s = settings_of(snapshot)
    return Limits(
        int(s["map_px"]), float(s["padding_px"]), float(s["margin_px"]), float(s["density"]) if s["hold"] else None, float(s["band"]),
        s["density_least"], s["density_greatest"], _weights(snapshot, len(findings.area)),
    )  # fmt: skip


def _weights(snapshot: Snapshot, count: int) -> Floats | None:
    weights = settings_of(snapshot)["weights"]
    if not weights or snapshot.layout is None:
        return None
    by_file: dict[int, Floats] = {}
    for reading in readings(snapshot):
        total = reading.objects_info[0]["file_islands"] if reading.objects_info else 0
        whole = by_file.setdefault(reading.file_id, np.ones(total))
        for n, info in reversed(list(enumerate(reading.objects_info))):
            first, end = info["islands"]
            whole[first:end] = weight_of(weights, reading.file_id, n, first, end)
    parts = [by_file[file][first : first + size] for file, first, size in snapshot.layout.pieces if file in by_file]
    found = np.concatenate(parts) if parts else np.ones(0)
    return found if len(found) == count else None


def findings_of(layout: Layout | None) -> Findings | None:
    """What was found wrong with a layout; None where that was never measured."""
    if layout is None or not layout.findings:
        return None
    return Findings(**from_npz(layout.findings))  # type: ignore[arg-type]


def faults_of(snapshot: Snapshot) -> list[Fault]:
    """The faults of a snapshot's layout at its settings."""
    found = findings_of(snapshot.layout)
    return [] if found is None else listing(found, limits_of(snapshot, found))


def owners(layout: Layout) -> NDArray[np.int64]:
    """File id and number in its file (n, 2) of every island in a layout's findings."""
    parts = [np.column_stack([np.full(n, file), np.arange(first, first + n)]) for file, first, n in layout.pieces]
    return np.concatenate(parts) if parts else np.zeros((0, 2), np.int64)


def _points(snapshot: Snapshot) -> dict[int, list[NDArray[np.bool_]]]:
    """Per file, for each kind of fault that shows, which of its islands have it."""
    layout = snapshot.layout
    if layout is None or not layout.findings:
        return {}
    owner = owners(layout)
    sizes = {int(file): int(owner[owner[:, 0] == file, 1].max()) + 1 for file in np.unique(owner[:, 0])}
    out: dict[int, list[NDArray[np.bool_]]] = {file: [] for file in sizes}
    for fault in faults_of(snapshot):
        concerned = owner[fault.islands]
        for file, size in sizes.items() if fault.heavy >= 2 else ():
            marks = np.zeros(size, bool)
            marks[concerned[concerned[:, 0] == file, 1]] = True
            out[file].append(marks)
    return out


def fault_rows(snapshot: Snapshot) -> list[dict[str, Any]]:
    """The faults as the browser takes them: islands as [file, island], places as [u, v, value], the worst ones where there are very many."""
    if snapshot.layout is None:
        return []
    owner = owners(snapshot.layout)
    return [
        {
            "kind": f.kind, "title": f.title, "detail": f.detail, "heavy": f.heavy, "count": f.count, "remedy": f.remedy, "repair": f.repair,
            "islands": owner[f.islands[:MOST_ISLANDS]].tolist(),
            "places": np.column_stack([f.places, f.values])[:MOST_PLACES].tolist() if len(f.places) else [],
        }
        for f in faults_of(snapshot)
    ]  # fmt: skip


def density_report(snapshot: Snapshot) -> list[dict[str, Any]]:
    """The density of every island of every object under the snapshot's layout."""
    settings = settings_of(snapshot)
    tables = from_npz(snapshot.layout.tables) if snapshot.layout else {}
    names = dict(SourceFile.objects.filter(pk__in=snapshot.files).values_list("pk", "name"))
    median = snapshot.layout.figures.get("density") if snapshot.layout else None
    target = float(settings["density"]) if settings["hold"] else median
    rows: list[dict[str, Any]] = []
    for reading in readings(snapshot):
        areas, table = from_npz(reading.areas), tables.get(str(reading.file_id))
        for n, info in enumerate(reading.objects_info):
            first, end = info["islands"]
            if f"uv{n}" not in areas or table is None:
                continue
            sizes = areas[f"uv{n}"] * table[first:end, 2] ** 2, areas[f"world{n}"]
            weight = weight_of(settings["weights"], reading.file_id, n, first, end)
            rows += density_rows(info["name"], names[reading.file_id], sizes, int(settings["map_px"]), weight, target, first)
    return rows
