"""Edges that more than two faces share."""

from __future__ import annotations

from ...words import counted
from ..fault import Fault, Limits, worst_first
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    n = int(f.crowded.sum())
    return Fault(
        "crowded", 1, n, counted(n, "edge has", "edges have") + " more than two faces", "",
        "Inner faces waste texels: remove them where the mesh was made.", worst_first(f.crowded_island > 0, f.crowded_island),
    )  # fmt: skip
