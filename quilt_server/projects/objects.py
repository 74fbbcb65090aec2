"""The objects of a snapshot with their figures, for the ledger and for reports."""

from __future__ import annotations

from typing import Any

import numpy as np

from quilt_core.density import densities, spread
from quilt_core.report import density_rows

from .faults import points
from .geometry import from_npz
from .models import Snapshot, SourceFile
from .sheets import sheets
from .state import by_file, readings, resolutions, settings_of, weight_of


def object_rows(snapshot: Snapshot) -> list[dict[str, Any]]:
    """Every object with its figures under the snapshot's layout, at the resolutions of its tiles."""
    rows = []
    settings = settings_of(snapshot)
    tables = from_npz(snapshot.layout.tables) if snapshot.layout else {}
    left_out, weights = set(snapshot.left_out), settings["weights"]
    px, marked = resolutions(snapshot), points(snapshot)
    on = by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"])
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
                found, world = spread(densities(uv, on_model, px[file][first:end]), on_model), float(np.sum(on_model))
            key = f"{file}/{n}"
            rows.append(
                {
                    "key": key, "file": file, "number": n, "name": info["name"], "path": info["path"],
                    "materials": info["materials"], "triangles": info["triangles"], "bare": info.get("bare", 0), "islands": end - first, "first_island": first,
                    "channels": info["channels"], "world_area": world, "left_out": key in left_out,
                    "shares": [o["name"] for m, o in enumerate(infos) if m != n and end > first and o["islands"] == info["islands"]][:3],
                    "weight": float(weights.get(key, 1.0)), "points": sum(bool(marks[first:end].any()) for marks in marked.get(file, [])),
                    "sheets": sorted(set(on[file][first:end])),
                    "density": None if found is None else {"median": found.median, "least": found.least, "greatest": found.greatest},
                }
            )  # fmt: skip
    return rows


def density_report(snapshot: Snapshot) -> list[dict[str, Any]]:
    """The density of every island of every object under the snapshot's layout."""
    settings = settings_of(snapshot)
    tables = from_npz(snapshot.layout.tables) if snapshot.layout else {}
    names = dict(SourceFile.objects.filter(pk__in=snapshot.files).values_list("pk", "name"))
    median = snapshot.layout.figures.get("density") if snapshot.layout else None
    target = float(settings["density"]) if settings["hold"] else median
    px = resolutions(snapshot)
    rows: list[dict[str, Any]] = []
    for reading in readings(snapshot):
        areas, table = from_npz(reading.areas), tables.get(str(reading.file_id))
        for n, info in enumerate(reading.objects_info):
            first, end = info["islands"]
            if f"uv{n}" not in areas or table is None:
                continue
            sizes = areas[f"uv{n}"] * table[first:end, 2] ** 2, areas[f"world{n}"]
            weight = weight_of(settings["weights"], reading.file_id, n, first, end)
            rows += density_rows(info["name"], names[reading.file_id], sizes, px[reading.file_id][first:end], weight, target, first)
    return rows
