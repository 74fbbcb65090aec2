"""Islands as measuring sees them: what no similarity changes, in flat arrays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats
from ..uv.analysis import MeshIslands
from ..uv.areas import triangle_areas
from ..uv.edges import mesh_faults
from ..uv.islands import is_zero_area
from ..uv.plane import plane_triangles
from ..uv.stretch import odd_triangles, singular_values, stretch_of_islands
from . import kernels

_PIECES = 24  # triangles; islands of more are cut anew along their outlines alone, which leaves fewer pieces to compare

Whole = NDArray[np.int64]


@dataclass(frozen=True)
class IslandShapes:
    """The n islands of p meshes as they were read.

    segments (S, 4) edges of their outlines, first_segment (n + 1,); triangles (T, 6) pieces that cover each region once, first_triangle (n + 1,).
    region_area (n,) covered; uv_area (n,) of the triangles, more where an island covers itself by `own` (n,); signed_area (n,);
    world (n,) of the largest placing; sees (n, 2) bool: whether a placing shows it the right way round, and whether one shows it mirrored;
    l2, linf, angle, distortion (n,) stretch (see `faults.triangles`), the same at any scale; turned, zero_uv, zero_world, crowded_island,
    against_island (n,) numbers of triangles; crowded, against (p,) numbers of edges;
    mesh (n,) number of each island's mesh.
    """

    segments: Floats
    first_segment: Whole
    triangles: Floats
    first_triangle: Whole
    region_area: Floats
    uv_area: Floats
    own: Floats
    signed_area: Floats
    world: Floats
    sees: NDArray[np.bool_]
    l2: Floats
    linf: Floats
    angle: Floats
    distortion: Floats
    turned: Whole
    zero_uv: Whole
    zero_world: Whole
    crowded_island: Whole
    against_island: Whole
    crowded: Whole
    against: Whole
    mesh: Whole

    @property
    def count(self) -> int:
        """How many islands there are."""
        return len(self.region_area)

    def arrays(self) -> dict[str, NDArray[Any]]:
        """All fields by name, for storing."""
        return {f.name: getattr(self, f.name) for f in fields(self)}

    def flipped(self, mirror: Floats) -> NDArray[np.bool_]:
        """(n,) whether an island reads mirrored on one of its placings, under a layout's mirror (n,) of 1 or -1."""
        sign = self.signed_area * mirror
        return np.asarray((self.sees[:, 0] & (sign < 0)) | (self.sees[:, 1] & (sign > 0)))

    def boxes(self, rows: Floats, which: Whole | None = None) -> Floats:
        """Boxes (k, 4) of islands as a layout (n, 5) places them; NaN for those that cover nothing."""
        which = np.arange(self.count) if which is None else which
        out = np.empty((len(which), 4))
        kernels.boxes_of(self.segments, self.first_segment, np.ascontiguousarray(rows), which, out)
        return out


def shapes_of(piece: MeshIslands) -> IslandShapes:
    """The islands of one mesh. O(T log T)."""
    islands, channel, n = piece.islands, piece.mesh.channels[piece.channel], piece.islands.count
    largest = piece.objects[int(np.argmax([a.sum() for a in piece.object_areas]))]
    odd = odd_triangles(piece.mesh, channel, largest, islands.of_triangle, islands.signed_area)
    stretched = stretch_of_islands(singular_values(piece.mesh, channel, largest), islands.of_triangle, n)
    mesh = mesh_faults(piece.mesh)

    def count(marks: NDArray[np.bool_]) -> Whole:
        return np.bincount(islands.of_triangle[marks & (islands.of_triangle >= 0)], minlength=n).astype(np.int64)

    segments, first_segment = _segments(piece.outlines.regions)
    triangles, first_triangle = _pieces(piece)
    mirrored = [o.mirrored for o in piece.objects]
    sees = np.tile([not all(mirrored), any(mirrored)], (n, 1))
    return IslandShapes(
        segments, first_segment, triangles, first_triangle, shapely.area(piece.outlines.regions), islands.area, piece.outlines.self_overlap,
        islands.signed_area, piece.world_area, sees, stretched.l2, stretched.linf, stretched.angle, stretched.area, count(odd.turned),
        count(odd.zero_uv), count(odd.zero_world), count(mesh.crowded), count(mesh.against),
        np.array([mesh.crowded_edges]), np.array([mesh.against_edges]), np.zeros(n, np.int64),
    )  # fmt: skip


def _segments(regions: NDArray[np.object_]) -> tuple[Floats, Whole]:
    """Edges (S, 4) of all rings and the first of each region (n + 1,)."""
    parts, part_of = shapely.get_parts(regions, return_index=True)
    rings, ring_part = shapely.get_rings(parts, return_index=True)
    xy, ring = shapely.get_coordinates(rings, return_index=True)
    inner = np.flatnonzero(ring[1:] == ring[:-1]) if len(ring) else np.zeros(0, np.int64)
    owner = part_of[ring_part[ring[inner]]] if len(inner) else np.zeros(0, np.int64)
    return np.hstack([xy[inner], xy[inner + 1]]).reshape(-1, 4), np.searchsorted(owner, np.arange(len(regions) + 1))


def _pieces(piece: MeshIslands) -> tuple[Floats, Whole]:
    """Triangles (T, 6) that cover each region once, and the first of each (n + 1,)."""
    islands, channel, n = piece.islands, piece.mesh.channels[piece.channel], piece.islands.count
    regions = piece.outlines.regions
    has = np.flatnonzero(islands.of_triangle >= 0)
    tri, of = plane_triangles(piece.mesh, channel)[has], islands.of_triangle[has].astype(np.int64)
    solid = ~is_zero_area(piece.uvs, tri, triangle_areas(piece.uvs, tri))
    many = np.bincount(of[solid], minlength=n)
    # Triangles that cover some place twice would count it twice: those islands, too, are cut along their outlines.
    again = ((many > _PIECES) | (piece.outlines.self_overlap > 0)) & ~shapely.is_empty(regions)
    use = solid & ~again[of] & ~shapely.is_empty(regions)[of]
    corners, owner = [piece.uvs[tri[use]].reshape(-1, 6)], [of[use]]
    which = np.flatnonzero(again)
    if len(which):
        cut, cut_of = shapely.get_parts(shapely.constrained_delaunay_triangles(regions[which]), return_index=True)
        xy = shapely.get_coordinates(cut).reshape(-1, 4, 2)[:, :3]
        corners.append(xy.reshape(-1, 6))
        owner.append(which[cut_of])
    whole, number = np.concatenate(corners), np.concatenate(owner)
    order = np.argsort(number, kind="stable")
    return whole[order], np.searchsorted(number[order], np.arange(n + 1))


def joined(parts: Sequence[IslandShapes]) -> IslandShapes:
    """The islands of several meshes as one."""
    meshes = np.cumsum([0, *(len(p.crowded) for p in parts)])
    out: dict[str, NDArray[Any]] = {}
    for name, first in (("segments", "first_segment"), ("triangles", "first_triangle")):
        offsets = np.cumsum([0, *(len(getattr(p, name)) for p in parts)])
        out[name] = np.concatenate([np.zeros((0, 4 if name == "segments" else 6)), *(getattr(p, name) for p in parts)])
        ends = [getattr(p, first)[1:] + o for p, o in zip(parts, offsets, strict=False)]
        out[first] = np.concatenate([np.zeros(1, np.int64), *ends]).astype(np.int64)
    out["mesh"] = np.concatenate([np.zeros(0, np.int64), *(p.mesh + m for p, m in zip(parts, meshes, strict=False))])
    out["sees"] = np.concatenate([np.zeros((0, 2), bool), *(p.sees for p in parts)])
    for f in fields(IslandShapes):
        if f.name not in out:
            kind = np.int64 if f.type == "Whole" else np.float64
            out[f.name] = np.concatenate([np.zeros(0, kind), *(getattr(p, f.name) for p in parts)])
    return IslandShapes(**out)
