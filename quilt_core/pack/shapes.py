"""Islands as the packer sees them: outlines in one unit system, and the poses that each may take.

Islands are scaled once, so that their area is `FILL` of the tiles of side 512; from then on the side of the
tile is the unknown and nothing is ever scaled again. One map pixel is side / map size in these units.

A pose is a turn, after mirroring or not. All islands share one list of poses; each has its allowed part of it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats
from ..model.similarity import cos_sin

BASE, FILL = 512.0, 0.85
_LONGEST = 4.0  # base sizes that the box of an island may be wide
SIMPLIFY = 0.003  # units; outlines lose no more than this, and gaps are kept wider by twice as much

ANGLES = {"none": 1, "180": 2, "90": 4, "45": 8, "free": 64}


@dataclass
class Shapes:
    """All islands, flattened.

    xy (V, 2) outline vertices about the centre of each island's box, turned by `base`; `follows` (V,) the next
    vertex of the ring; `first` (n + 1,) offsets; `scale` units per input unit; `centre` (n, 2) in input units;
    `area` (n,) in units squared; `base` (n,) radians, the turn of pose 0; `pose` (K, 4) matrices row by row;
    `angle`, `mirror` (K,) of the poses, mirror -1 or 1; `allowed` (n, K); `extent` (n, K, 4) box in a pose;
    `diameter` (n,) greatest extent of an outline.
    """

    xy: Floats
    follows: NDArray[np.int64]
    first: NDArray[np.int64]
    scale: float
    centre: Floats
    area: Floats
    base: Floats
    pose: Floats
    angle: Floats
    mirror: Floats
    allowed: NDArray[np.bool_]
    extent: Floats
    diameter: Floats

    @property
    def count(self) -> int:
        """Number of islands."""
        return len(self.area)

    def least_side(self, room: float = 1.0) -> float:
        """The side of the smallest square that each island fits in on its own, in its best pose."""
        size = (self.extent[:, :, 2:] - self.extent[:, :, :2]).max(axis=2)
        return float(np.where(self.allowed, size, np.inf).min(axis=1).max()) * room

    def along(self, pose: NDArray[np.int64]) -> tuple[Floats, Floats]:
        """Outline vertices (V,), (V,) with every island in the given pose, about its centre."""
        m = self.pose[pose][np.repeat(np.arange(self.count), np.diff(self.first))]
        x, y = self.xy[:, 0], self.xy[:, 1]
        return m[:, 0] * x + m[:, 1] * y, m[:, 2] * x + m[:, 3] * y


def poses(rotate: Sequence[str], mirror: NDArray[np.bool_]) -> tuple[Floats, Floats, Floats, NDArray[np.bool_]]:
    """Pose matrices (K, 4), angles (K,), mirror (K,) and who may take which (n, K).

    Parameters
    ----------
    rotate : (n,) one of `ANGLES` for each island
    mirror : (n,) whether an island may be mirrored
    """
    count = math.lcm(*(ANGLES[r] for r in set(rotate)))
    angle: Floats = np.arange(count, dtype=np.float64) * (2 * math.pi / count)
    c, s = cos_sin(angle)
    turned = np.column_stack([c, -s, s, c])
    steps = np.array([count // ANGLES[r] for r in rotate])
    allowed = np.arange(count)[None, :] % steps[:, None] == 0
    if not mirror.any():
        return turned, angle, np.ones(count), allowed
    flipped = turned * np.array([-1.0, 1.0, -1.0, 1.0])
    both = np.concatenate([allowed, allowed & mirror[:, None]], axis=1)
    return np.concatenate([turned, flipped]), np.tile(angle, 2), np.repeat([1.0, -1.0], count), both


def upright_turns(regions: NDArray[np.object_], free: NDArray[np.bool_]) -> Floats:
    """The turn (n,) that gives freely turning islands their least box, where that gains more than 3 %.

    Parameters
    ----------
    regions : (n,) polygons; free : (n,) bool, whether an island turns freely

    Returns
    -------
    (n,) radians
    """
    turn = np.zeros(len(regions))
    box = shapely.bounds(regions)
    for i in np.flatnonzero(free):
        corners = shapely.get_coordinates(shapely.oriented_envelope(regions[i]))
        if len(corners) < 4:
            continue
        a, b = corners[1] - corners[0], corners[2] - corners[1]
        side = a if np.hypot(*a) > np.hypot(*b) else b
        if np.hypot(*a) * np.hypot(*b) < 0.97 * (box[i, 2] - box[i, 0]) * (box[i, 3] - box[i, 1]):
            turn[i] = -math.atan2(side[1], side[0])
    return turn


def prepare(
    regions: NDArray[np.object_],
    rotate: str | Sequence[str],
    hole_min: float,
    mirror: bool | NDArray[np.bool_] = False,
    tiles: float = 1.0,
    held: NDArray[np.bool_] | None = None,
    as_is: bool = False,
) -> Shapes:
    """Outlines of polygons (at their relative sizes) for packing.

    Parameters
    ----------
    regions : (n,) non-empty shapely polygons or multipolygons
    rotate : one of `ANGLES`, for all or (n,) for each
    hole_min : holes of less area than this many base units squared are filled: nothing could lie in them
    mirror : whether islands may be mirrored, for all or (n,)
    tiles : area of all tiles, in tiles
    held : (n,) islands that keep their place and pose; they come at their size in tiles
    as_is : freely turning islands start from the turn that they come in, not from their least box
    """
    n = len(regions)
    rotates = [rotate] * n if isinstance(rotate, str) else list(rotate)
    held = np.zeros(n, bool) if held is None else held
    rotates = ["none" if h else r for r, h in zip(rotates, held, strict=True)]
    pose, angle, flips, allowed = poses(rotates, np.broadcast_to(np.asarray(mirror, bool), (n,)) & ~held)
    area = shapely.area(regions)
    room = max(FILL * tiles - float(area[held].sum()), 0.05 * tiles)
    scale = math.sqrt(room * BASE * BASE / max(float(area[~held].sum()), 1e-300)) if not held.all() else BASE
    if not held.all():
        # One long island decides how large all can be: units that suit the others alone would make its grids endless.
        whole = shapely.bounds(regions[~held])
        scale = min(scale, _LONGEST * BASE / max(float((whole[:, 2:] - whole[:, :2]).max()), 1e-300))
    base = np.zeros(n) if as_is else upright_turns(regions, np.array([r == "free" for r in rotates]))
    box = shapely.bounds(regions)
    centre = 0.5 * (box[:, :2] + box[:, 2:])
    owner = np.repeat(np.arange(n), shapely.get_num_coordinates(regions))
    at = (shapely.get_coordinates(regions) - centre[owner]) * scale
    c, s = cos_sin(base)
    at = np.column_stack([c[owner] * at[:, 0] - s[owner] * at[:, 1], s[owner] * at[:, 0] + c[owner] * at[:, 1]])
    moved = shapely.set_coordinates(regions.copy(), at)
    thin = shapely.simplify(moved, SIMPLIFY)
    thin = np.where(shapely.is_empty(thin), moved, thin)
    xy, follows, first = _flatten(thin, hole_min)
    shapes = Shapes(
        xy, follows, first, scale, centre, area * scale * scale, base, pose, angle, flips, allowed,
        np.empty((n, len(pose), 4)), shapely.minimum_bounding_radius(thin) * 2,
    )  # fmt: skip
    for k in range(len(pose)):
        x, y = shapes.along(np.full(n, k))
        for q, (f, v) in enumerate(((np.minimum, x), (np.minimum, y), (np.maximum, x), (np.maximum, y))):
            shapes.extent[:, k, q] = f.reduceat(v, first[:-1])
    return shapes


def _flatten(thin: NDArray[np.object_], hole_min: float) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Vertices (V, 2), the next vertex of each (V,) and offsets (n + 1,) of all rings, small holes left out."""
    parts, part_owner = shapely.get_parts(thin, return_index=True)
    rings, ring_part = shapely.get_rings(parts, return_index=True)
    outer = np.r_[True, ring_part[1:] != ring_part[:-1]]
    keep = np.flatnonzero(outer | (shapely.area(shapely.polygons(rings)) > hole_min))
    xy, ring = shapely.get_coordinates(rings[keep], return_index=True)
    last = np.r_[ring[1:] != ring[:-1], True]
    xy, ring = xy[~last], ring[~last]  # a closed ring repeats its first vertex
    begin = np.r_[True, ring[1:] != ring[:-1]]
    follows = np.arange(1, len(xy) + 1)
    follows[np.r_[begin[1:], True]] = np.flatnonzero(begin)
    owner = part_owner[ring_part[keep]][ring]
    return xy, follows, np.searchsorted(owner, np.arange(len(thin) + 1))
