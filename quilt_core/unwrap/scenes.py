"""Which meshes of a scene have UVs that cannot be saved, their figures before and after, and new UVs for those that are chosen."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import QuiltError
from ..model.scene import MeshObject, Scene, UvChannel
from ..uv.analysis import MeshIslands
from ..uv.density import world_areas
from ..uv.islands import number_rows, triangle_areas
from ..uv.stretch import singular_values, stretch
from .charts import Stop, Tell
from .meshes import Options, Unwrapped, unwrap

_OWN = 1e-6  # of an island's area that lies double: more is no rounding
_STRETCHED = 1.5  # Sander's L2 of a whole mesh: above, most of it shows


def largest_placing(scene: Scene, mesh: int) -> MeshObject:
    """The object that shows a mesh largest: its density is the least, so its shape counts."""
    return max((o for o in scene.objects if o.mesh == mesh), key=lambda o: float(world_areas(scene.meshes[mesh], o).sum()))


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

    def as_dict(self) -> dict[str, Any]:
        """For `report.json`."""
        return {
            "islands": self.islands, "seam_m": round(self.seam_m, 5),
            "stretch": {
                "share_under_1_1": round(self.under_1_1, 5), "share_under_1_5": round(self.under_1_5, 5),
                "l2": round(self.l2, 5) if np.isfinite(self.l2) else None, "worst": round(self.worst, 4) if np.isfinite(self.worst) else None,
            },
            "folded": self.folded, "without_uvs": self.bare, "overlapping": self.overlapping,
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
    own = piece.outlines.self_overlap
    found = stretch(m, uvs, o)
    return Figures(
        piece.islands.count, seam_length(scene, mesh, uvs), float(s.world_area[ratio < 1.1].sum() / total), float(s.world_area[ratio < 1.5].sum() / total),
        float("nan") if found is None else found[0], float(ratio.max(initial=1.0)), _folded(uvs, of, piece), bare,
        int((own > _OWN * np.maximum(piece.islands.area, 1e-300)).sum()),
    )  # fmt: skip


def _folded(uvs: UvChannel, of: NDArray[np.integer], piece: MeshIslands) -> int:
    """Triangles that are wound against the rest of their island."""
    has = np.asarray(of) >= 0
    sign = np.sign(triangle_areas(uvs.uvs, uvs.triangles[has]))
    whole = np.sign(piece.islands.signed_area)[np.asarray(of)[has]]
    return int((sign * whole < 0).sum())


def seam_length(scene: Scene, mesh: int, uvs: UvChannel) -> float:
    """Metres of edges between two faces whose UVs part there."""
    m, o = scene.meshes[mesh], largest_placing(scene, mesh)
    place = number_rows(m.positions)[0][m.triangles]
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
    if f.islands and np.isfinite(f.l2) and f.l2 > _STRETCHED:
        out.append(f"it is stretched (L2 {f.l2:.2f})")
    return out


def renewed(
    scene: Scene, meshes: Collection[int], channel: int, options: Options, stop: Stop = lambda: False, tell: Tell = lambda _: None
) -> tuple[dict[int, Unwrapped], dict[int, str]]:
    """New UVs for some meshes of a scene, in metres of the world; and why some could have none.

    Raises
    ------
    Cancelled : it was stopped
    """
    out: dict[int, Unwrapped] = {}
    refused: dict[int, str] = {}
    for n in meshes:
        m, o = scene.meshes[n], largest_placing(scene, n)
        try:
            out[n] = unwrap(m, options, o.world[:3, :3], m.channels.get(channel), stop, lambda text, name=m.name: tell(f"{name}: {text}"))  # type: ignore[misc]
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
            refused[n] = str(e)
    return out, refused
