"""Which part of a sheet belongs to which of its tiles, in an order: each object, material or file to one of its own, or what is called like a pattern to one."""

from __future__ import annotations

import fnmatch
from typing import Any

from quilt_core.errors import QuiltError
from quilt_core.formats.wiring import safe_name
from quilt_core.model.tiles import Grid

from .models import Snapshot
from .reading import Chosen, Parts, choose, kinds_of_islands, parts_of, sheet_numbers
from .sheets import sheet_by
from .state import readings, settings_of

MOST_TILES = 100
_CALLED = {"name": "a name or a path", "file name": "a file name", "material name": "a material"}


def order(snapshot: Snapshot, sheet: int, by: str, pattern: str, tile: int) -> dict[str, Any]:
    """The settings of an order: `by` "object", "material" or "file" on as many tiles as there are of them; by "name" (of an object, or its path), "file name" or
    "material name" on `tile` of those that the sheet has.

    Raises
    ------
    QuiltError : more of them than there can be tiles, or nothing is called so
    """
    settings = settings_of(snapshot)
    now = sheet_by(settings, sheet)
    chosen = choose(snapshot)
    parts = parts_of(chosen)
    on = parts.pieced(sheet_numbers(chosen, parts, settings) == sheet)
    here = [(k, *found) for k, found in enumerate(_objects(snapshot, parts)) if on[k].any()]
    if by in _CALLED:
        grid, names = Grid(1, now["columns"], now["rows"]), dict(now["tile_names"])
        if tile not in grid.numbers:
            raise QuiltError(f"{now['name']} has no tile {tile}. Add columns or rows first.")
        asked = _called(by, pattern, tile, here, parts, chosen)
        here = [h for h in here if any(key in asked for key in (h[1], *_islands(parts, h[0])))]
        if not here:
            raise QuiltError(f"Nothing on {now['name']} has {_CALLED[by]} like '{pattern}'. * stands for any letters, ? for one.")
    else:
        kinds, named = kinds_of_islands(chosen, parts, by)
        of = parts.pieced(kinds)
        present = list(dict.fromkeys(n for k, _, _ in here for n in of[k].tolist()))
        if not 0 < len(present) <= MOST_TILES:
            raise QuiltError(f"These are {len(present)} tiles; an order makes 1 to {MOST_TILES}.")
        columns = min(10, len(present))
        grid = Grid(1, columns, -(-len(present) // columns))
        number = dict(zip(present, grid.numbers, strict=False))
        # An object that is of one kind is sent as such; of others every island.
        asked = {}
        for k, key, _ in here:
            tiles = [number[n] for n in of[k].tolist()]
            asked |= {key: tiles[0]} if len(set(tiles)) == 1 else dict(zip(_islands(parts, k), tiles, strict=True))
        names = {str(n): safe_name(named[kind]) for kind, n in number.items()}
    gone = {rule for k, key, _ in here for rule in (key, *_islands(parts, k)) if by != "material name" or rule in asked}
    kept = {k: v for k, v in settings["tile_of"].items() if k not in gone}
    return {"tile_of": kept | asked, "tile_names": names, "columns": grid.columns, "rows": grid.rows, "objects": len(here)}


def _objects(snapshot: Snapshot, parts: Parts) -> list[tuple[str, dict[str, Any]]]:
    """For each of the parts' places the object that stands for it, by key, and what is known of it: of those that share a mesh the first."""
    found: dict[tuple[int, int], tuple[str, dict[str, Any]]] = {}
    for r in readings(snapshot):
        for n, info in enumerate(r.objects_info):
            first, end = info["islands"]
            if end > first and f"{r.file_id}/{n}" not in snapshot.left_out:
                found.setdefault((r.file_id, first), (f"{r.file_id}/{n}", info))
    return [found[file, first] for file, first, _ in parts.places]


def _islands(parts: Parts, place: int) -> list[str]:
    """Keys of the islands of a place."""
    file, first, count = parts.places[place]
    return [f"{file}:{i}" for i in range(first, first + count)]


def _called(
    by: str, pattern: str, tile: int, here: list[tuple[int, str, dict[str, Any]]], parts: Parts, chosen: list[Chosen]
) -> dict[str, int]:
    """The tile for objects by key, or for single islands of an object that has several materials."""
    if by == "name":
        return {key: tile for _, key, info in here if any(_is_like(str(info[k]), pattern) for k in ("name", "path"))}
    if by == "file name":
        names = {str(c.file.pk): c.file.name for c in chosen}
        return {
            key: tile
            for _, key, _ in here
            if _is_like(name := names[key.partition("/")[0]], pattern) or _is_like(name.rsplit("/", 1)[-1], pattern)
        }
    kinds, named = kinds_of_islands(chosen, parts, "material")
    of, like = parts.pieced(kinds), [_is_like(name, pattern) for name in named]
    out: dict[str, int] = {}
    for k, key, _ in here:
        mine = [like[n] for n in of[k].tolist()]
        out |= {key: tile} if all(mine) else {rule: tile for rule, is_it in zip(_islands(parts, k), mine, strict=True) if is_it}
    return out


def _is_like(name: str, pattern: str) -> bool:
    """Whether a name is like a pattern, whatever the case."""
    return fnmatch.fnmatchcase(name.lower(), pattern.strip().lower())
