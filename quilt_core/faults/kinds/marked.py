"""Two islands lie exactly on each other and are marked as twins: meant so, and listed to be seen."""

from __future__ import annotations

import numpy as np

from ...words import counted
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    n = len(f.marked_pairs)
    return Fault(
        "marked", 0, n, counted(n, "pair of islands lies exactly on each other", "pairs of islands lie exactly on each other"), "on purpose",
        "They are marked as twins: packing keeps them on each other.", np.unique(f.marked_pairs), f.marked_at,
        f.marked_area * limits.grid.px_at(f.marked_at) ** 2, "untwin", f.marked_pairs,
    )  # fmt: skip
