"""Edges whose two faces are wound against each other."""

from __future__ import annotations

from ...words import counted
from ..fault import Fault, Limits, worst_first
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    n = int(f.against.sum())
    return Fault(
        "against", 1, n, counted(n, "edge joins faces", "edges join faces") + " that are wound the other way", "",
        "Clean the meshes, so that all faces look to one side: until then half of them read as mirrored.",
        worst_first(f.against_island > 0, f.against_island), repair="clean",
    )  # fmt: skip
