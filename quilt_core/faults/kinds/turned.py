"""Triangles of an island are wound against the rest of it: it folds over."""

from __future__ import annotations

from ...words import counted
from ..fault import Fault, Limits, of_islands
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    return of_islands(
        "turned", 2, f.turned > 0, f.turned, ("island holds triangles that are turned over", "islands hold triangles that are turned over"),
        counted(int(f.turned.sum()), "triangle", "triangles"), "They fold over in the UV plane: unwrap their objects anew in Mend.", "unwrap",
    )  # fmt: skip
