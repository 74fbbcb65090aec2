"""The faults of a snapshot's layout, sheet by sheet, as the browser takes them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.faults.findings import Findings
from quilt_core.faults.listing import Fault, Limits, listing

from .geometry import from_npz
from .models import Layout, Snapshot
from .sheets import grid, of_sheet, sheets
from .state import by_file, laid, settings_of

MOST_ISLANDS, MOST_PLACES = 2000, 500


def findings_of(layout: Layout | None) -> Findings | None:
    """What was found wrong with a layout; None where that was never measured."""
    if layout is None or not layout.findings:
        return None
    arrays = from_npz(layout.findings)
    # Findings of before areas of triangles were told apart from what they cover.
    return Findings(**{"uv_area": arrays["area"], **arrays})


def owners(layout: Layout) -> NDArray[np.int64]:
    """File id and number in its file (n, 2) of every island in a layout's findings."""
    parts = [np.column_stack([np.full(n, file), np.arange(first, first + n)]) for file, first, n in layout.pieces]
    return np.concatenate(parts) if parts else np.zeros((0, 2), np.int64)


def faults_of(snapshot: Snapshot) -> list[tuple[int, Fault]]:
    """Sheet and fault, the heaviest first; islands count through the layout's findings."""
    layout = snapshot.layout
    found = findings_of(layout)
    if found is None or layout is None:
        return []
    settings = settings_of(snapshot)
    first = sheets(settings)[0]["id"]
    on = np.array(laid(layout, by_file(snapshot, settings["sheet_of"], first)), np.int64)
    weight = np.array(laid(layout, by_file(snapshot, settings["weights"], 1.0)), float)
    groups = {key: n for n, group in enumerate(settings["twins"]) for key in group}
    twins = np.array([groups.get(f"{file}:{i}", -1) for file, i in owners(layout)], np.int64) if groups else None
    if len(on) != len(found.area):
        return []
    out = []
    for s in sheets(settings):
        mine = np.flatnonzero(on == s["id"])
        if not len(mine):
            continue
        flat = of_sheet(settings, s["id"])
        limits = Limits(
            grid(flat), float(flat["padding_px"]), float(flat["margin_px"]), float(flat["density"]) if flat["hold"] else None,
            float(settings["band"]), settings["density_least"], settings["density_greatest"], weight[mine], None if twins is None else twins[mine],
        )  # fmt: skip
        out += [(s["id"], replace(f, islands=mine[f.islands], pairs=mine[f.pairs].reshape(-1, 2))) for f in listing(found.of(mine), limits)]
    return sorted(out, key=lambda x: -x[1].heavy)


def points(snapshot: Snapshot) -> dict[int, list[NDArray[np.bool_]]]:
    """Per file, for each kind of fault that shows, which of its islands have it."""
    layout = snapshot.layout
    if layout is None or not layout.findings:
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
