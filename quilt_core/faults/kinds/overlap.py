"""Two islands share area: more than `LEAST_OVERLAP` of a tile, and not the same texels on purpose."""

from __future__ import annotations

import numpy as np

from ...words import counted, plain
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    real = ~f.twins
    n = int((f.overlaps - f.twin_overlaps).sum()) // 2
    pairs = counted(n, "pair of islands overlaps", "pairs of islands overlap")
    return Fault(
        "overlap", 3, n, f"at least {pairs}" if f.cut.any() else pairs, _written_twice(limits),
        "Pack the sheet, or move one of each pair: a bake writes both into the same texels.",
        np.flatnonzero(f.overlaps > f.twin_overlaps), f.overlap_at[real], f.overlap_area[real] * limits.grid.px_at(f.overlap_at[real]) ** 2,
        pairs=f.overlap_pairs[real],
    )  # fmt: skip


def _written_twice(limits: Limits) -> str:
    """How much of the map overlaps cost, in words; empty where that was not measured."""
    if not limits.twice_px:
        return ""
    texels = float(sum(px * px for px in limits.grid.sizes))
    share = min(1.0, limits.twice_px / texels)
    return (
        f"{share * 100:.1f} % of the map is written twice"
        if share >= 5e-4
        else f"{plain(max(limits.twice_px, 0.01), 2)} texels are written twice"
    )
