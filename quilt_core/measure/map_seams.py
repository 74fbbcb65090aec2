"""What a baked map does at seams: whether its two sides go on from one another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..model.scene import Floats
from .texels import to_texels

SEAM_LIMIT = 0.05  # of a map's range: what the two sides of a seam may differ by; common practice, no source
JUDGED = ("position", "normal object", "occlusion", "curvature", "cavity")  # maps that run on over a seam
_SMOOTH = float(np.cos(np.radians(5)))  # of the angle between the normals on both sides of an edge: above, it is a hard one
_INSIDE = np.array([0.5, 1.5])  # texels from the edge, on either side


@dataclass(frozen=True)
class Seams:
    """The two sides of all smooth seams in one map: how far they differ (mean and greatest, 0 to 1), how many middles of edges were looked at, and where
    those lie, (k, 2) in UV with the worst first, that differ by more than the limit."""

    mean: float = 0.0
    greatest: float = 0.0
    count: int = 0
    bad: Floats = field(default_factory=lambda: np.zeros((0, 2)))

    def as_dict(self) -> dict[str, float | int]:
        """The figures without the places."""
        return {"mean": round(self.mean, 4), "greatest": round(self.greatest, 4), "count": self.count, "bad": len(self.bad)}


def sides_of(triangles: NDArray[np.integer], points: NDArray[np.integer], uvs: Floats, normals: Floats, px: int) -> Floats:
    """Where the two sides of a mesh's seams lie: places (k, 2, 2, 2) in UV half a texel and one and a half inside the middles of edges that lie at two
    places of the map. Of hard edges there are none: what lies on their two sides differs with a seam and without.

    Parameters
    ----------
    triangles : (T, 3) vertices; points : (V,) the point that each is; uvs : (T, 3, 2); normals : (T, 3, 3) of unit length; px : side of a map
    """
    key = np.sort(np.concatenate([points[triangles[:, [k, (k + 1) % 3]]] for k in range(3)]), axis=1)
    order = np.lexsort(key.T[::-1])
    same = (key[order][1:] == key[order][:-1]).all(axis=1)
    pair = np.column_stack([order[:-1][same], order[1:][same]])
    normal = np.concatenate([normals[:, k] + normals[:, (k + 1) % 3] for k in range(3)])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    pair = pair[(normal[pair[:, 0]] * normal[pair[:, 1]]).sum(axis=1) > _SMOOTH]
    middle = np.concatenate([uvs[:, [k, (k + 1) % 3]].mean(axis=1) for k in range(3)])
    pair = pair[np.abs(middle[pair[:, 0]] - middle[pair[:, 1]]).max(axis=1) > 2.0 / px]
    along = np.concatenate([uvs[:, (k + 1) % 3] - uvs[:, k] for k in range(3)])
    across = np.column_stack([-along[:, 1], along[:, 0]]) / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-30)
    # Across the edge, to the side that the triangle is on; it may be smaller than a texel, its island goes on.
    across *= np.where((across * (np.tile(uvs.mean(axis=1), (3, 1)) - middle)).sum(axis=1, keepdims=True) < 0, -1.0, 1.0)
    return np.asarray((middle[:, None] + across[:, None] * (_INSIDE / px)[:, None])[pair])


def judged(sides: Sequence[Floats], maps: dict[str, Floats], px: int, corner: tuple[int, int], limit: float) -> dict[str, Seams]:
    """The seams of each map that runs on over them: what the two sides differ by beyond what the map changes there within a texel, so that what bends
    fast is no fault.

    Parameters
    ----------
    sides : see `sides_of`; maps : (px, px, 3) of 0 to 1 of the tile with this lower left corner; limit : 0 to 1
    """
    places = np.concatenate([np.zeros((0, 2, 2, 2)), *sides])
    x, y = to_texels(places, px, corner)
    here = ((x >= 0) & (x < px) & (y >= 0) & (y < px)).all(axis=(1, 2))
    places, x, y = places[here], x[here].astype(int), y[here].astype(int)
    out = {}
    for kind in JUDGED:
        if kind not in maps:
            continue
        if not len(places):
            out[kind] = Seams()
            continue
        # A texel of occlusion is a sample of its rays: several around it differ by less from what they stand for.
        value = (ndimage.uniform_filter(maps[kind], (3, 3, 1), mode="nearest") if kind == "occlusion" else maps[kind])[y, x]
        slope = np.abs(value[:, :, 0] - value[:, :, 1]).sum(axis=1)
        off = np.maximum(np.abs(value[:, 0, 0] - value[:, 1, 0]) - slope, 0).max(axis=1)
        worst = np.argsort(-off, kind="stable")
        out[kind] = Seams(float(off.mean()), float(off.max()), len(off), places[worst[off[worst] > limit], 0, 0])
    return out
