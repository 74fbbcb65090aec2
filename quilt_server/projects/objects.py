"""The objects of a snapshot with their figures, for the ledger and for reports."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.delivery.report import density_rows
from quilt_core.model.pairs import details
from quilt_core.model.scene import Floats
from quilt_core.uv.density import Spread, densities, spreads

from .faults import points
from .models import Snapshot
from .opened import arrays_of
from .sheets import sheets
from .sources import areas_of
from .state import by_file, readings, resolutions, settings_of, source_files


def object_rows(snapshot: Snapshot) -> list[dict[str, Any]]:
    """Every object with its figures under the snapshot's layout, at the resolutions of its tiles."""
    rows = []
    settings = settings_of(snapshot)
    transforms = arrays_of(snapshot.layout, "transforms") if snapshot.layout else {}
    left_out, weights = set(snapshot.left_out), settings["weights"]
    px, marked = resolutions(snapshot), _points(snapshot)
    on = by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"])
    sources, given = source_files(snapshot), detail_of(snapshot)
    for reading in readings(snapshot):
        file = reading.file_id
        areas, similarities = areas_of(sources[file], reading), transforms.get(str(file))
        infos = reading.objects_info
        with_islands: dict[tuple[int, int], list[tuple[int, dict[str, Any]]]] = {}
        for n, info in enumerate(infos):
            if info["islands"][1] > info["islands"][0]:
                with_islands.setdefault(tuple(info["islands"]), []).append((n, info))
        figures = _spreads(infos, areas, similarities, px.get(file))
        lies_on = on[file]
        single = [int(lies_on[0])] if len(lies_on) and (lies_on == lies_on[0]).all() else None
        for n, info in enumerate(infos):
            first, end = info["islands"]
            found, world = figures.get(n, (None, 0.0))
            key = f"{file}/{n}"
            rows.append(
                {
                    "key": key, "file": file, "number": n, "name": info["name"], "path": info["path"],
                    "materials": info["materials"], "triangles": info["triangles"], "bare": 0 if key in given else info.get("bare", 0), "detail_of": given.get(key, ""), "islands": end - first, "first_island": first,
                    "channels": info["channels"], "world_area": world, "left_out": key in left_out,
                    # Four hold three others, however many place one mesh.
                    "shares": [o["name"] for m, o in with_islands.get((first, end), ())[:4] if m != n][:3],
                    "weight": float(weights.get(key, 1.0)), "points": int(marked[file][n]) if file in marked else 0,
                    "sheets": single if single is not None and end > first else np.unique(lies_on[first:end]).tolist(),
                    "density": None if found is None else {"median": found.median, "least": found.least, "greatest": found.greatest},
                }
            )  # fmt: skip
    # A file whose UVs were made anew stands where it stood.
    place = {file: n for n, file in enumerate(snapshot.files)}
    return sorted(rows, key=lambda r: place[r["file"]])


def detail_of(snapshot: Snapshot) -> dict[str, str]:
    """The name of the low object for each key of one that has no UVs and needs none: the low one is baked from it."""
    found = readings(snapshot)
    names = [[info["name"] for info in r.objects_info] for r in found]
    bare = [[info["islands"][0] == info["islands"][1] for info in r.objects_info] for r in found]
    return {f"{found[f].file_id}/{n}": names[low[0]][low[1]] for (f, n), low in details(names, bare).items()}


def _spreads(
    infos: list[dict[str, Any]], areas: Mapping[int, tuple[Floats, Floats]], similarities: Floats | None, px: Floats | None
) -> dict[int, tuple[Spread | None, float]]:
    """Density and world area of every object of a file that has islands, all at once: a kit has thousands of objects."""
    numbers = [n for n in range(len(infos)) if n in areas]
    if similarities is None or px is None or not numbers:
        return {}
    ends = np.array([infos[n]["islands"] for n in numbers], np.int64)
    starts = np.concatenate([[0], np.cumsum(ends[:, 1] - ends[:, 0])])
    which = np.arange(starts[-1]) - np.repeat(starts[:-1] - ends[:, 0], np.diff(starts))
    uv, world = (np.concatenate([areas[n][k] for n in numbers]) for k in (0, 1))
    found = spreads(densities(uv * similarities[which, 2] ** 2, world, px[which]), world, starts)
    totals = np.add.reduceat(np.append(world, 0.0), starts[:-1]) * (np.diff(starts) > 0)
    return {n: (f, w) for n, f, w in zip(numbers, found, totals.tolist(), strict=True)}


def _points(snapshot: Snapshot) -> dict[int, NDArray[np.int64]]:
    """Per file, how many kinds of fault each of its objects shows."""
    out = {}
    marked = points(snapshot)
    for r in readings(snapshot):
        ends = np.array([info["islands"] for info in r.objects_info], np.int64).reshape(-1, 2)
        count = np.zeros(len(ends), np.int64)
        for marks in marked.get(r.file_id, []):
            of = np.concatenate([np.zeros(1, np.int64), np.cumsum(marks)])
            count += of[np.minimum(ends[:, 1], len(marks))] > of[np.minimum(ends[:, 0], len(marks))]
        out[r.file_id] = count
    return out


def density_report(snapshot: Snapshot) -> list[dict[str, Any]]:
    """The density of every island of every object under the snapshot's layout."""
    settings = settings_of(snapshot)
    transforms = arrays_of(snapshot.layout, "transforms") if snapshot.layout else {}
    sources = source_files(snapshot)
    weights = by_file(snapshot, settings["weights"], 1.0)
    median = snapshot.layout.figures.get("density") if snapshot.layout else None
    target = float(settings["density"]) if settings["hold"] else median
    px = resolutions(snapshot)
    rows: list[dict[str, Any]] = []
    for reading in readings(snapshot):
        areas, similarities = areas_of(sources[reading.file_id], reading), transforms.get(str(reading.file_id))
        for n, info in enumerate(reading.objects_info):
            first, end = info["islands"]
            if n not in areas or similarities is None:
                continue
            sizes = areas[n][0] * similarities[first:end, 2] ** 2, areas[n][1]
            weight = weights[reading.file_id][first:end]
            rows += density_rows(info["name"], sources[reading.file_id].name, sizes, px[reading.file_id][first:end], weight, target, first)
    return rows
