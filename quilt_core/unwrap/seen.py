"""How open a surface lies: from how many sides each face is seen, by depth pictures from all around."""

from __future__ import annotations

import numpy as np
from numba import njit

from ..model.scene import Floats
from .topology import Surface

_SIDES = 26
_PIXELS = 192
_BIAS = 1.5  # pixels of depth within which a face is what the picture shows


def openness(s: Surface) -> Floats:
    """(F,) share of the directions in front of each face from which its middle is seen; 0 for a face that nobody sees from outside.

    Notes
    -----
    Depth pictures of `_PIXELS` a side from `_SIDES` directions, spread evenly by the golden angle. O(F) each.
    """
    size = float(np.linalg.norm(np.ptp(s.points, axis=0))) or 1.0
    points = (s.points - s.points.min(axis=0) - 0.5 * np.ptp(s.points, axis=0)) / size
    middle = points[s.faces].mean(axis=1)
    seen, asked = np.zeros(len(s.faces)), np.zeros(len(s.faces))
    for d in directions(_SIDES):
        x, y = _across(d)
        at = np.stack([points @ x, points @ y, points @ d], axis=1)
        at[:, :2] = (at[:, :2] + 0.5) * _PIXELS
        depth = np.full((_PIXELS, _PIXELS), -np.inf)
        _draw(np.ascontiguousarray(at), s.faces, depth)
        front = np.maximum(s.normal @ d, 0.0)
        own = np.stack([middle @ x, middle @ y], axis=1)
        px = np.clip(((own + 0.5) * _PIXELS).astype(np.int64), 0, _PIXELS - 1)
        # A face that stands steep to the view is many pixels deep within one.
        slack = _BIAS / _PIXELS * (1 + np.sqrt(np.maximum(1 - front**2, 0)) / np.maximum(front, 0.05))
        visible = middle @ d >= depth[px[:, 1], px[:, 0]] - slack
        seen += front * visible
        asked += front
    return np.asarray(np.where(asked > 0, seen / np.maximum(asked, 1e-300), 0.0))


def directions(count: int) -> Floats:
    """Unit vectors (count, 3) spread over the sphere (Fibonacci's lattice)."""
    k = np.arange(count) + 0.5
    z = 1 - 2 * k / count
    angle = np.pi * (3 - np.sqrt(5)) * k
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(angle), r * np.sin(angle), z], axis=1)


def _across(d: Floats) -> tuple[Floats, Floats]:
    """Two unit vectors that stand square to a direction and to each other."""
    x = np.cross(d, [1.0, 0, 0] if abs(d[0]) < 0.8 else [0, 1.0, 0])
    x /= np.linalg.norm(x)
    return x, np.cross(d, x)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _draw(at, faces, depth):  # type: ignore[no-untyped-def]
    """The greatest depth at each pixel's middle over triangles (F, 3) of points (V, 3) in pixels."""
    height, width = depth.shape
    for f in range(faces.shape[0]):
        ax, ay, az = at[faces[f, 0]]
        bx, by, bz = at[faces[f, 1]]
        cx, cy, cz = at[faces[f, 2]]
        double = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if abs(double) < 1e-12:
            continue
        left, right = max(0, int(np.ceil(min(ax, bx, cx) - 0.5))), min(width - 1, int(np.floor(max(ax, bx, cx) - 0.5)))
        low, high = max(0, int(np.ceil(min(ay, by, cy) - 0.5))), min(height - 1, int(np.floor(max(ay, by, cy) - 0.5)))
        for j in range(low, high + 1):
            for i in range(left, right + 1):
                x, y = i + 0.5, j + 0.5
                u = ((bx - x) * (cy - y) - (cx - x) * (by - y)) / double
                v = ((cx - x) * (ay - y) - (ax - x) * (cy - y)) / double
                w = 1 - u - v
                if u >= -1e-9 and v >= -1e-9 and w >= -1e-9:
                    z = u * az + v * bz + w * cz
                    depth[j, i] = max(depth[j, i], z)
