"""The bleed proof of sheets, with islands by their names."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from quilt_core.measure.bleed import THRESHOLD
from quilt_core.measure.sheet_bleed import sheet_bleed
from quilt_core.model.scene import Floats

from ..projects.models import Job, Layout, Snapshot
from ..projects.opened import arrays_of
from ..projects.reading import Parts, choose, parts_of, regions_of, sheet_numbers, twin_groups
from ..projects.sheets import grid, of_sheet, sheets
from ..projects.state import settings_of
from .progress import steps

MOST_NAMED = 300  # islands that a proof names, the worst ones


def bleed_of(parts: Parts, rows: Floats, mine: NDArray[np.bool_], flat: dict[str, Any], twins: NDArray[np.int64]) -> dict[str, Any]:
    """The proof of one sheet: the last mip level that is clean on all its tiles, and the islands that bleed first."""
    tiles, names = grid(flat), parts.names()
    regions = regions_of(parts, rows) if parts.pieces else np.zeros(0, object)
    found = sheet_bleed(parts.pieces, parts.pieced(rows), regions, tiles, float(flat["padding_px"]), mine, twins)

    def named(island: int) -> list[int]:
        return [int(x) for x in names[island].split(":")]

    return {
        "px": tiles.px, "padding_px": flat["padding_px"], "threshold": THRESHOLD, **found.as_dict(), "thin_islands": [named(i) for i in found.thin[:MOST_NAMED]],
        "islands": [
            {"tile": r.tile, "level": r.level, "share": round(r.share, 4), "at": list(r.at), "island": named(r.island), "other": named(r.other) if r.other >= 0 else None}
            for r in found.reached[:MOST_NAMED]
        ],
    }  # fmt: skip


def prove_bleed(job: Job, head: Snapshot, before: Layout) -> dict[str, Any]:
    """Prove all sheets of a state; what was found is kept with its layout, and returned by sheet."""
    settings, chosen = settings_of(head), choose(head)
    parts = parts_of(chosen)
    rows = parts.whole(arrays_of(before, "transforms"))
    on, twins = sheet_numbers(chosen, parts, settings), twin_groups(parts, settings)
    used = [s for s in sheets(settings) if (on == s["id"]).any()]
    found = {
        str(s["id"]): bleed_of(parts, rows, on == s["id"], of_sheet(settings, s["id"]), twins)
        for s in steps(job, used, lambda s: f"Painting and shrinking {s['name']}")
    }
    keep_bleed(before, found)
    return found


def keep_bleed(of: Layout, found: dict[str, Any]) -> None:
    """Keep a bleed proof with the layout that it is of, by sheet."""
    with transaction.atomic():
        layout = Layout.objects.select_for_update().get(pk=of.pk)
        layout.figures = layout.figures | {"bleed": found}
        layout.save(update_fields=["figures"])
    of.figures = layout.figures
