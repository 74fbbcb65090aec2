"""Settings that come in: what cannot work is refused in words; and what of them was changed."""

from __future__ import annotations

import math
import re
from typing import Any

from quilt_core.errors import QuiltError
from quilt_core.formats import EXPORTS
from quilt_core.measure.bake import MAPS
from quilt_core.model.tiles import listed
from quilt_core.pack import Recipe
from quilt_core.pack.shapes import ANGLES
from quilt_core.textures.tile_images import ImageRecipe, named

from .asked import typed
from .projects.models import Original
from .projects.sheets import check_sheets, of_sheet, sheet_by, sheets
from .projects.stale import WORDS
from .schemas import Settings

# Settings after which the layout has to be measured anew: what lies with what, and on which tiles.
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
        _check_recipe(of_sheet(plain, sheet["id"]))
    limits = [v for v in (s.density_least, s.density_greatest) if v is not None]
    if not (0 <= s.band <= 1000) or any(not (math.isfinite(v) and v > 0) for v in limits) or limits != sorted(limits):
        raise QuiltError("The band is from 0 to 1000 %, and the least density is above 0 and below the greatest.")
    if any(not (math.isfinite(w) and 0.001 <= w <= 1000) for w in s.weights.values()):
        raise QuiltError("A weight is a factor from 0.001 to 1000.")
    members = [k for b in s.bunches for k in b.members] + [k for g in s.twins for k in g]
    if any(not k.replace("/", ":", 1).replace(":", "", 1).isdigit() for k in (*s.weights, *s.turns, *s.held, *s.sheet_of, *members)):
        raise QuiltError("Weights, rules and sheets belong to an object or an island.")
    if any(t not in ANGLES for t in s.turns.values()):
        raise QuiltError(f"An island turns by one of {', '.join(ANGLES)}.")
    if not (0 <= s.channel_out <= 7 and 0 <= s.channel_in <= 7):
        raise QuiltError("UV channels are 0 to 7.")
    if not (math.isfinite(s.apart_px) and 0 <= s.apart_px <= 512):
        raise QuiltError("The gap between materials is from 0 to 512 px.")
    if s.bunch_objects not in ("", "loose", "strict"):
        raise QuiltError("Objects are bunched loosely, strictly or not at all.")
    names = [b.name.strip() for b in s.bunches]
    if not all(names) or len(set(names)) < len(names):
        raise QuiltError("Every bunch needs a name of its own.")
    shas = {p.sha for p in s.pictures.values()}
    if shas and Original.objects.filter(sha__in=shas).count() < len(shas):
        raise QuiltError("A picture was not brought in. Drop it on the tile again.")


def _check_recipe(flat: dict[str, Any]) -> None:
    s = flat["sheet"]
    numbers = ("padding_px", "margin_px", "seconds", "seed", "density")
    if not all(isinstance(flat[k], int | float) and not isinstance(flat[k], bool) for k in numbers) or not isinstance(flat["rotate"], str):
        raise QuiltError(f"{s['name']}: a value of its recipe is not what it should be.")
    try:
        Recipe(
            flat["map_px"], flat["padding_px"], flat["margin_px"], flat["rotate"], s["columns"], s["rows"],
            flat["density"] if flat["hold"] else None, flat["seconds"], None, flat["seed"], flat["mirror"], None, flat["fill"],
        )  # fmt: skip
    except ValueError as e:
        raise QuiltError(f"{s['name']}: these settings cannot work: {e}.") from e
    least = min([flat["map_px"], *s["tile_px"].values()])
    if max(flat["padding_px"], flat["margin_px"]) >= least / 2:
        raise QuiltError(f"{s['name']}: padding and margin must be less than half of its smallest tile, {least} px.")


def what_changed(old: dict[str, Any], new: Settings) -> str:
    """A label for the step: which settings are other than before."""
    names = WORDS | {
        "hold": "density", "keep_ratios": "sizes", "channel_out": "written channel", "band": "band", "density_least": "limits",
        "density_greatest": "limits", "weights": "weights", "turns": "turning", "held": "held islands", "pictures": "pictures",
        "sheets": "sheets", "recipes": "recipes", "sheet_of": "what lies on which sheet", "bunches": "bunches", "bunch_objects": "bunches",
        "twins": "twins",
    }  # fmt: skip
    changed = dict.fromkeys(names.get(k, k) for k, v in new.model_dump().items() if old.get(k) != v)
    return f"Change {', '.join(changed)}" if changed else "Change settings"


def _sheets_asked(params: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
    asked = params.get("sheets")
    if asked is None or asked == "stale":
        return {"sheets": asked}
    known = {s["id"] for s in sheets(settings)}
    if not isinstance(asked, list) or not asked or not set(asked) <= known:
        raise QuiltError("This sheet is not there any more. Choose another one.")
    return {"sheets": asked}


def _variants(params: dict[str, Any], settings: dict[str, Any]) -> list[dict[str, Any]]:
    """Recipes to try one after the other: what each has other than the sheet's own."""
    asked = [{k: v for k, v in one.items() if v is not None} for one in params.get("variants") or []]
    allowed = ("padding_px", "margin_px", "rotate", "seed", "seconds", "fill")
    if not isinstance(asked, list) or len(asked) > 24 or not all(isinstance(v, dict) and set(v) <= set(allowed) for v in asked):
        raise QuiltError(f"Up to 24 recipes are tried at once, that differ in {', '.join(allowed)}.")
    numbers = (_sheets_asked(params, settings)["sheets"] or [sheets(settings)[0]["id"]]) if asked else []
    if numbers == "stale":
        raise QuiltError("Several recipes are tried on sheets that are named.")
    for v in asked:
        for s in numbers:
            _check_recipe(of_sheet(settings, s) | v)
    return asked


def _bake(params: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
    given = {k: v for k, v in params.items() if v is not None}
    out = {"sheet": sheets(settings)[0]["id"], "px": 1024, "rays": 32, "maps": list(MAPS), "cage": None, "depth": 8, "pairs": {}} | given
    sheet_by(settings, out["sheet"])
    whole = all(isinstance(out[k], int) and not isinstance(out[k], bool) for k in ("px", "rays", "depth"))
    if not whole or not (16 <= out["px"] <= 8192 and 1 <= out["rays"] <= 1024 and out["depth"] in (8, 16)):
        raise QuiltError("A test bake has 16 to 8192 px, 1 to 1024 rays a texel, and 8 or 16 bits.")
    if not isinstance(out["maps"], list) or not out["maps"] or not set(out["maps"]) <= set(MAPS):
        raise QuiltError(f"The maps of a test bake are {', '.join(MAPS)}.")
    cage = out["cage"]
    if cage is not None and not (isinstance(cage, int | float) and math.isfinite(cage) and 0 < cage < 1e6):
        raise QuiltError("The cage stands off by more than 0 m.")
    pairs = out["pairs"]
    if not isinstance(pairs, dict) or len(pairs) > 10_000 or not all(re.fullmatch(r"\d+/\d+", str(k)) for p in pairs.items() for k in p):
        raise QuiltError("Pairs name the low object and the one that it gets its detail from.")
    return {k: out[k] for k in ("sheet", "px", "rays", "maps", "cage", "depth", "pairs")}


def _channels(asked: Any) -> list[dict[str, Any]]:
    """What goes into each UV channel, with its name or an empty one."""
    out = []
    for c in asked if isinstance(asked, list) else [None]:
        if not isinstance(c, dict) or not (c.get("from") == "layout" or (isinstance(c.get("from"), int) and 0 <= c["from"] <= 7)):
            raise QuiltError("A UV channel gets the layout or one of the old channels 0 to 7.")
        name = c.get("name") or ""
        if not isinstance(name, str) or (name and not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]{0,60}", name)):
            raise QuiltError("The name of a UV channel is of letters, digits and underscores.")
        out.append({"from": c["from"], "name": name})
    if out and [c["from"] for c in out].count("layout") != 1:
        raise QuiltError("The layout goes into one UV channel.")
    if len(out) > 8:
        raise QuiltError("There are at most 8 UV channels.")
    return out


def delivery(params: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
    """What a delivery holds, with the usual where nothing is said.

    sheet: None for all. templates: png, svg, both or none, filled by object, material, island or none; `template_px` 0 for the tile's own.
    images: None, or fill, format, depth, alpha, colour, and tiles ("1001-1004", empty for those in use), named by pattern with {sheet}, {kind}, {tile}.
    paint: carry old textures over, per_sheet with one material for each tile. twins_aside: for the bake.
    format: empty for files as they came; joined: all in one. channels: for each UV channel of the files `from` ("layout" or an old number) and
    `name`; an empty list for channels as they are.

    Raises
    ------
    QuiltError : what cannot be delivered
    """
    out: dict[str, Any] = {
        "sheet": None, "templates": "png", "template_fill": "object", "template_zone": False, "template_labels": False, "template_wire": False,
        "template_paper": False, "template_px": 0, "images": None, "pattern": "{sheet}.{tile}", "paint": False, "per_sheet": False,
        "twins_aside": False, "format": "", "joined": False, "channels": [],
    }  # fmt: skip
    unknown = set(params) - set(out)
    if unknown:
        raise QuiltError(f"A delivery knows no '{sorted(unknown)[0]}'.")
    out |= params
    if out["sheet"] is not None:
        sheet_by(settings, out["sheet"])
    if out["format"] not in ("", *EXPORTS):
        raise QuiltError(f"Files leave as they came, or as {', '.join(EXPORTS)}.")
    if out["joined"] and not out["format"]:
        raise QuiltError("Choose the format of the one file that all go into.")
    out["channels"] = _channels(out["channels"])
    if out["templates"] not in ("png", "svg", "both", "none") or out["template_fill"] not in ("object", "material", "island", "none"):
        raise QuiltError("Templates are png, svg, both or none, filled by object, material, island or none.")
    if not isinstance(out["template_px"], int) or not (out["template_px"] == 0 or 16 <= out["template_px"] <= 16384):
        raise QuiltError("A template has 16 to 16384 px.")
    if not isinstance(out["pattern"], str):
        raise QuiltError("The names of tile images are a text with {sheet}, {kind} and {tile}.")
    name = named(out["pattern"], "a", 1001, "b")
    if "{" in name or "}" in name:
        raise QuiltError("The names of tile images may hold {sheet}, {kind} and {tile}, and no other braces.")
    if "1001" not in name or any(c in name for c in '\\/:*?"<>|') or len(name) > 200:
        raise QuiltError("The names of tile images need {tile}, and no signs that file names do not take.")
    if out["images"] is not None:
        usual = {"fill": "blank", "format": "png", "depth": 8, "alpha": False, "colour": [0.5, 0.5, 0.5], "tiles": ""}
        images: dict[str, Any] = usual | (out["images"] if isinstance(out["images"], dict) else {"fill": ""})
        try:
            listed(images["tiles"])
            ImageRecipe(images["fill"], tuple(images["colour"]), images["format"], images["depth"], images["alpha"])
        except (ValueError, TypeError, AttributeError) as e:
            raise QuiltError(f"These tile images cannot be made: {e}.") from e
        out["images"] = images
    return out


def checked(kind: str, params: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a job, as far as they can be told to be wrong at once.

    Raises
    ------
    QuiltError : unknown work, or parameters that cannot work
    """
    from .jobs.mend import check as check_repair
    from .jobs.mend import islands_of

    params = typed(kind, params)
    if kind == "mend":
        return check_repair(params)
    if kind == "channel":
        channel = params.get("channel")
        if not isinstance(channel, int) or not 0 <= channel <= 7:
            raise QuiltError("UV channels are 0 to 7.")
        return {"channel": channel}
    if kind == "pack":
        return _sheets_asked(params, settings) | {"go_on": bool(params.get("go_on", False)), "variants": _variants(params, settings)}
    if kind == "explain":
        return _sheets_asked(params, settings)
    if kind in ("alike", "stack"):
        return {"islands": islands_of(params), "mirrored": bool(params.get("mirrored", False))}
    if kind == "replace":
        if not isinstance(params.get("compared"), int):
            raise QuiltError("Compare the newer version first.")
        return {"compared": params["compared"]}
    if kind == "twins":
        return {"islands": islands_of(params), "on": bool(params.get("on", True))}
    if kind == "settings":
        new = Settings(**params["settings"])
        check(new)
        plain, settings = new.model_dump(), whole_settings(settings)
        if any(plain[k] != settings[k] for k in ("channel_in", "welded")):
            raise QuiltError("What is read from the files is changed by a job of its own.")
        return {"settings": plain, "label": what_changed(settings, new)}
    if kind == "deliver":
        return {"order": delivery(params, settings)}
    if kind == "bake":
        return _bake(params, settings)
    if kind == "objects":
        keys = params.get("left_out")
        if not isinstance(keys, list) or not all(isinstance(k, str) and re.fullmatch(r"\d+/\d+", k) for k in keys):
            raise QuiltError("Objects are left out by their keys.")
        return {"left_out": keys, "label": "Choose objects"}
    if kind == "keep":
        if not isinstance(params.get("layout"), int):
            raise QuiltError("Choose the try that should be kept.")
        return {"layout": params["layout"]}
    return {}
