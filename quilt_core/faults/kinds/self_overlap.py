"""An island covers some area more than once."""

from __future__ import annotations

from ...measure.lie import LEAST_OVERLAP
from ...words import counted
from ..fault import Fault, Limits, worst_first
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    bad = f.own > LEAST_OVERLAP
    n = int(bad.sum())
    return Fault(
        "self", 3, n, counted(n, "island overlaps itself", "islands overlap themselves"),
        f"{f.own[bad].sum() / max(f.uv_area[bad].sum(), 1e-30) * 100:.1f} % of them lies double" if n else "",
        "Unwrap their objects anew in Mend: moving them does not help.", worst_first(bad, f.own), repair="unwrap",
    )  # fmt: skip
