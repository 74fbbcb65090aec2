"""Sheets, their tiles and recipes, as the settings of a snapshot hold them.

The plain keys of the settings (map size, padding, turning...) are the project's own recipe. A named recipe replaces what it holds;
a sheet names one of them or none, and has its tiles. `of_sheet` gives both as plain keys again.
"""

from __future__ import annotations

from typing import Any

from quilt_core.errors import QuiltError
from quilt_core.model.tiles import Grid, column_row

# What a recipe decides; the same keys stand for the project's own one in the settings.
IN_RECIPE = (
    "padding_px",
    "margin_px",
    "rotate",
    "hold",
    "density",
    "keep_ratios",
    "ratios",
    "fill",
    "mirror",
    "texel_grid",
    "grid_percent",
    "seconds",
    "passes",
    "seed",
)
FIRST: dict[str, Any] = {
    "id": 1, "name": "Sheet 1", "recipe": "", "map_px": None, "columns": 1, "rows": 1, "tile_px": {}, "tile_names": {}, "held_tiles": [],
    "free": [], "channel": None,
}  # fmt: skip
MOST_SHEETS = 200


def sheets(settings: dict[str, Any]) -> list[dict[str, Any]]:
    """All sheets, at least one."""
    return [FIRST | s for s in settings.get("sheets") or [FIRST]]


def sheet_by(settings: dict[str, Any], number: int) -> dict[str, Any]:
    """The sheet of a number.

    Raises
    ------
    QuiltError : there is none
    """
    for s in sheets(settings):
        if s["id"] == number:
            return s
    raise QuiltError("This sheet is not there any more. Choose another one.")


def of_sheet(settings: dict[str, Any], number: int) -> dict[str, Any]:
    """The settings as they hold for a sheet: its recipe's in place of the project's, its tiles, `sheet` itself."""
    sheet = sheet_by(settings, number)
    recipe = settings.get("recipes", {}).get(sheet["recipe"], {})
    return settings | recipe | {"map_px": sheet["map_px"] or settings["map_px"], "sheet": sheet}


def grid(flat: dict[str, Any]) -> Grid:
    """The tiles of a sheet, from what `of_sheet` gave."""
    s = flat["sheet"]
    return Grid(int(flat["map_px"]), s["columns"], s["rows"], {int(k): int(v) for k, v in s["tile_px"].items()})


def check_sheets(settings: dict[str, Any]) -> None:
    """Refuse sheets and recipes that cannot work, in words.

    Raises
    ------
    QuiltError : what is wrong with which sheet
    """
    every = sheets(settings)
    ids, names = [s["id"] for s in every], [s["name"].strip() for s in every]
    if len(every) > MOST_SHEETS:
        raise QuiltError(f"A project has at most {MOST_SHEETS} sheets.")
    if len(set(ids)) < len(ids) or min(ids) < 1:
        raise QuiltError("Two sheets have the same number.")
    if not all(names) or len(set(names)) < len(names):
        raise QuiltError("Every sheet needs a name of its own: it becomes the name of its files.")
    if any(not n.strip() for n in settings.get("recipes", {})):
        raise QuiltError("A recipe needs a name.")
    for s in every:
        _check_one(s, settings)
    known = set(ids)
    if any(v not in known for v in settings.get("sheet_of", {}).values()):
        raise QuiltError("Something is assigned to a sheet that is not there. Move it to another sheet first.")


def _check_one(s: dict[str, Any], settings: dict[str, Any]) -> None:
    if s["recipe"] and s["recipe"] not in settings.get("recipes", {}):
        raise QuiltError(f"{s['name']} uses the recipe '{s['recipe']}', which is not there.")
    if not (1 <= s["columns"] <= 10 and 1 <= s["rows"] <= 100):
        raise QuiltError(f"{s['name']}: tiles are 1 to 10 columns and 1 to 100 rows.")
    tiles = set(Grid(1, s["columns"], s["rows"]).numbers)
    try:
        told = [int(k) for k in (*s["tile_px"], *s["tile_names"], *s["held_tiles"], *(f["tile"] for f in s["free"]))]
        for t in told:
            column_row(t)
    except ValueError as e:
        raise QuiltError(f"{s['name']}: {e}.") from e
    if s["channel"] is not None and not 0 <= s["channel"] <= 7:
        raise QuiltError(f"{s['name']}: UV channels are 0 to 7.")
    if any(not 16 <= px <= 16384 for px in s["tile_px"].values()):
        raise QuiltError(f"{s['name']}: a tile has 16 to 16384 px.")
    if tiles <= {int(t) for t in s["held_tiles"]}:
        raise QuiltError(f"{s['name']}: all its tiles are held. Let one go, so that there is something to pack into.")
    for f in s["free"]:
        box = f["box"]
        if not (len(box) == 4 and 0 <= box[0] < box[2] <= 1 and 0 <= box[1] < box[3] <= 1):
            raise QuiltError(f"{s['name']}: a region kept free is a box inside its tile.")
