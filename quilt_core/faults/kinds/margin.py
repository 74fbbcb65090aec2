"""An island nearer to the border of its tile than the margin."""

from __future__ import annotations

import numpy as np

from ..fault import Fault, Limits, margins, of_islands, outside_kinds
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    found = np.nan_to_num(margins(f), nan=np.inf)
    astride, _, _ = outside_kinds(f, limits.grid)
    bad = (found * limits.grid.px_of(f.box) < limits.margin_px - 1e-3) & ~astride
    words = (
        f"island is nearer to the border than {limits.margin_px:g} px",
        f"islands are nearer to the border than {limits.margin_px:g} px",
    )
    return of_islands("margin", 1, bad, -found, words, "", "Pack the sheet, or move them inward: a repeated tile bleeds across its border.")
