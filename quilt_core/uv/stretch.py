"""Faults of single triangles: no area, turned over inside their island, stretched.

Stretch and distortion compare the UV plane with the surface. With the singular values G >= g of the map from the plane
to the surface (Sander, Snyder, Gortler and Hoppe, "Texture mapping progressive meshes", SIGGRAPH 2001, section 3):
L2 = sqrt((G^2 + g^2) / 2), Linf = G; angle distortion (G/g + g/G) / 2; area distortion (Gg + 1/(Gg)) / 2, the last two
after Degener, Meseth and Klein 2003 (from memory). All are 1 at best, once the scale is taken out: an island's
own mean scale for L2, Linf and area.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats, Mesh, MeshObject, UvChannel
from .areas import triangle_areas
from .density import world_areas
from .islands import is_zero_area
from .plane import plane_triangles

MOST = 1e6  # distortions above this are as good as infinite


@dataclass(frozen=True)
class Singular:
    """Of the triangles `which` (k,) that have area on both sides: greatest and least singular values, areas (k,)."""

    which: NDArray[np.int64]
    greatest: Floats
    least: Floats
    uv_area: Floats
    world_area: Floats


def singular_values(mesh: Mesh, channel: UvChannel, placing: MeshObject) -> Singular:
    """Singular values (metres per UV unit) of every triangle's map from the UV plane to the surface."""
    has: NDArray[np.bool_] = np.asarray((channel.triangles >= 0).all(axis=1))
    area = np.zeros(len(has))
    area[has] = triangle_areas(channel.uvs, channel.triangles[has])
    world = world_areas(mesh, placing)
    which = np.flatnonzero((area != 0) & (world > 0))
    p = (mesh.positions @ placing.world[:3, :3].T)[mesh.triangles[which]]
    uv, area, world = channel.uvs[channel.triangles[which]], area[which], world[which]
    s, t = uv[:, :, 0], uv[:, :, 1]

    def derivative(f: Floats) -> Floats:
        by = p[:, 0] * (f[:, 1] - f[:, 2])[:, None] + p[:, 1] * (f[:, 2] - f[:, 0])[:, None]
        return (by + p[:, 2] * (f[:, 0] - f[:, 1])[:, None]) / (2 * area)[:, None]

    along_s, along_t = derivative(t), -derivative(s)
    a, b, c = (along_s**2).sum(axis=1), (along_s * along_t).sum(axis=1), (along_t**2).sum(axis=1)
    root = np.sqrt((a - c) ** 2 + 4 * b**2)
    greatest = np.sqrt(0.5 * (a + c + root))
    # G g is the ratio of the areas; the difference of squares would lose the small one.
    least = world / np.abs(area) / greatest
    return Singular(which, greatest, least, np.abs(area), world)


@dataclass(frozen=True)
class Stretch:
    """Per island (n,): L2, Linf, angle and area distortion, means by surface area; NaN without any area."""

    l2: Floats
    linf: Floats
    angle: Floats
    area: Floats


def stretch_of_islands(found: Singular, of_triangle: NDArray[np.integer], count: int) -> Stretch:
    """Stretch of every island, 1 for a layout that is even and unsheared within the island.

    Parameters
    ----------
    found : of the mesh; of_triangle : (T,) island, -1 for none; count : number of islands n

    Returns
    -------
    see `Stretch`
    """
    of = of_triangle[found.which]
    keep = of >= 0
    of, big, small = of[keep], found.greatest[keep], found.least[keep]
    uv, world = found.uv_area[keep], found.world_area[keep]
    with np.errstate(divide="ignore", invalid="ignore"):
        total_world, total_uv = np.bincount(of, world, count), np.bincount(of, uv, count)
        scale = np.sqrt(total_uv / total_world)
        l2 = np.sqrt(np.bincount(of, 0.5 * (big**2 + small**2) * world, count) / total_world) * scale
        linf = np.zeros(count)
        np.maximum.at(linf, of, big)
        angle = np.bincount(of, np.minimum(0.5 * (big / small + small / big), MOST) * world, count) / total_world
        ratio = big * small * scale[of] ** 2
        area = np.bincount(of, np.minimum(0.5 * (ratio + 1 / ratio), MOST) * world, count) / total_world
    empty = ~(total_world > 0)
    return Stretch(*(np.where(empty, np.nan, v) for v in (l2, linf * scale, angle, area)))


def stretch(mesh: Mesh, channel: UvChannel, placing: MeshObject) -> tuple[float, float] | None:
    """(L2, Linf) of a whole object, both scaled so that an even, unsheared layout has 1; None without any area."""
    found = singular_values(mesh, channel, placing)
    if not len(found.which):
        return None
    whole = stretch_of_islands(found, np.zeros(len(mesh.triangles), np.int64), 1)
    return float(whole.l2[0]), float(whole.linf[0])


@dataclass(frozen=True)
class Odd:
    """Triangles (T,) that have no area in the UV plane, none on the model, or lie turned over in their island."""

    zero_uv: NDArray[np.bool_]
    zero_world: NDArray[np.bool_]
    turned: NDArray[np.bool_]


def odd_triangles(mesh: Mesh, channel: UvChannel, placing: MeshObject, of_triangle: NDArray[np.integer], signed_area: Floats) -> Odd:
    """Which triangles are degenerate or turned over.

    A triangle has no area when its height is under 1e-7 of its longest side. It is turned over when its UV
    orientation is against that of the island's summed area.

    Parameters
    ----------
    placing : the object that places the mesh; of_triangle : (T,) island, -1 for none
    signed_area : (n,) of the islands

    Returns
    -------
    see `Odd`
    """
    has = of_triangle >= 0
    area = np.zeros(len(has))
    flat = np.zeros(len(has), bool)
    plane = plane_triangles(mesh, channel)
    area[has] = triangle_areas(channel.uvs, plane[has])
    flat[has] = is_zero_area(channel.uvs, plane[has], area[has])
    p = (mesh.positions @ placing.world[:3, :3].T)[mesh.triangles]
    longest = np.max([((p[:, k] - p[:, k - 1]) ** 2).sum(axis=1) for k in range(3)], axis=0)
    zero_world = world_areas(mesh, placing) <= 0.5e-7 * longest
    turned = np.zeros(len(has), bool)
    turned[has] = ~flat[has] & (area[has] * signed_area[of_triangle[has]] < 0)
    return Odd(flat, zero_world, turned)
