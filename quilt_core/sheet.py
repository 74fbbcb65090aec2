"""A sheet: the islands of many meshes in one texture space. Analyse, even, pack, apply.

A layout is one similarity per island on top of the UVs that were read: columns angle (radians), mirror (1 or
-1, applied first, to u), scale, offset u, offset v.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from .density import Spread, densities, even_scales, island_world_areas, spread, world_areas
from .errors import DoesNotFit, QuiltError
from .islands import Islands, find_islands
from .outlines import Outlines, trace_outlines
from .pack import Packing, PackResult, Recipe, Rules, pack
from .pack.shapes import cos_sin
from .scene import Floats, Mesh, MeshObject, Scene

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


def analyse(scene: Scene, channel: int) -> list[MeshIslands | None]:
    """Islands of every mesh of a scene; None for a mesh without UVs in the channel."""
    out: list[MeshIslands | None] = []
    for number, mesh in enumerate(scene.meshes):
        objects = [o for o in scene.objects if o.mesh == number]
        source = mesh.channels.get(channel)
        if source is None or not (source.triangles >= 0).all(axis=1).any():
            out.append(None)
            continue
        islands = find_islands(mesh, source)
        outlines = trace_outlines(source.uvs, source.triangles, islands.of_triangle, islands.count)
        areas = [island_world_areas(islands, world_areas(mesh, o)) for o in objects]
        out.append(MeshIslands(mesh, channel, islands, outlines, objects, areas, source.uvs))
    return out


def transform_rows(uvs: Floats, of_row: NDArray[np.integer], table: Floats) -> Floats:
    """UV rows (W, 2) moved by their islands' similarities (n, 5); rows without an island stay."""
    out = uvs.copy()
    used = of_row >= 0
    t = table[of_row[used]]
    c, s = cos_sin(t[:, 0])
    u, v = uvs[used, 0] * t[:, 1], uvs[used, 1]
    out[used, 0] = t[:, 2] * (c * u - s * v) + t[:, 3]
    out[used, 1] = t[:, 2] * (s * u + c * v) + t[:, 4]
    return out


def transform_regions(regions: NDArray[np.object_], table: Floats) -> NDArray[np.object_]:
    """Regions (n,) moved by similarities (n, 5)."""
    owner = np.repeat(np.arange(len(regions)), shapely.get_num_coordinates(regions))
    return shapely.set_coordinates(regions.copy(), transform_rows(shapely.get_coordinates(regions), owner, table))  # type: ignore[no-any-return]


def object_density(piece: MeshIslands, table: Floats | None, number: int, map_px: float) -> tuple[Floats, Spread | None]:
    """Density (n,) of an object's islands under a layout (None: as read), and its spread."""
    scale = np.ones(piece.islands.count) if table is None else table[:, 2]
    d = densities(piece.islands.area * scale**2, piece.object_areas[number], map_px)
    return d, spread(d, piece.object_areas[number])


@dataclass(frozen=True)
class SheetRules:
    """Rules for single islands, over the islands of all pieces.

    turns : (n,) how each may turn, or None where the recipe alone speaks
    held : (n,) islands that stay where the layout as it is has them
    """

    turns: tuple[str, ...] | None = None
    held: NDArray[np.bool_] | None = None

    def of(self, real: NDArray[np.int64]) -> Rules | None:
        """The packer's rules for the islands (k,) that cover anything."""
        turns = None if self.turns is None else tuple(self.turns[i] for i in real)
        held = None if self.held is None or not self.held[real].any() else self.held[real]
        return None if turns is None and held is None else Rules(rotate=turns, held=held)


@dataclass(frozen=True)
class SheetPacking:
    """Layouts per piece, the packer's result, and the number of flat islands that were only put aside."""

    tables: list[Floats]
    result: PackResult
    flat: int


def pack_sheet(
    pieces: list[MeshIslands],
    recipe: Recipe,
    keep_ratios: bool = False,
    progress: Callable[[list[Floats], Packing], None] | None = None,
    stop: Callable[[], bool] = lambda: False,
    weight: Floats | None = None,
    rules: SheetRules | None = None,
    present: Floats | None = None,
) -> SheetPacking:
    """Even the density of all islands of all pieces and pack them into one sheet.

    Parameters
    ----------
    weight : (n,) over the islands of all pieces, a factor on the density of each; kept ratios have their weights in them
    rules : held islands and turning of single ones
    present : (n, 5) the layout as it is: islands that were flipped back or straightened stay so, and held ones stay in
        their place; None for the UVs as they were read

    Raises
    ------
    QuiltError : nothing to pack
    DoesNotFit : see `pack`; island numbers count through all pieces
    """
    rules = SheetRules() if rules is None else rules
    now = np.tile(IDENTITY, (sum(p.islands.count for p in pieces), 1)) if present is None else present
    sized, real, base = sized_regions(pieces, recipe, keep_ratios, weight, now)
    held = np.zeros(len(real), bool) if rules.held is None else rules.held[real]
    if held.any():
        sized[held] = _hold(pieces, real[held], now, recipe)
    corners = np.concatenate([p.islands.box for p in pieces])
    bounds = np.cumsum([0] + [p.islands.count for p in pieces])

    def layouts(packing: Packing) -> list[Floats]:
        table = _tables(packing, base, real, corners, recipe)
        table[real[held]] = now[real[held]]
        return np.split(table, bounds[1:-1])

    try:
        result = pack(sized, recipe, (lambda p: progress(layouts(p), p)) if progress else None, stop, rules.of(real))
    except DoesNotFit as e:
        raise DoesNotFit(str(e), [int(real[i]) for i in e.islands], e.best_density) from e
    return SheetPacking(layouts(result.best), result, len(base) - len(real))


def _hold(pieces: list[MeshIslands], mine: NDArray[np.int64], present: Floats, recipe: Recipe) -> NDArray[np.object_]:
    """The held islands `mine` as regions where the present layout (n, 5) has them.

    Raises
    ------
    QuiltError : one of them is not inside one tile of the sheet
    """
    regions = np.concatenate([p.outlines.regions for p in pieces])
    placed = transform_regions(regions[mine], present[mine])
    box = shapely.bounds(placed)
    tile = np.floor(0.5 * (box[:, :2] + box[:, 2:]))
    out = (box[:, :2] < tile - 1e-6).any(axis=1) | (box[:, 2:] > tile + 1 + 1e-6).any(axis=1)
    out |= (tile < 0).any(axis=1) | (tile[:, 0] >= recipe.columns) | (tile[:, 1] >= recipe.rows)
    if out.any():
        raise QuiltError(f"{int(out.sum())} held islands lie outside the sheet. Bring them into the tile first, or let them go.")
    return placed


def sized_regions(
    pieces: list[MeshIslands], recipe: Recipe, keep_ratios: bool = False, weight: Floats | None = None, present: Floats | None = None
) -> tuple[NDArray[np.object_], NDArray[np.int64], Floats]:
    """What goes into the packer: regions (k,) of the islands that cover anything, turned and mirrored as in the `present`
    layout (n, 5), at their relative sizes (at a held density, at their size in UV); the numbers (k,) of these islands among
    all n; and the similarities (n, 5) that made them so.

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
    factor = np.ones(len(regions)) if keep_ratios else even_scales(uv_area, world, group)
    if weight is not None and not keep_ratios:
        factor = factor * weight
    if recipe.density is not None:
        factor = factor * _held(uv_area, world, recipe, keep_ratios)
    real = np.flatnonzero(~shapely.is_empty(regions))
    if not len(real):
        raise QuiltError("There is nothing to pack: all islands have no area in the UV plane. Unwrap them first.")
    base[:, 2] *= factor
    return transform_regions(regions[real], base[real]), real, base


def _held(uv_area: Floats, world: Floats, recipe: Recipe, keep_ratios: bool) -> float:
    """Factor that brings the islands to the held density (their median, when ratios are kept)."""
    assert recipe.density is not None
    if not keep_ratios:
        return recipe.density / recipe.map_px
    now = spread(densities(uv_area, world, recipe.map_px), world)
    if now is None:
        raise QuiltError("There is no density to hold: no island has an area both on the model and in the UV plane.")
    return recipe.density / now.median


def _tables(packing: Packing, base: Floats, real: NDArray[np.int64], box: Floats, recipe: Recipe) -> Floats:
    """The packer's similarities after those (n, 5) that sized the islands. With M = diag(-1, 1): M R(a) = R(-a) M."""
    out = np.tile(IDENTITY, (len(base), 1))
    out[real, 0] = packing.angle + packing.mirror * base[real, 0]
    out[real, 1], out[real, 2] = packing.mirror * base[real, 1], packing.scale * base[real, 2]
    out[real, 3:] = packing.offset
    # Flat islands cover no texel: they shrink to half a texel at the margin of the first tile.
    flat = np.ones(len(base), bool)
    flat[real] = False
    size = np.maximum((box[flat, 2:] - box[flat, :2]).max(axis=1), 1e-12)
    out[flat, 2] = np.minimum(1.0, 0.5 / recipe.map_px / size)
    out[flat, 3:] = (recipe.margin_px + 0.25) / recipe.map_px - out[flat, 2:3] * box[flat, :2]
    return out
