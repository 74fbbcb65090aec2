"""The pointer among snapshots: one step forward, undo, redo; and a project's state as the browser sees it."""

from __future__ import annotations

from typing import Any

import numpy as np

from quilt_core.density import densities, spread

from .geometry import from_npz
from .models import Layout, Project, Snapshot, SourceFile

RECIPE: dict[str, Any] = {
    "map_px": 2048, "padding_px": 8.0, "margin_px": 4.0, "rotate": "90", "hold": False, "density": 512.0,
    "keep_ratios": False, "seconds": 10.0, "seed": 0,
}  # fmt: skip


def recipe_settings() -> dict[str, Any]:
    """The usual settings of a new project."""
    return dict(RECIPE)


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


def object_rows(snapshot: Snapshot) -> list[dict[str, Any]]:
    """Every object with its figures under the snapshot's layout and map size."""
    rows = []
    tables = from_npz(snapshot.layout.tables) if snapshot.layout else {}
    left_out = set(snapshot.left_out)
    map_px = float(snapshot.settings["map_px"])
    for file in SourceFile.objects.filter(pk__in=snapshot.files).defer("geometry").order_by("pk"):
        areas, table = from_npz(file.areas), tables.get(str(file.pk))
        for n, info in enumerate(file.objects_info):
            first, end = info["islands"]
            found = None
            world = 0.0
            if f"uv{n}" in areas and table is not None:
                uv, on_model = areas[f"uv{n}"] * table[first:end, 2] ** 2, areas[f"world{n}"]
                found, world = spread(densities(uv, on_model, map_px), on_model), float(np.sum(on_model))
            rows.append(
                {
                    "key": f"{file.pk}/{n}", "file": file.pk, "number": n, "name": info["name"], "path": info["path"],
                    "materials": info["materials"], "triangles": info["triangles"], "islands": end - first, "first_island": first,
                    "channels": info["channels"], "world_area": world, "left_out": f"{file.pk}/{n}" in left_out,
                    "density": None if found is None else {"median": found.median, "least": found.least, "greatest": found.greatest},
                }
            )  # fmt: skip
    return rows
