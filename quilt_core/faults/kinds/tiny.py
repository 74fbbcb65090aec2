"""An island that covers less than `TINY_PX` texels."""

from __future__ import annotations

from ..fault import Fault, Limits, of_islands
from ..findings import Findings

TINY_PX = 4.0  # texels; an island below cannot hold one clean texel of paint


def found(f: Findings, limits: Limits) -> Fault:
    texels = f.area * limits.grid.px_of(f.box) ** 2
    words = (f"island is smaller than {TINY_PX:g} texels", f"islands are smaller than {TINY_PX:g} texels")
    return of_islands(
        "tiny", 1, texels < TINY_PX, -texels, words, "", "Make them larger, use a larger map, or join them with their neighbours."
    )
