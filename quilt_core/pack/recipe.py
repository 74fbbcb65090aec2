"""What the packer is asked for, and what it answers."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from .shapes import ANGLES

LEAST_PX = 0.001  # a gap below it is none in any picture
LEAST_DENSITY = 1e-9  # px/m
MOST_PASSES = 10_000_000


@dataclass(frozen=True)
class Recipe:
    """How to arrange: gaps in px of a map of `map_px`, allowed turning, tiles, and how long to search.

    `tile_px` gives tiles a resolution of their own (columns * rows numbers, row by row); at equal density an island is
    larger in UV on a smaller map. `passes` bounds the search by its number of passes, so that a result can be
    repeated bit for bit; None bounds it by `seconds` alone. `fill` "common": one scale over all tiles; "each": every tile filled to
    its border (see `arrange`; the packer itself knows one scale).
    """

    map_px: int = 2048
    padding_px: float = 8.0
    margin_px: float = 4.0
    rotate: str = "90"
    columns: int = 1
    rows: int = 1
    density: float | None = None
    seconds: float = 10.0
    passes: int | None = None
    seed: int = 0
    mirror: bool = False
    tile_px: tuple[int, ...] | None = None
    fill: str = "common"

    def __post_init__(self) -> None:
        if self.fill not in ("common", "each"):
            raise ValueError(f"'{self.fill}' is not a way to fill tiles: common or each")
        if self.rotate not in ANGLES:
            raise ValueError(f"rotation '{self.rotate}' is not one of {', '.join(ANGLES)}")
        for px in (self.map_px, *(self.tile_px or ())):
            if not 16 <= px <= 16384:
                raise ValueError("the map size must be 16 to 16384 px")
            if not (0 <= self.padding_px < px / 2 and 0 <= self.margin_px < px / 2):
                raise ValueError("padding and margin must be from 0 px to half the map")
        if any(0 < px < LEAST_PX for px in (self.padding_px, self.margin_px)):
            raise ValueError(f"padding and margin must be 0 or at least {LEAST_PX} px")
        if not (1 <= self.columns <= 10 and 1 <= self.rows <= 100):
            raise ValueError("tiles are 1 to 10 columns and 1 to 100 rows")
        if self.tile_px is not None and len(self.tile_px) != self.tiles:
            raise ValueError(f"there are {self.tiles} tiles, but {len(self.tile_px)} resolutions")
        if self.density is not None and not 0 < self.density < math.inf:
            raise ValueError("the density must be greater than 0")
        if self.density is not None and not LEAST_DENSITY <= self.density <= 1 / LEAST_DENSITY:
            raise ValueError(f"the density must be from {LEAST_DENSITY:g} to {1 / LEAST_DENSITY:g} px/m")
        if not 0 <= self.seconds < math.inf:
            raise ValueError("the seconds must be 0 or more")
        if self.passes is not None and not 1 <= self.passes <= MOST_PASSES:
            raise ValueError(f"the passes must be 1 to {MOST_PASSES:,}")
        if abs(self.seed) > 2**53:
            raise ValueError("the seed must be a whole number below 2^53")

    def part(self, share: float) -> Recipe:
        """The same for a share of the search: of the seconds, and of the passes where these are counted."""
        return replace(self, seconds=self.seconds * share, passes=self.share_of_passes(share))

    def share_of_passes(self, share: float) -> int | None:
        """So much of the passes, at least one; None where seconds count."""
        return None if self.passes is None else max(1, int(self.passes * share))

    @property
    def tiles(self) -> int:
        """Number of tiles."""
        return self.columns * self.rows

    @property
    def ratio(self) -> Floats:
        """Resolution (tiles,) of each tile, over `map_px`."""
        return np.ones(self.tiles) if self.tile_px is None else np.array(self.tile_px) / self.map_px


@dataclass(frozen=True)
class Rules:
    """What holds for single islands; every field is (n,) or None where the recipe alone speaks.

    rotate : one of `ANGLES` for each island (an upright island has "none")
    mirror : whether an island may be mirrored
    held : islands that stay where they are in tile space, as the regions that came in
    start : a layout that is known, where each region was only scaled and shifted; see `Start`
    """

    rotate: tuple[str, ...] | None = None
    mirror: NDArray[np.bool_] | None = None
    held: NDArray[np.bool_] | None = None
    start: Start | None = None


@dataclass(frozen=True)
class Start:
    """A layout that is known: the middle (n, 2) of each region's box on the sheet, in tiles, and the common scale.

    `alone`: the search goes on from it, without constructive passes of its own; else it is one to beat.
    """

    middle: Floats
    common: float
    alone: bool = True


@dataclass(frozen=True)
class Packing:
    """A layout: x -> scale * R(angle) * M(mirror) * x + offset for every island, offsets in tiles (0 to columns, rows).

    angle (n,) radians, mirror (n,) 1 or -1 (times u, first), scale (n,), offset (n, 2), tile (n,) number from 0 in
    reading order of UDIM. `common` is the scale of a tile of the recipe's map size. `coverage` is the share of
    all tiles' texels.
    """

    common: float
    scale: Floats
    angle: Floats
    mirror: Floats
    offset: Floats
    tile: NDArray[np.int64]
    coverage: float


@dataclass(frozen=True)
class PackResult:
    """The best layout, the coverage over time [(seconds, coverage)], passes made, and whether it was stopped."""

    best: Packing
    history: list[tuple[float, float]] = field(default_factory=list)
    passes: int = 0
    stopped: bool = False
