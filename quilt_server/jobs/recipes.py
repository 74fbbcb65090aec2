"""What the settings of a sheet ask of the packer."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrange.sheet import SheetRules
from quilt_core.arrange.texel_grid import WIDER, roomier
from quilt_core.pack import Recipe

from ..projects.reading import Chosen, Parts, each, kinds_of_islands, twin_groups
from ..projects.sheets import grid


def recipe_of(flat: dict[str, Any]) -> Recipe:
    """The packer's recipe that the settings of a sheet ask for."""
    tiles = grid(flat)
    sizes = tiles.sizes if tiles.tile_px else None
    found = Recipe(
        int(flat["map_px"]), float(flat["padding_px"]), float(flat["margin_px"]), flat["rotate"], tiles.columns, tiles.rows,
        float(flat["density"]) if flat["hold"] else None, float(flat["seconds"]), None if flat["passes"] is None else int(flat["passes"]), int(flat["seed"]), bool(flat["mirror"]), sizes,
        flat["fill"] if tiles.columns * tiles.rows > 1 and not flat["hold"] else "common",
    )  # fmt: skip
    return roomier(found) if flat["texel_grid"] else found


def rules_of(chosen: list[Chosen], parts: Parts, settings: dict[str, Any], flat: dict[str, Any], only: NDArray[np.bool_]) -> SheetRules:
    """The rules for the islands `only` (n,) of a sheet that the settings hold."""
    held = each(chosen, parts, dict.fromkeys(settings["held"], True), False)
    rotations = each(chosen, parts, settings["rotations"], flat["rotate"]) if settings["rotations"] else None
    sheet = flat["sheet"]
    bunch, strict = _bunches(chosen, parts, settings)
    return SheetRules(
        None if rotations is None else tuple(rotations), np.array(held, bool) if settings["held"] else None, twin_groups(parts, settings), only,
        bunch, strict, frozenset(int(t) for t in sheet["held_tiles"]), tuple((int(f["tile"]), tuple(f["box"])) for f in sheet["free"]),
        kinds_of_islands(chosen, parts, "material")[0] if settings["apart_px"] > 0 else None, float(settings["apart_px"]) + (WIDER if flat["texel_grid"] else 0.0),
        each(chosen, parts, settings["tile_of"], 0).astype(np.int64) if settings["tile_of"] else None,
    )  # fmt: skip


def _bunches(chosen: list[Chosen], parts: Parts, settings: dict[str, Any]) -> tuple[NDArray[np.int64] | None, frozenset[int]]:
    """Bunch (n,) of every island and which of them are strict: the named ones, and where that is wanted each object's rest."""
    named, automatic = settings["bunches"], settings["bunch_objects"]
    if not (named or automatic):
        return None, frozenset()
    group = np.array(each(chosen, parts, {k: n for n, b in enumerate(named) for k in b["members"]}, -1), np.int64)
    strict = {n for n, b in enumerate(named) if b["strict"]}
    if automatic:
        owner = parts.place + len(named)
        if automatic == "strict":
            strict |= set(np.unique(owner).tolist())
        group = np.where(group < 0, owner, group)
    return group, frozenset(strict)
