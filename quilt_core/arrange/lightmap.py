"""UVs for a light map: every surface once, at one density, apart by whole texels of a small map, in the unit square of its own object.

What lies double in other channels on purpose (twins, stacks, tiling) lies apart here, since light falls on each place by itself.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ..errors import DoesNotFit, QuiltError
from ..model.scene import Floats
from ..model.similarity import applied
from ..pack import Recipe, pack
from ..unwrap.meshes import Options, unwrap_faces
from ..unwrap.parts import outlines
from ..unwrap.pieces import piece_of, unsound
from ..unwrap.skin import Laying, Revised, Skin, laying_of, revised
from ..unwrap.topology import Cut, Mask, borders, cut
from ..uv.areas import signed_areas

LEAST_PX, MOST_PX = 16, 4096


@dataclass(frozen=True)
class LightMap:
    """revised : the UVs of the channel; coverage : share of the square; anew : faces (F,) whose islands were made anew, since they could not be used as they lay"""

    revised: Revised
    coverage: float
    anew: Mask


def light_map(
    skin: Skin, laying: Laying, px: int, texels: float, seconds: float = 2.0, stop: Callable[[], bool] = lambda: False
) -> LightMap:
    """Lay a mesh out for a light map.

    Parameters
    ----------
    laying : how it lies in the channel whose islands are used; nothing need be laid out
    px : side of the map; texels : least distance between islands, and to the border by half of it

    Raises
    ------
    QuiltError : a size that is none, or so many islands that they do not fit
    """
    if not LEAST_PX <= px <= MOST_PX or not 0 <= texels < px / 4:
        raise QuiltError(f"A light map is {LEAST_PX} to {MOST_PX} px wide, with a distance under a quarter of that.")
    laying, anew = _usable(skin, laying, stop)
    s = skin.surface
    c = cut(s, laying.seam)
    uv = _even(skin, laying, c)
    regions = outlines(c, borders(s, c, laying.seam), uv)
    # A texel more than is asked for: that much may be lost where islands come onto the grid.
    recipe = Recipe(px, texels + 1, (texels + 1) / 2, "90", seconds=seconds)
    try:
        best = pack(regions, recipe, stop=stop).best
    except DoesNotFit as e:
        raise QuiltError(f"{skin.mesh.name}: {e}") from e
    rows = np.column_stack([best.angle, best.mirror, best.scale, best.offset])
    uv = applied(rows[c.chart_of_row], uv)
    for chart in range(c.charts):
        mine = c.chart_of_row == chart
        low = uv[mine].min(axis=0) * px
        uv[mine] += (np.round(low) - low) / px
    out = replace(laying, uv=uv[c.rows], island=c.chart)
    return LightMap(revised(skin, out, np.ones(len(s.faces), bool)), best.coverage, anew)


def _usable(skin: Skin, laying: Laying, stop: Callable[[], bool]) -> tuple[Laying, Mask]:
    """The laying with islands that fold, overlap themselves or are not there made anew, and which faces (F,) these are."""
    s = skin.surface
    bad = laying.bare.copy()
    seam = laying.seam | np.repeat(bad, 3)
    h = np.flatnonzero(s.twin >= 0)
    # Two islands are two, whatever their UVs; what has none hangs together.
    parts = laying.island[h // 3] != laying.island[s.twin[h] // 3]
    seam[h[parts]] = True
    c = cut(s, seam)
    for k in np.unique(c.chart[~bad]).tolist():
        faces = c.members[k]
        piece = piece_of(s, faces, seam)
        rows = piece.mean(laying.uv[faces])
        if unsound(piece, rows) and unsound(piece, rows * [-1.0, 1.0]):
            bad[faces] = True
    if not bad.any():
        return laying, bad
    made = unwrap_faces(skin, laying, bad, Options(), stop=stop).revised
    return laying_of(skin, made.channel, made.island, made.root), bad


def _even(skin: Skin, laying: Laying, c: Cut) -> Floats:
    """UVs (W, 2) of the rows, not mirrored, every chart at the scale of its surface."""
    out = np.zeros((c.count, 2))
    out[c.rows.reshape(-1)] = laying.uv.reshape(-1, 2)
    flat = np.bincount(c.chart, signed_areas(laying.uv), c.charts)
    solid = np.bincount(c.chart, skin.surface.area, c.charts)
    scale = np.sqrt(solid / np.maximum(np.abs(flat), 1e-300))[c.chart_of_row]
    return out * np.column_stack([scale * np.sign(flat)[c.chart_of_row], scale])
