"""The faults of a snapshot's layout, sheet by sheet, as the browser takes them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.faults.fault import Fault, Limits
from quilt_core.faults.findings import Findings, findings
from quilt_core.faults.listing import listing
from quilt_core.measure.shapes import joined

from .measuring import lie_of, rows_of
from .models import Layout, Snapshot
from .recent import Recent
from .sheets import grid, of_sheet, sheets
from .sources import kept_islands
from .state import by_file, laid, left_out_islands, readings, settings_of, source_files

MOST_ISLANDS, MOST_PLACES = 2000, 500


def findings_of(snapshot: Snapshot) -> Findings | None:
    """What was found wrong with a snapshot's layout; None where that was never measured."""
    layout = snapshot.layout
    known = None if layout is None else lie_of(layout)
    if layout is None or known is None:
        return None
    files = source_files(snapshot)
    shapes = joined([kept_islands(files[r.file_id], r.channel).shapes for r in readings(snapshot) if r.file_id in files])
    return findings(shapes, known[0], rows_of(layout), known[1]) if shapes.count == known[0].count else None


def owners(layout: Layout) -> NDArray[np.int64]:
    """File id and number in its file (n, 2) of every island in a layout's findings."""
    file, first, count = np.array(layout.pieces, np.int64).reshape(-1, 3).T
    start = np.cumsum(count) - count
    return np.column_stack([np.repeat(file, count), np.arange(count.sum()) + np.repeat(first - start, count)])


def _faults(snapshot: Snapshot) -> list[tuple[int, Fault]]:
    """Sheet and fault, the heaviest first; islands count through the layout's findings."""
    layout, found = snapshot.layout, findings_of(snapshot)
    if found is None or layout is None:
        return []
    settings = settings_of(snapshot)
    on = laid(layout, by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"]))
    on = np.where(laid(layout, left_out_islands(snapshot)).astype(bool), -1, on)
    weight = laid(layout, by_file(snapshot, settings["weights"], 1.0))
    if len(on) != len(found.area):
        return []
    out = []
    for s in sheets(settings):
        mine = np.flatnonzero(on == s["id"])
        if not len(mine):
            continue
        flat = of_sheet(settings, s["id"])
        figures = layout.figures.get("sheets", {}).get(str(s["id"]), {})
        twice = figures.get("overlap", {}).get("px")
        size = int(flat["map_px"]) / figures["map_px"] if twice and not s["tile_px"] else 1.0
        limits = Limits(
            grid(flat), float(flat["padding_px"]), float(flat["margin_px"]), float(flat["density"]) if flat["hold"] else None,
            float(settings["band"]), settings["density_least"], settings["density_greatest"], weight[mine], twice and twice * size**2,
        )  # fmt: skip
        out += [(s["id"], replace(f, islands=mine[f.islands], pairs=mine[f.pairs].reshape(-1, 2))) for f in listing(found.of(mine), limits)]
    return sorted(out, key=lambda x: -x[1].heavy)


faults_of = Recent(16, _faults)
"""The faults of a snapshot; see `_faults`."""


def points(snapshot: Snapshot) -> dict[int, list[NDArray[np.bool_]]]:
    """Per file, for each kind of fault that shows, which of its islands have it."""
    layout = snapshot.layout
    if layout is None or not layout.measured:
        return {}
    owner = owners(layout)
    sizes = {int(file): int(owner[owner[:, 0] == file, 1].max()) + 1 for file in np.unique(owner[:, 0])}
    out: dict[int, list[NDArray[np.bool_]]] = {file: [] for file in sizes}
    for _, fault in faults_of(snapshot):
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
            "kind": f.kind, "sheet": sheet, "title": f.title, "detail": f.detail, "heavy": f.heavy, "count": f.count, "remedy": f.remedy,
            "repair": f.repair, "islands": owner[f.islands[:MOST_ISLANDS]].tolist(),
            "pairs": owner[f.pairs[:MOST_PLACES]].reshape(-1, 4).tolist(),
            "places": np.column_stack([f.places, f.values])[:MOST_PLACES].tolist() if len(f.places) else [],
        }
        for sheet, f in faults_of(snapshot)
    ]  # fmt: skip
