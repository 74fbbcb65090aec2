"""An island reaches over the border of the tile that its middle lies in, by more than `EDGE`."""

from __future__ import annotations

import numpy as np

from ..fault import Fault, Limits, margins, of_islands, outside_kinds
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    astride, _, _ = outside_kinds(f, limits.grid)
    return of_islands(
        "astride", 3, astride, -np.nan_to_num(margins(f), nan=0.0),
        ("island lies across the border of a tile", "islands lie across the border of a tile"), "",
        "Bring them into the tile, or pack: a bake wraps them around or cuts them off.", "into_tile",
    )  # fmt: skip
