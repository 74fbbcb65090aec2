"""Small holes in a surface: rings of open borders that the surface goes on around, and the faces that close them.

An open end is no hole: the faces at the rim of a tube stand on the face that would close it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from .polygons import triangulate

_LARGEST = 0.5  # of the extent of what it is in: above, a ring is the border of a sheet
_LEVEL = 0.5  # cosine: so far the faces around a hole may lean against it on average
Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class Hole:
    """ring (n,) points, the way round that a face runs which closes it; edges (n,) numbers of the open edges between each and the next; triangles (n - 2, 3)
    numbers in the ring"""

    ring: Numbers
    edges: Numbers
    triangles: Numbers


def holes_of(points: Floats, start: Numbers, end: Numbers, normal: Floats, part: Numbers) -> list[Hole]:
    """The small holes that open edges go around.

    Parameters
    ----------
    points : (V, 3); part : (V,) what each hangs together with, -1 for what does not count
    start, end : (k,) points of the open edges, the way round of the faces that they belong to
    normal : (k, 3) normals of these faces, of any length
    """
    low, high = np.full((int(part.max(initial=-1)) + 1, 3), np.inf), np.full((int(part.max(initial=-1)) + 1, 3), -np.inf)
    use = part >= 0
    np.minimum.at(low, part[use], points[use])
    np.maximum.at(high, part[use], points[use])
    extent = np.linalg.norm(high - low, axis=1)[part[start]]
    normal = normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    return [h for edges in _rings(start, end) if (h := _hole(points, start, edges, normal, extent)) is not None]


def _rings(start: Numbers, end: Numbers) -> list[Numbers]:
    """Open edges (n,) of every ring that passes no point twice. Where two meet at a point, whichever way is walked leads back to that point."""
    leaving: dict[int, list[int]] = {}
    for e, p in enumerate(start.tolist()):
        leaving.setdefault(p, []).append(e)
    out = []
    for first in start.tolist():
        path: list[int] = []
        at, seen = first, {first: 0}
        while leaving.get(at):
            e = leaving[at].pop()
            path.append(e)
            at = int(end[e])
            if at in seen:
                begin = seen[at]
                out.append(np.array(path[begin:], np.int64))
                for gone in path[begin:]:
                    seen.pop(int(end[gone]), None)
                del path[begin:]
            seen[at] = len(path)
    return [r for r in out if len(r) > 2]


def _hole(points: Floats, start: Numbers, edges: Numbers, normal: Floats, extent: Floats) -> Hole | None:
    """The hole that a ring of open edges goes around, unless it is the border of something."""
    # What closes it runs against its neighbours; the edge between two points stays the one that ran between them.
    ring, back = start[edges][::-1], np.roll(edges[::-1], -1)
    p = points[ring] - points[ring].mean(axis=0)
    size = float(np.linalg.norm(np.ptp(p, axis=0)))
    own = 0.5 * np.cross(p, np.roll(p, -1, axis=0)).sum(axis=0)
    area = float(np.linalg.norm(own))
    if size > _LARGEST * float(extent[edges].min()) or area <= 1e-9 * size**2:
        return None
    length = np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1)
    if float((length * (normal[back] @ own)).sum()) < _LEVEL * area * float(length.sum()):
        return None
    triangles = triangulate(p, np.array([0, len(p)], np.int64))[0]
    corner = p[triangles]
    each = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    return Hole(ring, back, triangles) if (each @ own > 1e-9 * area * size**2).all() else None
