"""Islands that touch on the model and in the UV plane, and that only duplicate vertices keep apart (see `uv.edges`)."""

from __future__ import annotations

import numpy as np

from ...words import counted
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    n = len(f.split)
    return Fault(
        "split", 1, n, counted(n, "pair of islands is only kept apart", "pairs of islands are only kept apart") + " by duplicate vertices", "",
        "Join them: they count as one island then, and the vertices of the file stay as they are.", np.unique(f.split), repair="weld",
    )  # fmt: skip
