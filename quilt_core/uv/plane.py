"""How polygons are cut into triangles in the UV plane.

A mesh cuts its polygons once, as they lie in the world. Where one of them is concave that cut may fold in the UV plane although the polygon does not: a
polygon folds or overlaps itself when its own outline does, whatever triangles it is cut into. Such polygons are cut anew here, for all that is measured in the
plane.
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats, Ints, Mesh, Polygons, UvChannel
from .areas import triangle_areas


def plane_triangles(mesh: Mesh, channel: UvChannel) -> Ints:
    """Triangles (T, 3) of a channel as rows of its UVs, polygon by polygon as many as the mesh has; -1 where a face has no UVs.

    Only polygons that fold in the mesh's cut, and whose outline is simple, are cut in another way than in the mesh (constrained Delaunay, by shapely). O(T).
    """
    polygons = mesh.polygons
    if polygons is None:
        return channel.triangles
    folded = _folded(channel, polygons)
    if not len(folded):
        return channel.triangles
    row = np.full(len(polygons.corners), -1, np.int64)
    row[polygons.triangles] = channel.triangles
    order = np.argsort(polygons.face_of, kind="stable")
    bounds = np.searchsorted(polygons.face_of[order], np.arange(len(polygons.faces)))
    out = channel.triangles.copy()
    for f in folded.tolist():
        mine = order[bounds[f] : bounds[f + 1]]
        cut = _cut(channel.uvs, row[polygons.faces[f] : polygons.faces[f + 1]])
        if cut is not None and len(cut) == len(mine):
            out[mine] = cut
    return out


def _folded(channel: UvChannel, polygons: Polygons) -> NDArray[np.int64]:
    """Polygons whose triangles lie both ways round."""
    has = (channel.triangles >= 0).all(axis=1)
    area = np.where(has, triangle_areas(channel.uvs, np.maximum(channel.triangles, 0)), 0.0)
    count = len(polygons.faces) - 1
    up, down = (np.bincount(polygons.face_of[found], minlength=count) > 0 for found in (area > 0, area < 0))
    return np.flatnonzero(up & down)


def _cut(uvs: Floats, ring: NDArray[np.int64]) -> Ints | None:
    """The triangles (n - 2, 3) of a polygon by the rows (n,) of its corners, wound as it is; None where its outline is not simple."""
    if (ring < 0).any() or len(np.unique(uvs[ring], axis=0)) < len(ring):
        return None
    polygon = shapely.Polygon(uvs[ring])
    if not shapely.is_valid(polygon):
        return None
    corners = shapely.get_coordinates(shapely.get_parts(shapely.constrained_delaunay_triangles(polygon))).reshape(-1, 4, 2)[:, :3]
    at = {xy: n for n, xy in enumerate(map(tuple, uvs[ring].tolist()))}
    found = np.array([[ring[at[tuple(xy)]] for xy in triangle] for triangle in corners.tolist()], np.int32)
    turned = (triangle_areas(uvs, found) < 0) == bool(shapely.is_ccw(polygon.exterior))
    found[turned] = found[turned][:, ::-1]
    return found
