"""Arranging a sheet: what goes into the packer and how its answer becomes a layout. Even, pack, follow the rules.

A layout is one similarity per island on top of the UVs that were read: columns angle (radians), mirror (1 or
-1, applied first, to u), scale, offset u, offset v.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import DoesNotFit, QuiltError
from ..model.scene import Floats
from ..model.tiles import Grid, column_row, corners_of, numbers_at
from ..pack import Packing, PackResult, Recipe, Rules, Start, pack
from ..uv.analysis import IDENTITY, MeshIslands, transform_regions
from ..uv.twins import follow, leaders
from .bunches import Bunches
from .sizes import sized_regions
from .tiling import PackedTile, Tiling, fill_each, pack_belonging

Stop = Callable[[], bool]


_POINT = 1e-12  # UV units: under what 32 bits tell apart anywhere but at 0


@dataclass(frozen=True)
class SheetRules:
    """Rules for single islands and tiles, over the n islands of all pieces.

    rotations : (n,) how each may turn, or None where the recipe alone speaks
    held : (n,) islands that stay where the layout as it is has them
    twins : (n,) group of islands that share their texels, -1 for none: one of each group is packed, those that lie on it follow
    only : (n,) the islands that lie on this sheet; None for all. Others stay as they are
    bunch : (n,) group of islands that are packed tightly among themselves, -1 for none
    strict : groups of `bunch` that no foreign island may reach into, not even between the islands
    closed : UDIM numbers of tiles that stay as they are, with all that lies in them
    free : regions kept free: UDIM number and box (least u, least v, greatest u, greatest v) inside that tile
    kind : (n,) material of each island; islands of different kinds keep `apart_px` between them where that is more than the padding
    tile : (n,) UDIM number of the tile that each belongs to, 0 for any
    go_on : start from the layout as it is; where that does not keep its gaps, from a new one
    refuse_endless : raise where there are islands that no map could hold (see `sizes`), instead of making them shorter
    """

    rotations: tuple[str, ...] | None = None
    held: NDArray[np.bool_] | None = None
    twins: NDArray[np.int64] | None = None
    only: NDArray[np.bool_] | None = None
    bunch: NDArray[np.int64] | None = None
    strict: frozenset[int] = frozenset()
    closed: frozenset[int] = frozenset()
    free: tuple[tuple[int, tuple[float, float, float, float]], ...] = ()
    kind: NDArray[np.int64] | None = None
    apart_px: float = 0.0
    tile: NDArray[np.int64] | None = None
    go_on: bool = False
    refuse_endless: bool = False


@dataclass(frozen=True)
class SheetPacking:
    """Layouts per piece, the packer's result, which islands (n,) it laid anew, the number of flat islands that were only put aside, the endless islands (see `sizes`), which got a place at less than
    their density, and for islands that belong to tiles how each of these was filled, by UDIM number."""

    transforms: list[Floats]
    result: PackResult
    laid: NDArray[np.bool_]
    flat: int
    shrunk: tuple[int, ...] = ()
    tiles: tuple[PackedTile, ...] = ()


@dataclass
class _Tiles:
    """The open tiles of a sheet as the packer sees them: one above the other, wherever they lie on the sheet."""

    recipe: Recipe
    corner: Floats = field(default_factory=lambda: np.zeros((0, 2)))

    @staticmethod
    def of(recipe: Recipe, closed: frozenset[int]) -> _Tiles:
        """The recipe for the open tiles alone.

        Raises
        ------
        QuiltError : all are closed
        """
        numbers = Grid(recipe.map_px, recipe.columns, recipe.rows).numbers
        open_ = [k for k, n in enumerate(numbers) if n not in closed]
        if not open_:
            raise QuiltError("All tiles of this sheet are held. Let one go, so that there is something to pack into.")
        corner = np.array([column_row(numbers[k]) for k in open_], float)
        if len(open_) == len(numbers):
            return _Tiles(recipe, corner)
        columns = next((c for c in range(1, 11) if len(open_) % c == 0 and len(open_) // c <= 100), None)
        if columns is None:
            raise QuiltError(f"{len(open_)} open tiles cannot be packed at once. Hold one more, or let one go.")
        sizes = None if recipe.tile_px is None else tuple(recipe.tile_px[k] for k in open_)
        return _Tiles(replace(recipe, columns=columns, rows=len(open_) // columns, tile_px=sizes), corner)

    @property
    def seen(self) -> Floats:
        """Corner (k, 2) of each open tile as the packer has it."""
        k = np.arange(len(self.corner))
        return np.column_stack([k % self.recipe.columns, k // self.recipe.columns]).astype(float)

    def udim(self, number: int) -> int:
        """The UDIM number of an open tile."""
        return int(numbers_at(self.corner[[number]])[0])

    def name(self, number: int) -> str:
        """What an open tile is called in messages."""
        return f"Tile {self.udim(number)}"

    def number_of(self, udim: int) -> int:
        """Which open tile has a UDIM number; -1 for none."""
        return int(self.number(np.array([column_row(udim)], float))[0])

    def number(self, corner: Floats) -> NDArray[np.int64]:
        """Which open tile has the lower left corner (n, 2) on the sheet; -1 for none."""
        same = (corner[:, None, :] == self.corner[None, :, :]).all(axis=2)
        return np.where(same.any(axis=1), same.argmax(axis=1), -1)


def pack_sheet(
    pieces: list[MeshIslands],
    recipe: Recipe,
    keep_ratios: bool = False,
    progress: Callable[[list[Floats], Packing], None] | None = None,
    stop: Stop = lambda: False,
    weight: Floats | None = None,
    rules: SheetRules | None = None,
    present: Floats | None = None,
) -> SheetPacking:
    """Even the density of all islands of all pieces and pack them into one sheet.

    Parameters
    ----------
    recipe : with its `fill` "each", every tile is filled to its border after the islands were shared out among the tiles
    weight : (n,) over the islands of all pieces, a factor on the density of each; with kept ratios a factor on the size of each (see `texel_ratios`)
    rules : what holds for single islands and tiles
    present : (n, 5) the layout as it is: islands that were flipped back or straightened stay so, and held ones stay in
        their place; None for the UVs as they were read

    Raises
    ------
    QuiltError : nothing to pack, or a layout that cannot be gone on from
    DoesNotFit : see `pack`; island numbers count through all pieces
    """
    rules = SheetRules() if rules is None else rules
    now = np.tile(IDENTITY, (sum(p.islands.count for p in pieces), 1)) if present is None else present
    tiles = _Tiles.of(recipe, rules.closed)
    lead = leaders_of(pieces, now, rules.twins)
    here = _on_open_tiles(pieces, now, rules)
    held = np.zeros(len(now), bool)
    if rules.held is not None:
        np.logical_or.at(held, lead, rules.held)  # whoever holds a twin holds the one that leads it
    found = sized_regions(pieces, recipe, keep_ratios, weight, now, lead, here, held)
    sized, real, base, held = found.regions, found.real, found.base, held[found.real]
    if len(found.endless) and rules.refuse_endless:
        raise DoesNotFit(
            f"{len(found.endless)} islands are so long and thin at the common density that no map could hold them.", found.endless.tolist()
        )
    if held.any():
        sized[held] = _hold(pieces, real[held], now, tiles)
    corners = np.concatenate([p.islands.box for p in pieces])
    bounds = np.cumsum([0] + [p.islands.count for p in pieces])
    mine = (rules.only if rules.only is not None else np.ones(len(now), bool)) & here

    def layouts(packing: Packing) -> list[Floats]:
        similarities = _transforms(packing, base, real, corners, recipe, tiles, mine & (lead == np.arange(len(lead))), now)
        similarities[real[held]] = now[real[held]]
        return np.split(follow(now, similarities, lead), bounds[1:-1])

    rotations = None if rules.rotations is None else tuple(rules.rotations[i] for i in real)
    bunches = _together(rules, real, sized, recipe)
    belongs = _belongs(rules, tiles, lead, real, held)
    start = None
    if (rules.go_on or held.any()) and bunches is None and not rules.free and belongs is None:
        # Around held islands it may take luck to find again what lay there: the layout as it is counts too.
        start = _start(pieces, now, real, base, held, tiles, rules.go_on)
    if rules.go_on and start is None:
        raise QuiltError(
            "A search cannot go on from this layout: its islands have other sizes than the recipe gives them, lie outside the open tiles, or "
            "there are bunches, regions kept free or parts that belong to tiles, which are laid out anew each time. Pack the sheet instead."
        )
    ruled = Rules(rotate=rotations, held=held if held.any() else None, start=start)
    try:
        tell = (lambda p: progress(layouts(p), p)) if progress else None
        result, filled = _pack(sized, tiles.recipe, ruled, bunches, _obstacles(rules, tiles), belongs, tiles.name, tell, stop)
    except DoesNotFit as e:
        raise DoesNotFit(str(e), [int(real[i]) for i in e.islands if i < len(real)], e.best_density) from e
    flat = int((mine & (lead == np.arange(len(lead)))).sum()) - len(real)
    told = tuple(replace(f, tile=tiles.udim(f.tile)) for f in filled)
    return SheetPacking(layouts(result.best), result, np.isin(lead, real[~held]), flat, tuple(found.endless.tolist()), told)


def _pack(
    sized: NDArray[np.object_], recipe: Recipe, rules: Rules, bunches: Bunches | None, obstacles: NDArray[np.object_], belongs: NDArray[np.int64] | None,
    name: Callable[[int], str], progress: Callable[[Packing], None] | None, stop: Stop,
) -> tuple[PackResult, tuple[PackedTile, ...]]:  # fmt: skip
    """Pack regions around obstacles, bunches as one thing each, into the tiles that they belong to; or over all tiles, and then fill every tile on its own
    where that is asked for."""
    whole, fixed = sized, rules
    if len(obstacles):
        whole = np.concatenate([sized, obstacles])
        extra = len(obstacles)
        none = np.zeros(len(sized), bool) if rules.held is None else rules.held
        rotations = None if rules.rotate is None else (*rules.rotate, *("none",) * extra)
        fixed = Rules(rotate=rotations, held=np.r_[none, np.ones(extra, bool)], start=None)
    covered = _share(obstacles, recipe)

    def without(p: Packing) -> Packing:
        n = len(sized)
        return replace(
            p, scale=p.scale[:n], angle=p.angle[:n], mirror=p.mirror[:n], offset=p.offset[:n], tile=p.tile[:n], coverage=p.coverage - covered
        )  # fmt: skip

    tell = (lambda p: progress(without(p))) if progress else None
    if belongs is not None:
        tiling = Tiling(whole, recipe, replace(fixed, start=None), bunches)
        result, filled = pack_belonging(tiling, np.r_[belongs, np.full(len(obstacles), -1)], name, tell, stop)
        return replace(result, best=without(result.best)), filled
    run = pack if bunches is None or not bunches.any() else bunches.pack
    share = recipe.part(0.5) if recipe.fill == "each" and recipe.tiles > 1 else recipe
    result = run(whole, share, tell, stop, fixed)
    if recipe.fill == "each" and recipe.tiles > 1 and not result.stopped:
        result = fill_each(Tiling(whole, recipe, fixed, bunches), result, tell, stop)
    return replace(result, best=without(result.best)), ()


def _share(obstacles: NDArray[np.object_], recipe: Recipe) -> float:
    """Share of all texels under regions that are kept free, each in the packer's tile that it lies in."""
    if not len(obstacles):
        return 0.0
    corner = corners_of(shapely.bounds(obstacles)).astype(np.int64)
    weight = recipe.ratio**2
    return float((shapely.area(obstacles) * weight[corner[:, 1] * recipe.columns + corner[:, 0]]).sum() / weight.sum())


def _belongs(
    rules: SheetRules, tiles: _Tiles, lead: NDArray[np.int64], real: NDArray[np.int64], held: NDArray[np.bool_]
) -> NDArray[np.int64] | None:
    """The packer's tile of every region, -1 for any; None where none is ruled. What leads twins belongs where any of them does."""
    if rules.tile is None or not (rules.tile > 0).any():
        return None
    asked = np.zeros(len(lead), np.int64)
    np.maximum.at(asked, lead, rules.tile)
    asked = np.where(held, 0, np.where(rules.tile > 0, rules.tile, asked)[real])
    numbers = np.array([tiles.number_of(int(n)) if n > 0 else -1 for n in asked], np.int64)
    lost = np.unique(asked[(asked > 0) & (numbers < 0)])
    if len(lost):
        raise QuiltError(
            f"{int(np.isin(asked, lost).sum())} islands belong to tile {', '.join(str(n) for n in lost)}, which this sheet does not have or holds. "
            "Add it, let it go, or send them elsewhere."
        )  # fmt: skip
    return numbers


def _together(rules: SheetRules, real: NDArray[np.int64], sized: NDArray[np.object_], recipe: Recipe) -> Bunches | None:
    """The bunches among the islands that are packed, and which islands keep a wider gap; None where there is neither."""
    group = np.full(len(real), -1) if rules.bunch is None else rules.bunch[real]
    wider = np.zeros(len(real), bool)
    extra = rules.apart_px - recipe.padding_px
    if rules.kind is not None and extra > 0:
        kind = rules.kind[real]
        length = shapely.length(sized)
        around = {int(k): float(length[kind == k].sum()) for k in np.unique(kind)}
        # The kind with the longest outlines keeps the padding; all others bring the rest of the gap with them.
        wider = kind != max(around, key=around.__getitem__)
    bunches = Bunches(group, rules.strict, wider, max(0.0, extra))
    return bunches if bunches.any() else None


def _start(
    pieces: list[MeshIslands], now: Floats, real: NDArray[np.int64], base: Floats, held: NDArray[np.bool_], tiles: _Tiles, alone: bool
) -> Start | None:
    """The layout as it is, for the packer to go on from or to beat; None where it has other sizes or lies outside the open tiles."""
    regions = np.concatenate([p.outlines.regions for p in pieces])
    box = shapely.bounds(transform_regions(regions[real], now[real]))
    corner = corners_of(box)
    number = tiles.number(corner)
    if (number < 0).any():
        return None
    common = now[real, 2] / base[real, 2] * tiles.recipe.ratio[number]
    free = common[~held]
    if not len(free) or np.ptp(free) > 1e-6 * free.max():
        return None
    middle = 0.5 * (box[:, :2] + box[:, 2:]) + (tiles.seen[number] - corner)
    return Start(middle, float(free.min()), alone)


def _on_open_tiles(pieces: list[MeshIslands], now: Floats, rules: SheetRules) -> NDArray[np.bool_]:
    """(n,) which islands take part: those of this sheet that do not lie in a closed tile."""
    here = np.ones(len(now), bool) if rules.only is None else rules.only.copy()
    if rules.closed and len(now):
        box = shapely.bounds(transform_regions(np.concatenate([p.outlines.regions for p in pieces]), now))
        corner = corners_of(box)
        for n in rules.closed:
            here &= ~(corner == column_row(n)).all(axis=1)
        if rules.tile is not None:
            # What belongs to an open tile comes there from wherever it lies.
            mine = np.ones(len(now), bool) if rules.only is None else rules.only
            here |= mine & (rules.tile > 0) & ~np.isin(rules.tile, list(rules.closed))
            here &= ~np.isin(rules.tile, list(rules.closed)) | (False if rules.held is None else rules.held)
    return here


def _obstacles(rules: SheetRules, tiles: _Tiles) -> NDArray[np.object_]:
    """The regions that are kept free, where the packer has their tiles."""
    out = []
    for n, box in rules.free:
        k = int(tiles.number(np.array([column_row(n)], float))[0])
        if k >= 0:
            u, v = tiles.seen[k]
            out.append(shapely.box(u + box[0], v + box[1], u + box[2], v + box[3]))
    return np.array(out, object)


def leaders_of(pieces: list[MeshIslands], present: Floats, twins: NDArray[np.int64] | None) -> NDArray[np.int64]:
    """The island that each island (n,) follows under a layout (n, 5), itself where there are no twins; see `twins.leaders`.

    Parameters
    ----------
    pieces : the meshes of a sheet with n islands in all
    present : (n, 5) similarities of the layout
    twins : (n,) group of each island, -1 for none; None for no twins

    Returns
    -------
    (n,) number of the island that each follows
    """
    if twins is None or not (twins >= 0).any():
        return np.arange(len(present))
    placed = transform_regions(np.concatenate([p.outlines.regions for p in pieces]), present)
    return leaders(placed, twins, np.concatenate([p.world_area for p in pieces]))


def _hold(pieces: list[MeshIslands], mine: NDArray[np.int64], present: Floats, tiles: _Tiles) -> NDArray[np.object_]:
    """The held islands `mine` as regions where the present layout (n, 5) has them, in the packer's tiles.

    Raises
    ------
    QuiltError : one of them is not inside one tile of the sheet
    """
    regions = np.concatenate([p.outlines.regions for p in pieces])
    placed = transform_regions(regions[mine], present[mine])
    box = shapely.bounds(placed)
    corner = corners_of(box)
    number = tiles.number(corner)
    out = (box[:, :2] < corner - 1e-6).any(axis=1) | (box[:, 2:] > corner + 1 + 1e-6).any(axis=1) | (number < 0)
    if out.any():
        raise QuiltError(f"{int(out.sum())} held islands lie outside the sheet. Bring them into the tile first, or let them go.")
    shift = np.tile(IDENTITY, (len(mine), 1))
    shift[:, 3:] = tiles.seen[number] - corner
    return transform_regions(placed, shift)


def _transforms(
    packing: Packing,
    base: Floats,
    real: NDArray[np.int64],
    box: Floats,
    recipe: Recipe,
    tiles: _Tiles,
    mine: NDArray[np.bool_],
    now: Floats,
) -> Floats:
    """The packer's similarities after those (n, 5) that sized the islands. With M = diag(-1, 1): M R(a) = R(-a) M."""
    out = now.copy()
    out[real, 0] = packing.angle + packing.mirror * base[real, 0]
    out[real, 1], out[real, 2] = packing.mirror * base[real, 1], packing.scale * base[real, 2]
    out[real, 3:] = packing.offset + (tiles.corner - tiles.seen)[packing.tile]
    # Flat islands cover no texel: they shrink to a point at the margin of the first tile, where nothing that is written gives them an area.
    flat = mine.copy()
    flat[real] = False
    size = np.maximum((box[flat, 2:] - box[flat, :2]).max(axis=1), 1e-12)
    out[flat, :2] = IDENTITY[:2]
    px = recipe.map_px if tiles.recipe.tile_px is None else tiles.recipe.tile_px[0]
    out[flat, 2] = np.minimum(1.0, _POINT / size)
    out[flat, 3:] = tiles.corner[0] + (recipe.margin_px + 0.25) / px - out[flat, 2:3] * box[flat, :2]
    return out
