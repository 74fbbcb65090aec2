"""Islands as the packer sees them: outlines in one unit system, turned to every allowed angle.

Islands are scaled once, so that their area is `FILL` of a square of side 512; from then on the side of the
tile is the unknown and nothing is ever scaled again. One map pixel is side / map size in these units.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from ..scene import Floats

BASE, FILL = 512.0, 0.85
SIMPLIFY = 0.003  # units; outlines lose no more than this, and gaps are kept wider by twice as much

ANGLES = {"none": 1, "180": 2, "90": 4, "45": 8, "free": 32}


@dataclass
class Shapes:
    """All islands, flattened.

    xy (V, 2) outline vertices about the centre of each island's box, `follows` (V,) the next vertex of the
    ring; `first` (n + 1,) offsets; `scale` units per input unit; `centre` (n, 2) in input units; `area` (n,) in
    units squared; `angle` (K,) radians; `extent` (n, K, 4) box of the turned island.
    """

    xy: Floats
    follows: NDArray[np.int64]
    first: NDArray[np.int64]
    scale: float
    centre: Floats
    area: Floats
    angle: Floats
    extent: Floats

    @property
    def count(self) -> int:
        """Number of islands."""
        return len(self.area)


def cos_sin(angle: Floats) -> tuple[Floats, Floats]:
    """Cosine and sine, exact at multiples of 90 degrees."""
    c, s = np.cos(angle), np.sin(angle)
    quarter = np.abs(c * s) < 1e-9
    return np.where(quarter, np.round(c), c), np.where(quarter, np.round(s), s)


def prepare(regions: NDArray[np.object_], rotate: str, hole_min: float) -> Shapes:
    """Outlines of polygons (at their relative sizes) for packing.

    Parameters
    ----------
    regions : (n,) non-empty shapely polygons or multipolygons
    rotate : one of `ANGLES`
    hole_min : holes of less area than this many base pixels squared are filled: nothing could lie in them
    """
    total = float(shapely.area(regions).sum())
    scale = math.sqrt(FILL * BASE * BASE / total)
    box = shapely.bounds(regions)
    centre = 0.5 * (box[:, :2] + box[:, 2:])
    owner = np.repeat(np.arange(len(regions)), shapely.get_num_coordinates(regions))
    moved = shapely.set_coordinates(regions.copy(), (shapely.get_coordinates(regions) - centre[owner]) * scale)
    thin = shapely.simplify(moved, SIMPLIFY)
    thin = np.where(shapely.is_empty(thin), moved, thin)
    parts, part_owner = shapely.get_parts(thin, return_index=True)
    rings, ring_part = shapely.get_rings(parts, return_index=True)
    ring_owner = part_owner[ring_part]
    ring_area = shapely.area(shapely.polygons(rings))
    outer = np.r_[True, ring_part[1:] != ring_part[:-1]]
    keep = outer | (ring_area > hole_min)
    xy, owners, follows, at = [], [], [], 0
    for r in np.flatnonzero(keep):
        points = shapely.get_coordinates(rings[r])[:-1]
        xy.append(points)
        owners.append(np.full(len(points), ring_owner[r]))
        follows.append(np.r_[at + 1 : at + len(points), at])
        at += len(points)
    all_xy, all_owner = np.concatenate(xy), np.concatenate(owners)
    first = np.searchsorted(all_owner, np.arange(len(regions) + 1))
    count = ANGLES[rotate]
    angle = np.arange(count, dtype=np.float64) * (2 * math.pi / count)
    c, s = cos_sin(angle)
    extent = np.empty((len(regions), count, 4))
    for k in range(count):
        turned = np.column_stack([c[k] * all_xy[:, 0] - s[k] * all_xy[:, 1], s[k] * all_xy[:, 0] + c[k] * all_xy[:, 1]])
        extent[:, k, :2] = np.minimum.reduceat(turned, first[:-1])
        extent[:, k, 2:] = np.maximum.reduceat(turned, first[:-1])
    area = shapely.area(regions) * scale * scale
    return Shapes(all_xy, np.concatenate(follows), first, scale, centre, area, angle, extent)
