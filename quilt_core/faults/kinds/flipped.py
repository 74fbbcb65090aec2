"""An island is mirrored: more of its area is wound clockwise than not."""

from __future__ import annotations

from ..fault import Fault, Limits, of_islands
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault:
    remedy = "Flip them back: letters painted on them read backwards, normal maps turn inside out."
    return of_islands("flipped", 2, f.flipped, f.area, ("island is mirrored", "islands are mirrored"), "", remedy, "flip")
