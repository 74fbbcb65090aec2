"""A sheet: the islands of many meshes in one texture space. Analyse, measure, apply a layout.

A layout is one similarity per island on top of the UVs that were read: columns angle (radians), mirror (1 or
-1, applied first, to u), scale, offset u, offset v.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats, Ints, Mesh, MeshObject, Scene
from ..model.similarity import cos_sin
from .density import Spread, densities, island_world_areas, spread, world_areas
from .islands import Islands, find_islands
from .outlines import Outlines, trace_outlines
from .plane import plane_triangles

IDENTITY = np.array([0.0, 1.0, 1.0, 0.0, 0.0])


@dataclass(frozen=True)
class MeshIslands:
    """A mesh analysed in one channel, with all objects that place it.

    `world_area` (n,): of the placing with the largest surface, since that one has the least density.
    """

    mesh: Mesh
    channel: int
    islands: Islands
    outlines: Outlines
    objects: list[MeshObject]
    object_areas: list[Floats]
    uvs: Floats

    @property
    def world_area(self) -> Floats:
        """World area (n,) that evening uses."""
        return self.object_areas[int(np.argmax([a.sum() for a in self.object_areas]))]


def analyse(scene: Scene, channel: int, given: list[Ints | None] | None = None) -> list[MeshIslands | None]:
    """Islands of every mesh of a scene; None for a mesh without UVs in the channel. `given` (for each mesh): see `find_islands`.

    Parameters
    ----------
    channel : number of the UV channel
    given : for each mesh (T,) islands that are taken as they are

    Returns
    -------
    for each mesh its islands, or None
    """
    out: list[MeshIslands | None] = []
    for number, mesh in enumerate(scene.meshes):
        objects = [o for o in scene.objects if o.mesh == number]
        source = mesh.channels.get(channel)
        if source is None or not (source.triangles >= 0).all(axis=1).any():
            out.append(None)
            continue
        islands = find_islands(mesh, source, None if given is None else given[number])
        outlines = trace_outlines(source.uvs, plane_triangles(mesh, source), islands.of_triangle, islands.count)
        areas = [island_world_areas(islands, world_areas(mesh, o)) for o in objects]
        out.append(MeshIslands(mesh, channel, islands, outlines, objects, areas, source.uvs))
    return out


def transform_rows(uvs: Floats, of_row: NDArray[np.integer], similarities: Floats) -> Floats:
    """UV rows (W, 2) moved by their islands' similarities (n, 5); rows without an island stay.

    Parameters
    ----------
    uvs : (W, 2); of_row : (W,) island of every row, -1 for none; similarities : (n, 5)

    Returns
    -------
    (W, 2)
    """
    out = uvs.copy()
    used = of_row >= 0
    t = similarities[of_row[used]]
    c, s = cos_sin(t[:, 0])
    u, v = uvs[used, 0] * t[:, 1], uvs[used, 1]
    out[used, 0] = t[:, 2] * (c * u - s * v) + t[:, 3]
    out[used, 1] = t[:, 2] * (s * u + c * v) + t[:, 4]
    return out


def transform_regions(regions: NDArray[np.object_], similarities: Floats) -> NDArray[np.object_]:
    """Regions (n,) moved by similarities (n, 5).

    Parameters
    ----------
    regions : (n,) polygons; similarities : (n, 5)

    Returns
    -------
    (n,) polygons
    """
    owner = np.repeat(np.arange(len(regions)), shapely.get_num_coordinates(regions))
    return shapely.set_coordinates(regions.copy(), transform_rows(shapely.get_coordinates(regions), owner, similarities))  # type: ignore[no-any-return]


def object_density(piece: MeshIslands, similarities: Floats | None, number: int, map_px: float) -> tuple[Floats, Spread | None]:
    """Density (n,) of an object's islands under a layout (None: as read), and its spread.

    Parameters
    ----------
    similarities : (n, 5) or None; number : which of the objects that place the mesh; map_px : texels along a side

    Returns
    -------
    (n,) px/m, and their spread
    """
    scale = np.ones(piece.islands.count) if similarities is None else similarities[:, 2]
    d = densities(piece.islands.area * scale**2, piece.object_areas[number], map_px)
    return d, spread(d, piece.object_areas[number])
