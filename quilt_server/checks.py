"""Settings that come in: what cannot work is refused in words; and what of them was changed."""

from __future__ import annotations

import math
from typing import Any

from quilt_core.errors import QuiltError
from quilt_core.pack import Recipe
from quilt_core.pack.shapes import ANGLES

from .projects.people import may_see
from .projects.room import MOST_KEPT
from .projects.sheets import check_sheets, of_sheet, sheets
from .projects.stale import WORDS
from .schemas.settings import Settings

# Settings after which the layout has to be measured anew: what lies with what, and on which tiles.
READ = ("channel_in", "shelved")  # of the settings: what only jobs change, since files are read anew
MEASURED = ("sheets", "sheet_of", "twins", "map_px")


def whole_settings(settings: dict[str, Any]) -> dict[str, Any]:
    """Settings as they are stored, with the usual values of what came in since at any depth."""
    return Settings(**settings).model_dump()


def check(s: Settings) -> None:
    """Refuse settings that cannot work.

    Raises
    ------
    QuiltError : what is wrong
    """
    plain = s.model_dump()
    check_sheets(plain)
    for sheet in sheets(plain):
        check_recipe(of_sheet(plain, sheet["id"]))
    for shelf in s.shelved.values():
        # Named recipes may be gone by the time that it comes back, and are then left out of it.
        check_sheets(plain | shelf.model_dump() | {"sheets": [x.model_dump() | {"recipe": ""} for x in shelf.sheets]})
    limits = [v for v in (s.density_least, s.density_greatest) if v is not None]
    if not (0 <= s.band <= 1000) or any(not (math.isfinite(v) and v > 0) for v in limits) or limits != sorted(limits):
        raise QuiltError("The band is from 0 to 1000 %, and the least density is above 0 and below the greatest.")
    if any(not (math.isfinite(w) and 0.001 <= w <= 1000) for w in s.weights.values()):
        raise QuiltError("A weight is a factor from 0.001 to 1000.")
    if any(not 1001 <= t <= 2000 for t in s.tile_of.values()):
        raise QuiltError("A tile has a UDIM number, 1001 to 2000.")
    if any(t not in ANGLES for t in s.rotations.values()):
        raise QuiltError(f"An island turns by one of {', '.join(ANGLES)}.")
    if not (0 <= s.channel_out <= 7 and 0 <= s.channel_in <= 7):
        raise QuiltError("UV channels are 0 to 7.")
    if not (math.isfinite(s.apart_px) and 0 <= s.apart_px <= 512):
        raise QuiltError("The gap between materials is from 0 to 512 px.")
    if not 0 <= s.history <= MOST_KEPT:
        raise QuiltError(f"From 0 to {MOST_KEPT:,} steps can be kept.")
    if s.bunch_objects not in ("", "loose", "strict"):
        raise QuiltError("Objects are bunched loosely, strictly or not at all.")
    if any(len(name) > 60 or not name.isprintable() for name in s.channel_names.values()):
        raise QuiltError("A UV channel is named by its number, 0 to 7, with at most 60 signs.")
    linked = [k for x in s.links for k in x.members]
    if len(set(linked)) < len(linked):
        raise QuiltError("An object is linked with the copies of one shape only.")
    names = [b.name.strip() for b in s.bunches]
    if not all(names) or len(set(names)) < len(names):
        raise QuiltError("Every bunch needs a name of its own.")
    shas = {p.sha for p in s.pictures.values()}
    if shas and not may_see(shas):
        raise QuiltError("A picture was not brought in. Drop it on the tile again.")


def check_recipe(flat: dict[str, Any]) -> None:
    """Refuse a recipe that cannot work.

    Raises
    ------
    QuiltError : what is wrong
    """
    s = flat["sheet"]
    numbers = ("padding_px", "margin_px", "seconds", "seed", "density", "grid_percent")
    if (
        not all(isinstance(flat[k], int | float) and not isinstance(flat[k], bool) for k in numbers)
        or not isinstance(flat["rotate"], str)
        or flat["ratios"] not in ("uv", "texels")
    ):
        raise QuiltError(f"{s['name']}: a value of its recipe is not what it should be.")
    if not 0 <= flat["grid_percent"] <= 20:
        raise QuiltError(f"{s['name']}: sizes may change by 0 to 20 % for whole texels.")
    try:
        Recipe(
            flat["map_px"], flat["padding_px"], flat["margin_px"], flat["rotate"], s["columns"], s["rows"],
            flat["density"] if flat["hold"] else None, flat["seconds"], flat["passes"], flat["seed"], flat["mirror"], None, flat["fill"],
        )  # fmt: skip
    except ValueError as e:
        raise QuiltError(f"{s['name']}: these settings cannot work: {e}.") from e
    least = min([flat["map_px"], *s["tile_px"].values()])
    if max(flat["padding_px"], flat["margin_px"]) >= least / 2:
        raise QuiltError(f"{s['name']}: padding and margin must be less than half of its smallest tile, {least} px.")


def what_changed(old: dict[str, Any], new: Settings) -> str:
    """A label for the step: which settings are other than before."""
    names = WORDS | {
        "hold": "density", "keep_ratios": "sizes", "ratios": "sizes", "channel_out": "written channel", "band": "band", "density_least": "limits",
        "density_greatest": "limits", "weights": "weights", "rotations": "turning", "held": "held islands", "pictures": "pictures",
        "sheets": "sheets", "recipes": "recipes", "sheet_of": "what lies on which sheet", "tile_of": "what belongs to which tile", "bunches": "bunches", "bunch_objects": "bunches",
        "twins": "twins", "links": "links of copies", "channel_names": "names of channels", "history": "steps kept",
    }  # fmt: skip
    changed = dict.fromkeys(names.get(k, k) for k, v in new.model_dump().items() if old.get(k) != v)
    return f"Change {', '.join(changed)}" if changed else "Change settings"
