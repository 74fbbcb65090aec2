"""An island lies in a tile that the sheet does not have, or where UDIM has none."""

from __future__ import annotations

import numpy as np

from ...words import plain
from ..fault import Fault, Limits, of_islands, outside_kinds
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    _, other, nowhere = outside_kinds(f, limits.grid)
    bad = other | nowhere
    far = np.abs(np.nan_to_num(f.box, nan=0.0)).max(axis=1)
    detail = f"up to {plain(far[bad].max())} tiles away" if bad.any() else ""
    words = ("island lies outside the sheet", "islands lie outside the sheet")
    return of_islands("outside", 2, bad, far, words, detail, "Bring them into the tile by whole tiles, or pack.", "into_tile")
