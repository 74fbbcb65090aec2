"""Two islands nearer to each other than the padding."""

from __future__ import annotations

import numpy as np

from ...words import counted
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    px = f.gap * limits.grid.px_at(f.gap_at)
    bad = px < limits.padding_px - 1e-3
    n = int(bad.sum())
    return Fault(
        "gap", 2, n, counted(n, "gap is narrower", "gaps are narrower") + f" than {limits.padding_px:g} px",
        f"the least is {px[bad].min():.2f} px" if n else "",
        "Pack the sheet, or move the islands apart: colours bleed across at smaller mip levels.",
        np.unique(f.gap_pairs[bad]), f.gap_at[bad], px[bad], pairs=f.gap_pairs[bad],
    )  # fmt: skip
