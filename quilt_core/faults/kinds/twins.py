"""Two islands of one shape lie exactly on each other (see `uv.twins.is_twin`) without being marked as twins."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...words import counted
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    n = int(f.twin_overlaps.sum()) // 2 - len(f.marked_pairs)
    which = f.twins & ~_is_marked(f)
    return Fault(
        "twins", 3, n, counted(n, "pair of islands lies exactly on each other", "pairs of islands lie exactly on each other"), "of one shape",
        "Mark them as twins where they share paint on purpose; else pack: a bake writes both into the same texels.",
        np.unique(f.overlap_pairs[which]), f.overlap_at[which], f.overlap_area[which] * limits.grid.px_at(f.overlap_at[which]) ** 2, "twins",
        f.overlap_pairs[which],
    )  # fmt: skip


def _is_marked(f: Findings) -> NDArray[np.bool_]:
    """(k,) which of the listed overlapping pairs are marked as twins."""
    n = len(f.area)
    return np.isin(f.overlap_pairs[:, 0] * n + f.overlap_pairs[:, 1], f.marked_pairs[:, 0] * n + f.marked_pairs[:, 1])
