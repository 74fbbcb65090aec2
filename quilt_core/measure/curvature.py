"""How a surface bends: its mean curvature, and the range in which a map shows it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats, Mesh

SHARE = 0.95  # of the bent surface lies within the range of a map; the sharpest rims are cut off, or they would leave nothing for the rest
FLAT = 1e-3  # of one over the scene's size: what bends less counts as flat


def curvature_of(mesh: Mesh, positions: Floats, normals: Floats) -> Floats:
    """Mean curvature (V,) in 1 / m, positive where the surface bulges: half the divergence of the normals, which run linearly over each triangle,
    averaged around each place by area.

    With exact normals that is 1 / r on any mesh of a sphere of radius r, and 1 / (2 r) on any mesh of a cylinder whose edges run along or around it:
    there a normal is the place (or its part across the axis) over r, and the divergence of the place in a plane is 2 (or 1).

    Parameters
    ----------
    positions : (V, 3) metres; normals : (V, 3) of unit length

    Returns
    -------
    (V,) 1 / m
    """
    place, tri = mesh.points, mesh.triangles
    p = positions[tri]
    across = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    twice = np.linalg.norm(across, axis=1)
    unit = across / np.where(twice > 0, twice, 1)[:, None]
    # The gradient of a corner's weight is its opposite edge turned by a right angle, over twice the area; here times that, since the average is by area.
    div = np.zeros(len(tri))
    for k in range(3):
        gradient = np.cross(unit, p[:, (k + 2) % 3] - p[:, (k + 1) % 3])
        div += (normals[tri[:, k]] * gradient).sum(axis=1)
    count = int(place.max(initial=-1)) + 1
    at = place[tri].ravel()
    total = np.bincount(at, np.repeat(div / 2, 3), count)
    weight = np.bincount(at, np.repeat(twice, 3), count)
    return np.asarray((total / np.where(weight > 0, weight, 1))[place], float)


def half_range(curves: Floats, areas: Floats, size: float) -> float:
    """The curvature in 1 / m that a map shows as its ends, by the share of the bent surface that lies within, to two digits.

    Parameters
    ----------
    curves : (T,) 1 / m of triangles; areas : (T,) m2; size : of the scene, in metres
    """
    bent = np.abs(curves)
    order: NDArray[np.intp] = np.flatnonzero((bent > FLAT / size) & (areas > 0))
    if not len(order):
        return float(f"{1 / size:.1e}")
    order = order[np.argsort(bent[order])]
    share = np.cumsum(areas[order]) / areas[order].sum()
    return float(f"{bent[order][min(int(np.searchsorted(share, SHARE)), len(order) - 1)]:.1e}")
