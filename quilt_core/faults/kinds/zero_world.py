"""Triangles without area on the model."""

from __future__ import annotations

from ...words import counted
from ..fault import Fault, Limits, of_islands
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    return of_islands(
        "zero_world", 1, f.zero_world > 0, f.zero_world,
        ("island holds triangles without area on the model", "islands hold triangles without area on the model"),
        counted(int(f.zero_world.sum()), "triangle", "triangles"), "Nobody sees them. Remove the degenerate faces where the mesh was made.",
    )  # fmt: skip
