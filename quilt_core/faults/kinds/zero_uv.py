"""Triangles without area in the UV plane that have area on the model."""

from __future__ import annotations

from ...words import counted
from ..fault import Fault, Limits, of_islands
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    return of_islands(
        "zero_uv", 1, f.zero_uv > 0, f.zero_uv,
        ("island holds triangles without area in the UV plane", "islands hold triangles without area in the UV plane"),
        counted(int(f.zero_uv.sum()), "triangle", "triangles"), "They get no texels. Unwrap them where they are seen.",
    )  # fmt: skip
