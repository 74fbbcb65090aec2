"""How large the islands of a sheet are against each other: one density for all, kept sizes or texels, and no island so long that no map could hold it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import QuiltError
from ..model.scene import Floats, Scene
from ..pack import Recipe
from ..uv.analysis import IDENTITY, MeshIslands, transform_regions
from ..uv.areas import triangle_areas
from ..uv.density import densities, even_scales, spread

_ENDLESS = 16.0


@dataclass(frozen=True)
class Sized:
    """What goes into the packer.

    regions : (k,) at their relative sizes (at a held density, at their size in UV); real : (k,) their numbers among all n islands
    base : (n, 5) similarities that made them so; endless : numbers of those that were made shorter, since no map could hold them
    """

    regions: NDArray[np.object_]
    real: NDArray[np.int64]
    base: Floats
    endless: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))


def sized_regions(
    pieces: list[MeshIslands],
    recipe: Recipe,
    keep_ratios: bool = False,
    weight: Floats | None = None,
    present: Floats | None = None,
    lead: NDArray[np.int64] | None = None,
    only: NDArray[np.bool_] | None = None,
    held: NDArray[np.bool_] | None = None,
) -> Sized:
    """What goes into the packer: the islands that cover anything, turned and mirrored as in the `present` layout (n, 5). Islands that follow another one
    (`lead` (n,)) do not go in, nor do those that are not among `only` (n,); those that are `held` (n,) are never made shorter.

    Raises
    ------
    QuiltError : nothing to pack
    """
    if not pieces:
        raise QuiltError("There is nothing to pack: no chosen object has UVs in this channel.")
    base = np.tile(IDENTITY, (sum(p.islands.count for p in pieces), 1))
    if present is not None:
        base[:, :3] = present[:, :3]
    uv_area = np.concatenate([p.islands.area for p in pieces]) * base[:, 2] ** 2
    world = np.concatenate([p.world_area for p in pieces])
    regions = np.concatenate([p.outlines.regions for p in pieces])
    group = np.repeat(np.arange(len(pieces)), [p.islands.count for p in pieces])
    goes = ~shapely.is_empty(regions)
    if lead is not None:
        goes &= lead == np.arange(len(lead))
    if only is not None:
        goes &= only
    real = np.flatnonzero(goes)
    if not len(real):
        raise QuiltError(
            "There is nothing to pack: all islands have no area in the UV plane. Unwrap them first."
            if only is None or only.any()
            else "There is nothing to pack: no island lies on an open tile of this sheet. Move objects to it first."
        )
    factor = np.ones(len(regions)) if keep_ratios else even_scales(uv_area, world, group)
    if weight is not None:
        factor = factor * weight
    if recipe.density is not None:
        shown = uv_area * factor**2 if keep_ratios else uv_area
        factor = factor * _held(shown[real], world[real], recipe, keep_ratios)
    base[:, 2] *= factor
    return _shortened(Sized(transform_regions(regions[real], base[real]), real, base), None if held is None else held[real])


def _shortened(found: Sized, held: NDArray[np.bool_] | None) -> Sized:
    """The same with its endless islands an eighth as long as the square is wide that all others would fill."""
    long = endless(found.regions, np.zeros(len(found.real), bool) if held is None else held)
    if not long.any():
        return found
    regions, base = found.regions.copy(), found.base.copy()
    side = math.sqrt(max(float(shapely.area(regions[~long]).sum()), 1e-300))
    smaller = np.tile(IDENTITY, (int(long.sum()), 1))
    smaller[:, 2] = side / 8 / _length(regions[long])
    regions[long] = transform_regions(regions[long], smaller)
    base[found.real[long], 2] *= smaller[:, 2]
    return Sized(regions, found.real, base, found.real[long])


def _length(regions: NDArray[np.object_]) -> Floats:
    """The longer side (k,) of each region's box."""
    box = shapely.bounds(regions)
    return np.asarray(np.maximum(box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]))


def painted_texels(before: Scene, mesh: int, per_unit: Floats) -> Floats:
    """How many texels each triangle (T,) of a mesh was painted with, NaN where it was not.

    Parameters
    ----------
    before : the file as its pictures read it; per_unit : by material, texels along a unit of UV, NaN for none (see `pictures.texels_per_unit`)
    """
    found = before.meshes[mesh]
    out = np.full(len(found.triangles), np.nan)
    for number in np.unique(found.materials[found.materials >= 0]).tolist():
        maps = before.materials[number].maps
        shown = maps.get("base colour") or next(iter(maps.values()), None)
        channel = None if shown is None else found.channels.get(shown.channel)
        if channel is not None and np.isfinite(per_unit[number]):
            mine = (found.materials == number) & (channel.triangles >= 0).all(axis=1)
            out[mine] = np.abs(triangle_areas(channel.uvs, channel.triangles[mine])) * per_unit[number] ** 2
    return out


def texel_ratios(pieces: list[MeshIslands], texels: Sequence[Floats], present: Floats | None = None) -> Floats:
    """What the present size of each island (n,) is multiplied by, so that all have as many texels, against each other, as they were painted with.

    Parameters
    ----------
    texels : for each piece those of its triangles (T,), see `painted_texels`; islands without paint take the median of the others
    present : (n, 5) the layout as it is; None for the UVs as they were read
    """
    out = []
    for piece, painted in zip(pieces, texels, strict=True):
        of, count = piece.islands.of_triangle, piece.islands.count
        source = piece.mesh.channels[piece.channel]
        use = (of >= 0) & np.isfinite(painted)
        area = np.abs(triangle_areas(source.uvs, np.maximum(source.triangles[use], 0)))
        with np.errstate(divide="ignore", invalid="ignore"):
            out.append(np.sqrt(np.bincount(of[use], painted[use], count) / np.bincount(of[use], area, count)))
    whole = np.concatenate(out) if out else np.zeros(0)
    known = np.isfinite(whole) & (whole > 0)
    if not known.any():
        return np.ones(len(whole))
    usual = np.median(whole[known])
    ratio = np.where(known, whole, usual) / usual
    return np.asarray(ratio if present is None else ratio / present[:, 2])


def endless(sized: NDArray[np.object_], held: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which regions (k,) are longer than 16 times the side of the square that all together would fill: a map that holds one has less than a 256th of
    it covered. They come from triangles that are next to nothing in the UV plane, and evening their density makes them that long.

    Parameters
    ----------
    sized : (k,) regions at their relative sizes; held : (k,) bool, those that stay where they are and are never endless
    """
    long, area = _length(sized), shapely.area(sized)
    out = np.zeros(len(sized), bool)
    order = [i for i in np.argsort(-long) if not held[i]]
    left = float(area.sum())
    for i in order:
        if len(sized) - out.sum() <= 1 or long[i] <= _ENDLESS * math.sqrt(max(left, 0.0)):
            break
        out[i] = True
        left -= float(area[i])
    return out


def _held(uv_area: Floats, world: Floats, recipe: Recipe, keep_ratios: bool) -> float:
    """Factor that brings the islands to the held density (their median, when ratios are kept)."""
    assert recipe.density is not None
    if not keep_ratios:
        return recipe.density / recipe.map_px
    now = spread(densities(uv_area, world, recipe.map_px), world)
    if now is None:
        raise QuiltError("There is no density to hold: no island has an area both on the model and in the UV plane.")
    return recipe.density / now.median
