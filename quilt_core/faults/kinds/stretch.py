"""An island whose L2 stretch (see `uv.stretch`) is above `STRETCHED`."""

from __future__ import annotations

import numpy as np

from ...words import plain
from ..fault import Fault, Limits, of_islands
from ..findings import Findings

STRETCHED = 1.5  # L2 above this shows on a checker


def found(f: Findings, limits: Limits) -> Fault:
    with np.errstate(invalid="ignore"):
        bad = f.l2 > STRETCHED
    worst = np.nanmax(f.l2[bad]) if bad.any() else 0.0
    return of_islands(
        "stretch", 2, bad, np.nan_to_num(f.l2), ("island is stretched", "islands are stretched"), f"L2 up to {plain(worst, 3)}; 1 is none",
        "The checker's squares are not square there: unwrap their objects anew in Mend.", "unwrap",
    )  # fmt: skip
