"""Chosen parts in chosen tiles: what is packed where only some of a sheet is, how dense the rest lies, which tile decides, and which island."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_core.arrange.plan import Move, best_move
from quilt_core.arrange.sheet import SheetPacking, SheetRules
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats
from quilt_core.model.tiles import corners_of, numbers_at
from quilt_core.uv.density import densities, spread

from ..projects.reading import Parts, regions_of
from ..projects.sheets import grid

_SPANS = 0.95  # of the room that a tile has: so long an island bounds the density, whatever the packer does


def some_only(
    params: dict[str, Any], parts: Parts, rules: SheetRules, flat: dict[str, Any], present: Floats
) -> tuple[SheetRules, NDArray[np.bool_] | None]:
    """The rules when only some tiles or islands of a sheet are packed, and the islands (n,) that stay; None where all are packed.

    Raises
    ------
    QuiltError : tiles that the sheet does not have or holds, or nothing chosen
    """
    tiles, islands = params.get("tiles"), params.get("islands")
    if tiles is None and islands is None:
        return rules, None
    sheet = np.ones(parts.count, bool) if rules.only is None else rules.only
    only = sheet.copy()
    box = shapely.bounds(regions_of(parts, present))
    corner = corners_of(box)
    inside = ((box[:, :2] >= corner - 1e-6) & (box[:, 2:] <= corner + 1 + 1e-6)).all(axis=1) & grid(flat).holds(corner)
    moves = only.copy()
    if tiles is not None:
        asked = {int(t) for t in tiles}
        if not asked or not asked <= set(grid(flat).numbers) or asked & rules.closed:
            raise QuiltError("Choose tiles of this sheet that are not held.")
        rules = replace(rules, closed=rules.closed | (set(grid(flat).numbers) - asked))
        number = np.where(inside, numbers_at(corner), 0)
        belongs = number if rules.tile is None else np.where(rules.tile > 0, rules.tile, number)
        moves &= np.isin(belongs, list(asked))
        # What lies in a tile that is packed, and belongs to another one, leaves no room there until that one is packed too.
        stays = only & ~moves & np.isin(number, list(asked))
        only &= moves | stays
    if islands is not None:
        moves &= parts.named(islands)
        only &= moves | inside
    if not moves.any():
        raise QuiltError("Nothing of this sheet is chosen. Select islands that lie on it, or pack all of it.")
    held = np.zeros(parts.count, bool) if rules.held is None else rules.held
    return replace(rules, only=only, held=held | (only & ~moves)), sheet & ~moves & inside


def density_of(parts: Parts, weight: Floats, flat: dict[str, Any], rest: NDArray[np.bool_], present: Floats) -> float | None:
    """The density in px/m that islands (n,) have, weights aside: the median by surface; None where ratios are kept or nothing has one."""
    if flat["keep_ratios"] or not rest.any():
        return None
    uv = np.concatenate([p.islands.area for p in parts.pieces]) * present[:, 2] ** 2
    world = np.concatenate([p.world_area for p in parts.pieces])
    px = grid(flat).px_of(shapely.bounds(regions_of(parts, present)))
    found = spread((densities(uv, world, 1) * px / weight)[rest], world[rest])
    return None if found is None else found.median


def filled(parts: Parts, packed: SheetPacking, only: NDArray[np.bool_], weight: Floats, flat: dict[str, Any]) -> dict[str, Any]:
    """For the figures of a layout: how each tile was filled with what belongs to it, and which part of the fullest one would gain most elsewhere."""
    if not packed.tiles:
        return {}
    out: dict[str, Any] = {"tiles_filled": [{"tile": t.tile, "islands": t.islands, "alone": t.alone} for t in packed.tiles]}
    if flat["fill"] == "common" and not flat["hold"]:
        move = _move(parts, packed, only, weight, flat)
        if move is not None:
            file, first, _ = parts.places[move.part]
            out["move"] = {"name": f"{file}:{first}", "source": move.source, "target": move.target, "gain": move.gain}
    return out


def _move(parts: Parts, packed: SheetPacking, only: NDArray[np.bool_], weight: Floats, flat: dict[str, Any]) -> Move | None:
    rows = np.concatenate(packed.transforms)
    number = numbers_at(corners_of(shapely.bounds(regions_of(parts, rows))))
    area = np.concatenate([p.world_area for p in parts.pieces]) * weight**2
    owner, tiles = parts.place, grid(flat)
    mine = only & np.isin(number, tiles.numbers)

    def inside(tile: int) -> Floats:
        here = mine & (number == tile)
        return np.asarray(np.bincount(owner[here], area[here], len(parts.places)), np.float64)

    return best_move(
        {t: inside(t) for t in tiles.numbers}, {t.tile: t.alone for t in packed.tiles}, dict(zip(tiles.numbers, tiles.sizes, strict=True))
    )


def strays(parts: Parts, rows: Floats, rules: SheetRules) -> int:
    """How many islands that are not held lie in another tile than they belong to; `rules` are those of the whole sheet."""
    if rules.tile is None:
        return 0
    number = numbers_at(corners_of(shapely.bounds(regions_of(parts, rows))))
    out = (rules.tile > 0) & (number != rules.tile) & (number > 0)
    for rule, kept in ((rules.only, True), (rules.held, False)):
        out &= True if rule is None else rule == kept
    return int(out.sum())


def spanning(parts: Parts, rows: Floats, only: NDArray[np.bool_], flat: dict[str, Any]) -> str | None:
    """The island, by key, that spans so much of its tile that it decides the density of all; None where none does."""
    box = shapely.bounds(regions_of(parts, rows))
    room = 1 - 2 * flat["margin_px"] / grid(flat).px_of(box)
    span = np.where(only, np.nan_to_num(np.maximum(box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]) / room), 0.0)
    return parts.name(int(span.argmax())) if span.max(initial=0.0) >= _SPANS else None
