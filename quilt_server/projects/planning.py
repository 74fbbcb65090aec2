"""What planning needs of a project: surfaces, and what its own tries reached."""

from __future__ import annotations

from typing import Any

import numpy as np

from quilt_core.arrange.plan import Part, density, expected, split, tiles_needed

from .models import Layout, Project, Snapshot
from .sheets import grid, of_sheet, sheet_by
from .sources import areas_of
from .state import by_file, readings, settings_of, source_files

SIZES = (256, 512, 1024, 2048, 4096, 8192)


def parts_of_plan(snapshot: Snapshot, by: str = "") -> list[Part]:
    """The objects that take part, with their weighted surface; of several that share a mesh the first stands for all.

    `by`: "material", "folder" or "file" say what belongs together; else nothing does.
    """
    settings, left_out = settings_of(snapshot), set(snapshot.left_out)
    sources, weights = source_files(snapshot), by_file(snapshot, settings["weights"], 1.0)
    out = []
    for reading in readings(snapshot):
        areas, seen = areas_of(sources[reading.file_id], reading), set()
        for n, info in enumerate(reading.objects_info):
            first, end = info["islands"]
            key = f"{reading.file_id}/{n}"
            if key in left_out or end == first or first in seen or n not in areas:
                continue
            seen.add(first)
            same = [areas[m][1] for m, o in enumerate(reading.objects_info) if o["islands"] == info["islands"] and m in areas]
            world = max(same, key=lambda a: float(a.sum()))
            weight = weights[reading.file_id][first:end]
            path = str(info["path"]).rsplit("/", 1)[0] if "/" in str(info["path"]) else ""
            group = {"material": ", ".join(info["materials"]), "folder": f"{reading.file_id} {path}", "file": str(reading.file_id)}.get(
                by, key
            )
            out.append(Part(key, float((world * weight**2).sum()), group or key))
    return out


def plan(project: Project, snapshot: Snapshot, sheet: int, keys: list[str] | None, wanted: float | None) -> dict[str, Any]:
    """The density that a sheet of each map size would reach, and how many tiles of each the density wanted needs.

    `keys`: the objects to plan for; None for those on the sheet.
    """
    settings = settings_of(snapshot)
    flat = of_sheet(settings, sheet)
    parts = parts_of_plan(snapshot)
    if keys is None:
        on = by_file(snapshot, settings["sheet_of"], -1)
        islands = {r.file_id: r.objects_info for r in readings(snapshot)}
        first = sheet_by(settings, sheet)["id"]
        usual = (settings.get("sheets") or [{"id": 1}])[0]["id"]

        def here(part: Part) -> bool:
            file, n = part.key.split("/")
            info = islands[int(file)][int(n)]["islands"]
            numbers = on[int(file)][info[0] : info[1]]
            return bool((np.where(numbers < 0, usual, numbers) == first).any())

        parts = [p for p in parts if here(p)]
    else:
        parts = [p for p in parts if p.key in set(keys)]
    area = sum(p.area for p in parts)
    found = [t.figures.get("sheets", {}).get(str(t.sheet), {}).get("coverage") for t in _tries(project)]
    guess = expected([float(c) for c in found if c])
    tiles = grid(flat)
    count = tiles.columns * tiles.rows - len(flat["sheet"]["held_tiles"])
    texels = float(sum(px * px for n, px in zip(tiles.numbers, tiles.sizes, strict=True) if n not in flat["sheet"]["held_tiles"]))
    row = (guess.low, guess.middle, guess.high)
    return {
        "objects": len(parts), "area": area, "coverage": list(row), "tries": len([c for c in found if c]), "tiles": count,
        "density": [density(c, texels, area) for c in row],
        "maps": [
            {"px": px, "density": [density(c, count * px * px, area) for c in row],
             "tiles": None if not wanted else [tiles_needed(c, px, area, wanted) for c in reversed(row)]}
            for px in SIZES
        ],
    }  # fmt: skip


def _tries(project: Project) -> list[Layout]:
    return list(project.layouts.filter(kind="pack").only("figures", "sheet").order_by("-pk")[:20])


def suggest(snapshot: Snapshot, sheets: list[int], by: str) -> dict[str, int]:
    """A split of all objects over sheets: key of each object to the number of its sheet."""
    settings = settings_of(snapshot)
    capacity = []
    for s in sheets:
        tiles = grid(of_sheet(settings, s))
        capacity.append(float(sum(px * px for px in tiles.sizes)))
    found = split(parts_of_plan(snapshot, by), len(sheets), capacity)
    return {key: sheets[n] for key, n in found.items()}
