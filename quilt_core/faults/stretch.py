"""Stretch of a parametrisation: how far it is from keeping lengths.

Sander, Snyder, Gortler and Hoppe, "Texture mapping progressive meshes" (SIGGRAPH 2001), section 3: with the singular
values G >= g of the map from the UV plane to the surface, L2 = sqrt((G^2 + g^2) / 2) and Linf = G; over a mesh L2
is the root of the mean of its squares by surface area, times sqrt(UV area / surface area), so that 1 is best.
"""

from __future__ import annotations

import numpy as np

from ..density import world_areas
from ..islands import triangle_areas
from ..scene import Floats, Mesh, MeshObject, UvChannel


def stretch(mesh: Mesh, channel: UvChannel, placing: MeshObject) -> tuple[float, float] | None:
    """(L2, Linf) of an object, both scaled so that an even, unsheared layout has 1; None without any area."""
    has = (channel.triangles >= 0).all(axis=1)
    area = triangle_areas(channel.uvs, channel.triangles[has])
    world = world_areas(mesh, placing)[has]
    good = (np.abs(area) > 0) & (world > 0)
    if not good.any():
        return None
    p = (mesh.positions @ placing.world[:3, :3].T)[mesh.triangles[has][good]]
    uv, area, world = channel.uvs[channel.triangles[has][good]], area[good], world[good]
    s, t = uv[:, :, 0], uv[:, :, 1]

    def derivative(f: Floats) -> Floats:
        by = p[:, 0] * (f[:, 1] - f[:, 2])[:, None] + p[:, 1] * (f[:, 2] - f[:, 0])[:, None]
        return (by + p[:, 2] * (f[:, 0] - f[:, 1])[:, None]) / (2 * area)[:, None]

    along_s, along_t = derivative(t), -derivative(s)
    a, b, c = (along_s**2).sum(axis=1), (along_s * along_t).sum(axis=1), (along_t**2).sum(axis=1)
    greatest = np.sqrt(0.5 * (a + c + np.sqrt((a - c) ** 2 + 4 * b**2)))
    norm = np.sqrt(np.abs(area).sum() / world.sum())
    l2 = np.sqrt((0.5 * (a + c) * world).sum() / world.sum()) * norm
    return float(l2), float(greatest.max() * norm)
