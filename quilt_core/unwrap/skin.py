"""The surface of a mesh together with how it lies in the plane: what seams are cut in and sewn on, and how that becomes a UV channel again."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..errors import QuiltError
from ..model.components import components
from ..model.scene import Floats, Ints, Mesh, UvChannel
from ..uv.areas import signed_areas
from ..uv.islands import WELD
from .topology import Cut, Mask, Numbers, Surface, after, cut, sides_apart, surface_of


@dataclass(frozen=True)
class Skin:
    """The faces (F,) of a mesh that have an area, as a surface in the world.

    kept : (F,) triangle of the mesh that each face is; cell (F,) polygon that it belongs to
    turned : whether the surface is the mirror image of the world's, so that its front is where the mesh has it
    """

    mesh: Mesh
    surface: Surface
    kept: Numbers
    cell: Numbers
    turned: bool = False


def skin_of(mesh: Mesh, placing: Floats | None = None) -> Skin:
    """The surface of a mesh.

    Parameters
    ----------
    placing : (3, 3) from the mesh to the world, whose shape counts; None for the mesh as it is

    Raises
    ------
    QuiltError : the mesh has no face with an area
    """
    points = mesh.positions if placing is None else mesh.positions @ placing.T
    label = mesh.points
    first = np.full(int(label.max(initial=-1)) + 1, 0)
    first[label[::-1]] = np.arange(len(label))[::-1]
    faces = label[mesh.triangles]
    kept = np.flatnonzero(_has_area(points[first], faces))
    if not len(kept):
        raise QuiltError(f"{mesh.name} has no face with an area: there is nothing to unwrap.")
    cell = kept if mesh.polygons is None else mesh.polygons.face_of[kept].astype(np.int64)
    s = surface_of(points[first], faces[kept], cell)
    whole = _in_one_piece(s, cell)
    if len(whole) < len(kept):
        kept, cell = kept[whole], cell[whole]
        s = surface_of(points[first], faces[kept], cell)
    turned = placing is not None and bool(np.linalg.det(placing) < 0)
    if turned:
        # Seen from its front the surface is the mirror image: as it is in the mesh, so that UVs are not mirrored.
        s = surface_of(s.points * [1, 1, -1], s.faces, cell)
    return Skin(mesh, s, kept, cell, turned)


def _in_one_piece(s: Surface, cell: Numbers) -> Numbers:
    """The faces (k,) without those that slivers keep apart from the rest of their polygon: a corner of it can have one place only, so the largest
    piece of each decides."""
    h = np.flatnonzero(s.twin >= 0)
    h = h[cell[h // 3] == cell[s.twin[h] // 3]]
    n = len(cell)
    piece = components(n, h // 3, s.twin[h] // 3)
    count = int(piece.max(initial=-1)) + 1
    area = np.bincount(piece, s.area, count)
    of = np.zeros(count, np.int64)
    of[piece] = cell
    order = np.lexsort((-area, of))
    best = order[np.r_[True, of[order][1:] != of[order][:-1]]]
    return np.flatnonzero(np.isin(piece, best))


def _has_area(points: Floats, faces: Numbers) -> Mask:
    a, b, c = faces.T
    p = points[faces]
    cross = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    longest = np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2).max(axis=1)
    # A needle this thin has lost its direction to rounding.
    found: Mask = (a != b) & (b != c) & (c != a) & (np.linalg.norm(cross, axis=1) > 1e-10 * longest**2)
    return found


@dataclass(frozen=True)
class Laying:
    """How the faces (F,) of a skin lie in the plane.

    uv : (F, 3, 2) of every corner, NaN where a face has none
    seam : (3 F,) half-edges whose two sides part, the same for twins
    island : (F,) number of each face's island, -1 without UVs
    """

    uv: Floats
    seam: Mask
    island: Numbers

    @property
    def bare(self) -> Mask:
        """(F,) faces without UVs."""
        return np.asarray(np.isnan(self.uv).any(axis=(1, 2)), bool)


def bare_laying(skin: Skin) -> Laying:
    """A surface of which nothing lies anywhere yet."""
    n = len(skin.kept)
    return Laying(np.full((n, 3, 2), np.nan), np.zeros(3 * n, bool), np.full(n, -1))


@dataclass(frozen=True)
class Revised:
    """The UVs of a mesh after an operation.

    channel : its rows
    root : (W,) the row of the cut surface that each row stands for: rows of one root are one point, whatever their values; rows of two are parted
    island : (T,) of every triangle, -1 without UVs
    frame : (n,) for each island the older one in whose own UVs it lies, -1 for none; None where that is not known
    """

    channel: UvChannel
    root: NDArray[np.int64]
    island: Ints
    frame: Numbers | None = None


def laying_of(skin: Skin, channel: UvChannel, of_triangle: NDArray[np.integer], root: NDArray[np.integer] | None = None) -> Laying:
    """How a mesh lies in one of its channels.

    Parameters
    ----------
    of_triangle : (T,) island of every triangle, -1 without UVs
    root : (W,) of a channel that was made here; None for one that was read, whose seams are where values part

    Returns
    -------
    with a seam wherever islands part as well
    """
    s = skin.surface
    rows = channel.triangles[skin.kept].astype(np.int64)
    bare = np.asarray((rows < 0).any(axis=1), bool)
    uv = np.where(bare[:, None, None], np.nan, channel.uvs[np.maximum(rows, 0)])
    island = np.where(bare, -1, np.asarray(of_triangle, np.int64)[skin.kept])
    seam = np.zeros(len(s.twin), bool)
    h = np.flatnonzero(s.twin >= 0)
    t = s.twin[h]
    face = h // 3
    if root is None:
        apart = sides_apart(s, uv)[h] > WELD
    else:
        of = np.where(rows < 0, -1, root[np.maximum(rows, 0)]).reshape(-1)
        apart = (of[h] != of[after(t)]) | (of[after(h)] != of[t])
    seam[h] = apart | bare[face] | bare[t // 3] | (island[face] != island[t // 3])
    # Two faces without UVs are not parted by a seam.
    seam[h] &= ~(bare[face] & bare[t // 3])
    return Laying(uv, seam, island)


def revised(skin: Skin, laying: Laying, touched: Mask) -> Revised:
    """The channel of a mesh for a laying in which some faces were changed.

    Parameters
    ----------
    touched : (F,) faces whose islands are those that the seams make; all others keep theirs

    Returns
    -------
    with islands numbered by their first triangle
    """
    s, mesh = skin.surface, skin.mesh
    c = cut(s, laying.seam)
    bare = laying.bare
    uv = np.zeros((c.count, 2))
    uv[c.rows[~bare].reshape(-1)[::-1]] = laying.uv[~bare].reshape(-1, 2)[::-1]
    channel, root = channel_of(mesh, skin.kept, c.rows, uv)
    group = np.where(touched, c.chart + 1 + int(laying.island.max(initial=0)), laying.island)
    group[bare] = -1
    of_root = np.full(c.count, -1)
    of_root[c.rows] = group[:, None]
    tri = channel.triangles.copy()
    of = of_root[root[tri[:, 0]]]
    of[skin.kept] = group
    tri[of < 0] = -1
    kept_rows = np.unique(tri[of >= 0])
    number = np.full(len(channel.uvs) + 1, -1, np.int64)
    number[kept_rows] = np.arange(len(kept_rows))
    out = UvChannel(channel.uvs[kept_rows], number[tri].astype(np.int32))
    island = _by_first(of)
    return Revised(out, root[kept_rows], island, _frames(skin, laying, island))


def _frames(skin: Skin, laying: Laying, island: Ints) -> Numbers:
    """For each new island (n,) the one that a laying says for most of its area, -1 for none: what is sewn lies in the UVs of the one that stayed."""
    mine, was = island[skin.kept].astype(np.int64), laying.island
    out = np.full(int(island.max(initial=-1)) + 1, -1)
    has = (mine >= 0) & (was >= 0)
    count = int(was.max(initial=0)) + 1
    key, slot = np.unique(mine[has] * count + was[has], return_inverse=True)
    order = np.argsort(np.bincount(slot.reshape(-1), skin.surface.area[has], len(key)), kind="stable")
    out[key[order] // count] = key[order] % count
    return out


def _by_first(of: Numbers) -> Ints:
    """Groups (T,) numbered in the order in which they appear; -1 stays."""
    out = np.full(len(of), -1, np.int32)
    has = np.flatnonzero(of >= 0)
    if len(has):
        values, first, slot = np.unique(of[has], return_index=True, return_inverse=True)
        rank = np.empty(len(values), np.int64)
        rank[np.argsort(first, kind="stable")] = np.arange(len(values))
        out[has] = rank[slot.reshape(-1)]
    return out


def channel_of(mesh: Mesh, kept: Numbers, rows: Numbers, uv: Floats) -> tuple[UvChannel, Numbers]:
    """The rows of all triangles of a mesh, those without area too: they lie where their neighbours do, or in one point.

    Parameters
    ----------
    kept : (F,) triangles that have rows (F, 3) of uv (R, 2)

    Returns
    -------
    the channel, and for each of its rows (W,) the one of `uv` that it stands for
    """
    corner = mesh.triangles.reshape(-1) if mesh.polygons is None else mesh.polygons.corners
    of_triangle = np.arange(mesh.triangles.size).reshape(-1, 3) if mesh.polygons is None else mesh.polygons.triangles
    row = np.full(len(corner), -1, np.int64)
    row[of_triangle[kept]] = rows
    polygon = np.arange(len(mesh.triangles)) if mesh.polygons is None else mesh.polygons.face_of
    owner = np.full(len(corner), -1, np.int64)
    owner[of_triangle] = polygon[:, None]
    members: dict[int, list[int]] = {}
    bare = np.flatnonzero((row < 0) & (owner >= 0))
    for c in np.flatnonzero(np.isin(owner, owner[bare])).tolist():
        members.setdefault(int(owner[c]), []).append(c)
    for c in bare.tolist():
        known = [k for k in members[int(owner[c])] if row[k] >= 0]
        # The nearest corner of the polygon; a polygon without any area lies in one point.
        far = np.linalg.norm(mesh.positions[corner[known]] - mesh.positions[corner[c]], axis=1)
        row[c] = -2 - row[known[int(np.argmin(far))]] if known else -2
    row[row < -1] = -2 - row[row < -1]
    # A row of one position only, as everywhere: vertices that normals keep apart have a row each.
    pairs, back = np.unique(np.column_stack([row, corner]), axis=0, return_inverse=True)
    new = np.asarray(back).reshape(-1)
    root = pairs[:, 0]
    return UvChannel(uv[np.maximum(root, 0)], new[of_triangle].astype(np.int32)), root


def with_uv(laying: Laying, faces: NDArray[np.integer], c: Cut, uv: Floats) -> Laying:
    """A laying with other UVs (W, 2) for some faces (k,), given by the rows of their cut."""
    out = laying.uv.copy()
    out[faces] = uv[c.rows]
    return replace(laying, uv=out)


def readable(skin: Skin, uv: Floats) -> Floats:
    """New UVs (..., 2) that read the right way round on the object. Where it is placed by a mirroring its front is seen from the other side (glTF 2.0, 3.7.4:
    a negative determinant turns the winding), so what lies as the mesh is wound would read backwards."""
    if not skin.turned or not uv.size:
        return uv
    return np.stack([uv[..., 0].max() + uv[..., 0].min() - uv[..., 0], uv[..., 1]], axis=-1)


def sign_of(laying: Laying, island: int) -> float:
    """-1 for an island that lies mirrored."""
    return -1.0 if signed_areas(laying.uv[laying.island == island]).sum() < 0 else 1.0
