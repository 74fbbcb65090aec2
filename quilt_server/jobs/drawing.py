"""What is drawn for a delivery: templates to paint over, and images of tiles to begin with."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.formats.wiring import safe_name
from quilt_core.measure.texels import owners as texel_owners
from quilt_core.model.scene import Floats
from quilt_core.model.tiles import column_row, listed
from quilt_core.textures import template
from quilt_core.textures.tile_images import ImageRecipe, encoded, named, tile_image
from quilt_core.uv.analysis import IDENTITY

from ..projects.models import Job
from ..projects.reading import Chosen, Parts, kinds_of_islands, parts_of, regions_of, sheet_numbers
from ..projects.sheets import grid, of_sheet, sheets
from .progress import say
from .writing import Delivery

MOST_TILES = 100  # templates in one zip


def draw_tiles(
    job: Job, delivery: Delivery, again: list[Chosen], settings: dict[str, Any], figures: dict[str, Any], order: Mapping[str, Any]
) -> None:
    """Put templates and tile images of every tile in use into the zip, each at its own resolution.

    Parameters
    ----------
    again : the files as they were written; figures : of what was written, by the names of the sheets; order : the parameters of `kinds.deliver.Deliver`
    """
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on = sheet_numbers(again, parts, settings)
    regions = regions_of(parts, rows) if parts.pieces else np.zeros(0, object)
    owner, labels = kinds_of_islands(again, parts, order["template_fill"])
    several = len(figures["sheets"]) > 1
    count = 0
    for s in sheets(settings):
        found = figures["sheets"].get(s["name"])
        if found is None:
            continue
        flat = of_sheet(settings, s["id"])
        tiles = grid(flat)
        mine = on == s["id"]
        chosen = listed(order["images"]["tiles"]) if order["images"] else []
        for tile in chosen:
            _image(delivery, s, tile, tiles.tile_px.get(tile, tiles.px), again, parts, mine, order, channel_name(settings)[0])
        for tile in [t["tile"] for t in found["tiles"] if t["islands"]]:
            count += 1
            if count > MOST_TILES:
                return
            px = tiles.tile_px.get(tile, tiles.px)
            say(job, f"Drawing tile {tile} of {s['name']}")
            prefix = f"{safe_name(s['name'])}." if several else ""
            # The number stays in the name: programs that read a set of tiles find each by it.
            name = own_name(s, tile) if order["template_names"] else ""
            channel, is_named = channel_name(settings)
            called = ".".join([*([channel] if is_named else []), *([name] if name else []), str(tile)])
            size = int(order["template_px"]) or px
            extras = template.Extras(
                float(flat["padding_px"]) / px / 2 if order["template_zone"] else 0.0, _wires(again, mine, parts) if order["template_wire"] else None,
                tuple(labels) if order["template_labels"] else (),
            )  # fmt: skip
            args = (
                regions[mine],
                owner[mine],
                size,
                tile,
                "#fbf7ee" if order["template_paper"] else None,
                order["template_fill"] != "none",
                extras,
            )
            if order["templates"] in ("png", "both"):
                delivery.put(f"{prefix}template.{called}.png", template.draw(*args), "template")
            if order["templates"] in ("svg", "both"):
                delivery.put(f"{prefix}template.{called}.svg", template.draw_svg(*args), "template")
            if order["images"] and not chosen:
                _image(delivery, s, tile, px, again, parts, mine, order, channel)


def channel_name(settings: Mapping[str, Any]) -> tuple[str, bool]:
    """What the channel that the layout goes into is called in files' names, and whether somebody named it."""
    number = int(settings["channel_out"])
    own = safe_name(name) if (name := settings["channel_names"].get(str(number), "").strip()) else ""
    return own or f"uv{number}", bool(own)


def own_name(sheet: dict[str, Any], tile: int) -> str:
    """The name of a tile as files take it; empty where it has none, or another tile of the sheet has the same."""
    names = {k: safe_name(v) for k, v in sheet["tile_names"].items() if v.strip()}
    mine = names.get(str(tile), "")
    return mine if list(names.values()).count(mine) == 1 else ""


def _image(
    delivery: Delivery,
    sheet: dict[str, Any],
    tile: int,
    px: int,
    again: list[Chosen],
    parts: Parts,
    mine: NDArray[np.bool_],
    order: Mapping[str, Any],
    channel: str,
) -> None:
    """Put the image of one tile into the zip."""
    name = named(order["pattern"], safe_name(sheet["name"]), tile, order["images"]["fill"], own_name(sheet, tile), channel)
    delivery.put(f"{name}.{order['images']['format']}", _tile_image(again, parts, mine, order["images"], px, tile), "image")


def _wires(again: list[Chosen], mine: NDArray[np.bool_], parts: Parts) -> Floats:
    """Edges (k, 2, 2) of the triangles of some islands."""
    out = [np.zeros((0, 2, 2))]
    for piece, marks in zip(parts.pieces, parts.pieced(mine), strict=True):
        of = piece.islands.of_triangle
        tri = piece.mesh.channels[piece.channel].triangles[(of >= 0) & marks[np.maximum(of, 0)]]
        ends = np.unique(np.sort(np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]]), axis=1), axis=0)
        out.append(piece.uvs[ends])
    return np.concatenate(out)


def _tile_image(again: list[Chosen], parts: Parts, mine: NDArray[np.bool_], asked: dict[str, Any], px: int, tile: int) -> bytes:
    recipe = ImageRecipe(asked["fill"], tuple(asked["colour"]), asked["format"], int(asked["depth"]), bool(asked["alpha"]))
    owner = None
    if recipe.fill in ("object", "material", "island"):
        number, _ = kinds_of_islands(again, parts, recipe.fill)
        uvs, triangles, numbers, row = [np.zeros((0, 2))], [np.zeros((0, 3), np.int64)], [np.zeros(0, np.int64)], 0
        for piece, of_piece, marks in zip(parts.pieces, parts.pieced(number), parts.pieced(mine), strict=True):
            of = piece.islands.of_triangle
            use = (of >= 0) & marks[np.maximum(of, 0)]
            uvs.append(piece.uvs)
            triangles.append(piece.mesh.channels[piece.channel].triangles[use].astype(np.int64) + row)
            numbers.append(of_piece[of[use]])
            row += len(piece.uvs)
        owner, _ = texel_owners(np.concatenate(uvs), np.concatenate(triangles), np.concatenate(numbers), px, column_row(tile))
    return encoded(tile_image(recipe, px, owner), recipe.format, recipe.depth, display=True)
