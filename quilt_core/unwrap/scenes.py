"""Which meshes of a scene have UVs that cannot be saved, their figures before and after, and new UVs for those that are chosen."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import Cancelled, QuiltError
from ..model.scene import Mesh, MeshObject, Scene, UvChannel
from ..uv.analysis import MeshIslands
from ..uv.areas import triangle_areas
from ..uv.density import world_areas
from ..uv.plane import plane_triangles
from ..uv.stretch import singular_values, stretch, stretch_of_islands
from .hands import keeps_to, relaxed
from .meshes import Options, Unwrapped, unwrap, unwrap_faces
from .skin import Laying, Revised, Skin, laying_of, revised, skin_of
from .threads import Stop
from .trial import Tell

_OWN = 1e-9  # of an island's area that lies double: more is no rounding, and could be a hundredth of a texel once it fills a tile
_SHREDDED = 0.3  # of a mesh's area: where more cannot be saved, small islands among that are no work of anybody's
_FEW, _SHREDS = 12, 0.3  # such an island has fewer faces, and more than this of its seam is to what cannot be saved
_STRETCHED = 1.5  # Sander's L2 of an island at its own scale: above, it shows wherever one looks


def largest_placing(scene: Scene, mesh: int) -> MeshObject:
    """The object that shows a mesh largest: its density is the least, so its shape counts."""
    return max((o for o in scene.objects if o.mesh == mesh), key=lambda o: float(world_areas(scene.meshes[mesh], o).sum()))


def skin_in(scene: Scene, mesh: int) -> Skin:
    """The surface of a mesh as it is placed largest; see `skin_of`."""
    return skin_of(scene.meshes[mesh], largest_placing(scene, mesh).world[:3, :3])


def laying_in(scene: Scene, mesh: int, channel: int, piece: MeshIslands, root: NDArray[np.int64] | None) -> tuple[Skin, Laying]:
    """The surface of a mesh, and how it lies in a channel with its islands; `root`: see `laying_of`."""
    skin = skin_in(scene, mesh)
    return skin, laying_of(skin, scene.meshes[mesh].channels[channel], piece.islands.of_triangle, root)


@dataclass(frozen=True)
class Figures:
    """What is known of a mesh's UVs: islands, inner seams in metres, shares of the surface under a stretch, Sander's L2, the greatest ratio of singular
    values; triangles that are folded or have no UVs, islands that overlap themselves."""

    islands: int
    seam_m: float
    under_1_1: float
    under_1_5: float
    l2: float
    worst: float
    folded: int
    bare: int
    overlapping: int
    stretched: int = 0

    def as_dict(self) -> dict[str, Any]:
        """For `report.json`."""
        return {
            "islands": self.islands, "seam_m": round(self.seam_m, 5),
            "stretch": {
                "share_under_1_1": round(self.under_1_1, 5), "share_under_1_5": round(self.under_1_5, 5),
                "l2": round(self.l2, 5) if np.isfinite(self.l2) else None, "worst": round(self.worst, 4) if np.isfinite(self.worst) else None,
            },
            "folded": self.folded, "without_uvs": self.bare, "overlapping": self.overlapping, "stretched": self.stretched,
        }  # fmt: skip


def figures(scene: Scene, mesh: int, channel: int, piece: MeshIslands | None) -> Figures:
    """Figures of a mesh's UVs in a channel; `piece` are its islands there, None where it has none."""
    m, o = scene.meshes[mesh], largest_placing(scene, mesh)
    uvs = m.channels.get(channel)
    if uvs is None or piece is None:
        return Figures(0, 0.0, 0.0, 0.0, float("nan"), float("nan"), 0, len(m.triangles), 0)
    s = singular_values(m, uvs, o)
    total = max(float(world_areas(m, o).sum()), 1e-300)
    ratio = s.greatest / np.maximum(s.least, 1e-300)
    of = piece.islands.of_triangle
    bare = int((uvs.triangles < 0).any(axis=1).sum())
    found = stretch(m, uvs, o)
    return Figures(
        piece.islands.count, seam_length(scene, mesh, uvs, of), float(s.world_area[ratio < 1.1].sum() / total), float(s.world_area[ratio < 1.5].sum() / total),
        float("nan") if found is None else found[0], float(ratio.max(initial=1.0)), _folded(uvs, of, piece), bare,
        int(overlapping(piece).sum()), int(_stretched(piece, m, uvs, o).sum()),
    )  # fmt: skip


def overlapping(piece: MeshIslands) -> NDArray[np.bool_]:
    """(n,) islands that overlap themselves by more than rounding."""
    return np.asarray(piece.outlines.self_overlap > _OWN * np.maximum(piece.islands.area, 1e-300))


def _stretched(piece: MeshIslands, mesh: Mesh, uvs: UvChannel, o: MeshObject) -> NDArray[np.bool_]:
    """(n,) islands that are stretched even at the scale that suits each."""
    found = stretch_of_islands(singular_values(mesh, uvs, o), piece.islands.of_triangle, piece.islands.count).l2
    flat = (piece.islands.area <= 0) & (piece.world_area > 0)
    return np.asarray((np.nan_to_num(found, nan=1.0, posinf=np.inf) > _STRETCHED) | flat)


def bad_triangles(scene: Scene, mesh: int, channel: int, piece: MeshIslands | None) -> NDArray[np.bool_]:
    """(T,) triangles of a mesh whose UVs cannot be saved: those without any, and those of islands that fold, overlap themselves or are stretched."""
    m = scene.meshes[mesh]
    uvs = m.channels.get(channel)
    if uvs is None or piece is None:
        return np.ones(len(m.triangles), bool)
    of = np.asarray(piece.islands.of_triangle)
    bad = overlapping(piece) | _stretched(piece, m, uvs, largest_placing(scene, mesh))
    folded = _folded_triangles(uvs, of, piece)
    bad[of[folded]] = True
    return np.where(of >= 0, bad[np.maximum(of, 0)], True)


def _crumbs(skin: Skin, laying: Laying, bad: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(n,) islands of a few faces that lie in space among islands that cannot be saved (n,): saving them one by one would leave a heap of shreds."""
    s, n = skin.surface, len(bad)
    h = np.flatnonzero((s.twin >= 0) & laying.seam)
    mine, other = laying.island[h // 3], laying.island[s.twin[h] // 3]
    h, mine, other = (x[(mine >= 0) & (mine != other)] for x in (h, mine, other))
    around = np.bincount(mine, s.length[h], n)
    lost = np.bincount(mine, s.length[h] * ((other < 0) | bad[np.maximum(other, 0)]), n)
    faces = np.bincount(laying.island[laying.island >= 0], minlength=n)
    return np.asarray((faces < _FEW) & (lost > _SHREDS * around))


def _is_shredded(skin: Skin, faces: NDArray[np.bool_]) -> bool:
    """Whether some faces (F,) are so much of a mesh that what lies among them counts as lost."""
    return float(skin.surface.area[faces].sum()) > _SHREDDED * float(skin.surface.area.sum())


def _among(laying: Laying, faces: NDArray[np.bool_], skin: Skin, count: int) -> NDArray[np.bool_]:
    """(F,) faces of crumbs that lie among those that are made anew (F,)."""
    bad = np.zeros(count, bool)
    for _ in range(20 if _is_shredded(skin, faces) else 0):
        bad[laying.island[faces & (laying.island >= 0)]] = True
        more = _crumbs(skin, laying, bad) & ~bad
        if not more.any():
            break
        faces = faces | (more[np.maximum(laying.island, 0)] & (laying.island >= 0))
    return faces


def _folded(uvs: UvChannel, of: NDArray[np.integer], piece: MeshIslands) -> int:
    """How many triangles are wound against the rest of their island."""
    return int(_folded_triangles(uvs, np.asarray(of), piece).sum())


def _folded_triangles(uvs: UvChannel, of: NDArray[np.integer], piece: MeshIslands) -> NDArray[np.bool_]:
    out = np.zeros(len(of), bool)
    has = np.flatnonzero(of >= 0)
    sign = np.sign(triangle_areas(uvs.uvs, plane_triangles(piece.mesh, uvs)[has]))
    out[has] = sign * np.sign(piece.islands.signed_area)[of[has]] < 0
    return out


def seam_length(scene: Scene, mesh: int, uvs: UvChannel, of: NDArray[np.integer] | None = None) -> float:
    """Metres of edges between two faces whose UVs part there, or that belong to two islands (T,) that lie edge to edge."""
    m, o = scene.meshes[mesh], largest_placing(scene, mesh)
    place = m.points[m.triangles]
    tri = uvs.triangles.astype(np.int64)
    a, b = place.reshape(-1), np.roll(place, -1, axis=1).reshape(-1)
    ua, ub = tri.reshape(-1), np.roll(tri, -1, axis=1).reshape(-1)
    low = a < b
    ends = np.column_stack([np.where(low, a, b), np.where(low, b, a)])
    rows = np.column_stack([np.where(low, ua, ub), np.where(low, ub, ua)])
    values = np.where((rows >= 0)[:, :, None], uvs.uvs[np.maximum(rows, 0)], np.nan).reshape(len(rows), 4)
    key = ends[:, 0] * (int(place.max(initial=0)) + 1) + ends[:, 1]
    order = np.argsort(key, kind="stable")
    first = np.flatnonzero(np.r_[True, key[order][1:] != key[order][:-1]])
    count = np.diff(np.r_[first, len(key)])
    two = first[count == 2]
    one, other = order[two], order[two + 1]
    apart = np.abs(values[one] - values[other]).max(axis=1) > 1e-6
    if of is not None:
        apart |= of[one // 3] != of[other // 3]
    p = m.positions @ o.world[:3, :3].T
    tips = np.column_stack([m.triangles.reshape(-1), np.roll(m.triangles, -1, axis=1).reshape(-1)])[one[apart]]
    return float(np.linalg.norm(p[tips[:, 1]] - p[tips[:, 0]], axis=1).sum())


def beyond_saving(f: Figures) -> list[str]:
    """Why a mesh's UVs cannot be saved by moving islands; empty where they can."""
    out = []
    if f.bare:
        out.append("faces have no UVs" if f.islands else "it has no UVs")
    if f.folded:
        out.append(f"{f.folded} triangles are folded over")
    if f.overlapping:
        out.append(f"{f.overlapping} islands overlap themselves" if f.overlapping > 1 else "an island overlaps itself")
    if f.stretched:
        out.append(f"{f.stretched} islands are stretched" if f.stretched > 1 else "an island is stretched")
    return out


def flattened(
    scene: Scene, mesh: int, channel: int, piece: MeshIslands, stretch: float, root: NDArray[np.int64] | None = None, stop: Stop = lambda: False
) -> Revised | None:  # fmt: skip
    """The UVs of a mesh in which islands that cannot be saved are laid flat again as they are cut; None where none of them comes to lie well.

    Parameters
    ----------
    piece : its islands; stretch : as of `Options`, that they have to keep to; root : see `laying_of`

    Raises
    ------
    Cancelled : it was stopped
    """
    bad = bad_triangles(scene, mesh, channel, piece)
    of = np.asarray(piece.islands.of_triangle)
    if not (bad & (of >= 0)).any():
        return None
    skin, laying = laying_in(scene, mesh, channel, piece, root)
    lost = np.zeros(piece.islands.count, bool)
    lost[of[bad & (of >= 0)]] = True
    shreds = _crumbs(skin, laying, lost) if _is_shredded(skin, bad[skin.kept]) else np.zeros_like(lost)
    islands = np.flatnonzero(lost & ~shreds)
    touched = np.zeros(len(skin.kept), bool)
    for island in islands.tolist():
        if stop():
            raise Cancelled("Stopped. Everything is as it was.")
        try:
            tried, mine = relaxed(skin, laying, island, stop=stop)
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
            continue
        if keeps_to(skin, tried, mine, stretch):
            laying, touched = tried, touched | mine
    return revised(skin, laying, touched) if touched.any() else None


def renewed(
    scene: Scene, meshes: Collection[int], channel: int, options: Options, stop: Stop = lambda: False, tell: Tell = lambda _: None,
    pieces: Sequence[MeshIslands | None] | None = None, roots: Mapping[int, NDArray[np.int64]] | None = None,
) -> tuple[dict[int, Unwrapped], dict[int, str]]:  # fmt: skip
    """New UVs for some meshes of a scene, in metres of the world; and why some could have none.

    Parameters
    ----------
    pieces : the islands that there are, for each mesh: then only those that cannot be saved are made anew; None for everything
    roots : see `laying_of`, for meshes whose UVs were made here

    Raises
    ------
    Cancelled : it was stopped
    """
    out: dict[int, Unwrapped] = {}
    refused: dict[int, str] = {}
    for n in meshes:
        m, o = scene.meshes[n], largest_placing(scene, n)
        old, piece = m.channels.get(channel), None if pieces is None else pieces[n]

        def say(text: str, name: str = m.name) -> None:
            tell(f"{name}: {text}")

        try:
            bad = bad_triangles(scene, n, channel, piece)
            if old is None or piece is None or bad.all():
                out[n] = unwrap(m, options, o.world[:3, :3], old, stop, say)
                continue
            skin, laying = laying_in(scene, n, channel, piece, (roots or {}).get(n))
            faces = bad[skin.kept]
            if faces.any():
                faces |= _among(laying, faces, skin, piece.islands.count)
                out[n] = unwrap_faces(skin, laying, faces, options, old, stop, say)
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
            refused[n] = str(e)
    return out, refused
