"""Which part of a sheet belongs to which of its tiles, in an order: each object or material to one of its own, or what is called like a pattern to one."""

from __future__ import annotations

import fnmatch
from typing import Any

from quilt_core.errors import QuiltError
from quilt_core.formats.wiring import safe_name
from quilt_core.model.tiles import Grid

from .models import Snapshot
from .reading import Parts, choose, kinds_of_islands, parts_of, sheet_numbers
from .sheets import sheet_by
from .state import readings, settings_of

MOST_TILES = 100


def order(snapshot: Snapshot, sheet: int, by: str, pattern: str, tile: int) -> dict[str, Any]:
    """The settings of an order: `by` "object" or "material" on as many tiles as there are of them, by "name" on `tile` of those that the sheet has.

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
    if by == "name":
        grid, names = Grid(1, now["columns"], now["rows"]), dict(now["tile_names"])
        if tile not in grid.numbers:
            raise QuiltError(f"{now['name']} has no tile {tile}. Add columns or rows first.")
        here = [h for h in here if _is_called(h[2], pattern)]
        if not here:
            raise QuiltError(f"Nothing on {now['name']} is called like '{pattern}'. * stands for any letters, ? for one.")
        asked = {key: tile for _, key, _ in here}
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
    gone = {rule for k, key, _ in here for rule in (key, *_islands(parts, k))}
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


def _is_called(info: dict[str, Any], pattern: str) -> bool:
    """Whether an object is called like a pattern, by its name or path, whatever the case."""
    like = pattern.strip().lower()
    return any(fnmatch.fnmatchcase(str(info[k]).lower(), like) for k in ("name", "path"))
