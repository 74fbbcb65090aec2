"""The bleed proof of a whole sheet: all its tiles, each at its own size."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats
from ..model.tiles import Grid, column_row
from ..uv.analysis import MeshIslands
from .bleed import THRESHOLD, bleed

MOST_PX = 8192  # a larger map takes more memory than a proof is worth: its tiles stay unmeasured


@dataclass(frozen=True)
class Reached:
    """An island that a foreign colour reaches: on which tile, from which mip level on, what share of the colour there is foreign, where in UV, and whose it is
    (-1 where that is not known)."""

    island: int
    tile: int
    level: int
    share: float
    at: tuple[float, float]
    other: int


@dataclass(frozen=True)
class SheetBleed:
    """`tiles` with their `clean` and `levels` (see `bleed.Bleed`), `reached` the worst first, `thin` islands that hold no texel's middle, and tiles that are
    too large to be measured."""

    tiles: list[dict[str, Any]]
    reached: list[Reached]
    thin: list[int]
    unmeasured: list[int]

    def as_dict(self) -> dict[str, Any]:
        """The figures of the whole sheet. `clean` is None where nothing was measured: then nothing is said, neither that it is clean nor that colours reach across."""
        return {
            "tiles": self.tiles, "unmeasured": self.unmeasured, "thin": len(self.thin),
            "clean": min((t["clean"] for t in self.tiles), default=None), "levels": max((t["levels"] for t in self.tiles), default=0),
            "on_map": max((t["on_map"] for t in self.tiles), default=0.0), "reached": len({r.island for r in self.reached if r.level == 0}),
            "thumb": self.tiles[0]["thumb"] if self.tiles else -1,
        }  # fmt: skip


def _reaches(boxes: Floats, column: int, row: int) -> bool:
    """Whether any box (n, 4) reaches into a tile; islands without area have boxes of NaN and reach none."""
    with np.errstate(invalid="ignore"):
        inside = (boxes[:, 0] < column + 1) & (boxes[:, 2] > column) & (boxes[:, 1] < row + 1) & (boxes[:, 3] > row)
    return bool(inside.any())


def sheet_bleed(
    pieces: list[MeshIslands], transforms: list[Floats] | None, regions: NDArray[np.object_], grid: Grid, padding_px: float,
    only: NDArray[np.bool_] | None = None, twins: NDArray[np.int64] | None = None, threshold: float = THRESHOLD,
) -> SheetBleed:  # fmt: skip
    """Prove every tile that islands lie on; parameters as those of `bleed.bleed`."""
    out = SheetBleed([], [], [], [])
    boxes = shapely.bounds(regions if only is None else regions[only])
    for number, px in zip(grid.numbers, grid.sizes, strict=True):
        if not _reaches(boxes, *column_row(number)):
            continue
        if px > MOST_PX:
            out.unmeasured.append(number)
            continue
        found = bleed(pieces, transforms, regions, px, padding_px, column_row(number), only, twins, threshold)
        if (found.level == -2).all():
            continue
        out.tiles.append(
            {
                "tile": number,
                "px": px,
                "clean": found.clean,
                "levels": found.levels,
                "on_map": round(found.on_map, 6),
                "thumb": found.thumb,
                "twice": found.twice,
            }
        )
        out.thin.extend(int(i) for i in np.flatnonzero(found.thin))
        for i in np.flatnonzero(found.level >= 0):
            at = (round(float(found.at[i, 0]), 6), round(float(found.at[i, 1]), 6))
            out.reached.append(Reached(int(i), number, int(found.level[i]), float(found.share[i]), at, int(found.other[i])))
    out.reached.sort(key=lambda r: (r.level, -r.share))
    return out
