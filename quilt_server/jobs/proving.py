"""The bleed proof of sheets, tile by tile."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.measure.bleed import bleed
from quilt_core.model.scene import Floats
from quilt_core.model.tiles import column_row

from ..projects.reading import Parts, regions_of
from ..projects.sheets import grid

MOST_PX = 8192
MOST_NAMED = 300  # islands that a proof names, the worst ones


def bleed_of(
    parts: Parts, rows: Floats, mine: NDArray[np.bool_], flat: dict[str, Any], twins: NDArray[np.int64], threshold: float = 0.02
) -> dict[str, Any]:
    """The proof of one sheet: the last mip level that is clean on all its tiles, and the islands that bleed first."""
    tiles = grid(flat)
    regions = regions_of(parts, rows) if parts.pieces else np.zeros(0, object)
    names = parts.names()
    out: dict[str, Any] = {
        "px": tiles.px,
        "padding_px": flat["padding_px"],
        "threshold": threshold,
        "tiles": [],
        "islands": [],
        "thin": 0,
        "thin_islands": [],
        "unmeasured": [],
    }
    worst: list[tuple[int, float, dict[str, Any]]] = []
    for number, px in zip(tiles.numbers, tiles.sizes, strict=True):
        if px > MOST_PX:
            out["unmeasured"].append(number)
            continue
        found = bleed(parts.pieces, parts.pieced(rows), regions, px, float(flat["padding_px"]), column_row(number), mine, twins, threshold)
        if (found.level == -2).all():
            continue
        out["tiles"].append(
            {"tile": number, "px": px, "clean": found.clean, "levels": found.levels, "thumb": found.thumb, "twice": found.twice}
        )
        thin = np.flatnonzero(found.thin)
        out["thin"] += len(thin)
        out["thin_islands"] += [[int(x) for x in names[i].split(":")] for i in thin[: MOST_NAMED - len(out["thin_islands"])]]
        for i in np.flatnonzero(found.level >= 0):
            file, island = names[i].split(":")
            other = names[found.other[i]].split(":") if found.other[i] >= 0 else None
            worst.append(
                (int(found.level[i]), -float(found.share[i]),
                 {"tile": number, "level": int(found.level[i]), "share": round(float(found.share[i]), 4), "at": [round(float(x), 6) for x in found.at[i]],
                  "island": [int(file), int(island)], "other": None if other is None else [int(x) for x in other]})
            )  # fmt: skip
    used = out["tiles"]
    # Where nothing was measured nothing is said: neither that it is clean nor that colours reach across.
    out["clean"] = min((t["clean"] for t in used), default=None)
    out["levels"] = max((t["levels"] for t in used), default=0)
    out["thumb"] = used[0]["thumb"] if used else -1
    out["islands"] = [w for *_, w in sorted(worst, key=lambda x: x[:2])[:MOST_NAMED]]
    return out
