"""What a sheet's layout was made from, and what of it is other by now."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np

from .models import Layout, Snapshot
from .opened import arrays_of
from .sheets import IN_RECIPE, of_sheet, sheets
from .state import by_file, left_out_islands, settings_of, source_files

WORDS = {
    "map_px": "map size", "padding_px": "padding", "margin_px": "margin", "rotate": "turning", "hold": "holding the density", "density": "density",
    "keep_ratios": "keeping sizes", "ratios": "kept sizes", "fill": "filling of tiles", "mirror": "mirrored placing", "texel_grid": "edges on whole texels", "grid_percent": "change of sizes for whole texels", "seconds": "time", "passes": "passes", "seed": "seed",
    "columns": "columns", "rows": "rows", "apart_px": "gap between materials", "tile_px": "resolution of tiles", "held_tiles": "held tiles", "free": "regions kept free",
}  # fmt: skip
UNIT = {"map_px": " px", "apart_px": " px", "padding_px": " px", "margin_px": " px", "density": " px/m"}
_TILES = ("columns", "rows", "tile_px", "held_tiles", "free")
_RULES = ("weights", "rotations", "held", "twins", "bunches", "belongs")


def _digest(value: Any) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True).encode()).hexdigest()[:16]


def inputs_of(snapshot: Snapshot) -> dict[int, dict[str, Any]]:
    """For each sheet what its layout is made from: recipe, tiles, files, islands and rules, the last as digests."""
    settings = settings_of(snapshot)
    on = by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"])
    left = left_out_islands(snapshot)
    of = {
        "weights": by_file(snapshot, settings["weights"], 1.0),
        "rotations": by_file(snapshot, settings["rotations"], ""),
        "belongs": by_file(snapshot, settings["tile_of"], 0),
        "held": by_file(snapshot, dict.fromkeys(settings["held"], True), False),
        "bunches": by_file(snapshot, {k: f"{b['name']} {b['strict']}" for b in settings["bunches"] for k in b["members"]}, settings["bunch_objects"]),
    }  # fmt: skip
    files = {k: f.original_id + f.revision for k, f in source_files(snapshot).items()}
    out = {}
    for s in sheets(settings):
        flat = of_sheet(settings, s["id"])
        here = {f: np.flatnonzero((v == s["id"]) & ~left[f]) for f, v in on.items()}
        rules = {k: _digest([values[f][v].tolist() for f, v in sorted(here.items()) if len(v)]) for k, values in of.items()}
        mine = {f: v.tolist() for f, v in here.items() if len(v)}
        keys = {f"{f}:{i}" for f, v in mine.items() for i in v} if settings["twins"] else set()
        rules["twins"] = _digest(sorted(g for g in (sorted(keys.intersection(t)) for t in settings["twins"]) if g))
        out[s["id"]] = {
            "recipe": {k: flat[k] for k in ("map_px", *IN_RECIPE, "apart_px") if k not in ("seconds", "passes")},
            "tiles": {k: s[k] for k in _TILES},
            "files": {str(f): files.get(f, "") for f in mine},
            "read": [settings["channel_in"]],
            "islands": _digest(sorted(mine.items())), "count": sum(len(v) for v in mine.values()), **rules,
        }  # fmt: skip
    return out


def fresh_inputs(head: Snapshot | None) -> dict[str, list[str]]:
    """For each sheet with a kept try, which of its inputs are as they are now: where files get other numbers, only that can be said of them."""
    if head is None:
        return {}
    now, out = inputs_of(head), {}
    for sheet, number in head.kept.items():
        old = Layout.objects.filter(pk=number).values_list("inputs", flat=True).first()
        if old and int(sheet) in now:
            out[sheet] = [k for k in old if old[k] == now[int(sheet)].get(k)]
    return out


def reasons(was: dict[str, Any], now: dict[str, Any]) -> list[str]:
    """Why a layout made from one thing does not belong to another, in words; empty where it does."""
    if not was:
        return []
    out = []
    for part in ("recipe", "tiles"):
        for k, old in was[part].items():
            if k not in now[part]:
                continue  # another version's
            new = now[part][k]
            if old != new and not (k == "density" and not was["recipe"]["hold"] and not now["recipe"]["hold"]):
                simple = all(isinstance(v, str | int | float) for v in (old, new))
                out.append(f"{WORDS[k]} {old:g} to {new:g}{UNIT.get(k, '')}" if simple and not isinstance(old, str | bool)
                           else f"{WORDS[k]} {old} to {new}" if isinstance(old, str) else f"{WORDS[k]} changed")  # fmt: skip
    if set(was["files"]) - set(now["files"]) and set(now["files"]) - set(was["files"]):
        same = sorted(was["files"].values()) == sorted(now["files"].values())
        out.append("the unit of a file changed" if same else "a file was replaced")
    if was["read"] != now["read"]:
        out.append("islands were read anew")
    if was["islands"] != now["islands"]:
        more = now["count"] - was["count"]
        out.append(f"{abs(more)} islands {'more' if more > 0 else 'fewer'}" if more else "other islands")
    words = {
        "weights": "weights",
        "rotations": "turning of single islands",
        "held": "held islands",
        "twins": "twins",
        "bunches": "bunches",
        "belongs": "what belongs to which tile",
    }
    out += [f"{words[k]} changed" for k in _RULES if was.get(k, now[k]) != now[k] and was["islands"] == now["islands"]]
    return out


def moved_since(snapshot: Snapshot, kept: Layout, sheet: int) -> int:
    """How many islands of a sheet lie elsewhere than its kept try laid them."""
    if snapshot.layout is None or snapshot.layout_id == kept.pk:
        return 0
    settings = settings_of(snapshot)
    on = by_file(snapshot, settings["sheet_of"], sheets(settings)[0]["id"])
    now, then = arrays_of(snapshot.layout, "transforms"), arrays_of(kept, "transforms")
    masks = arrays_of(kept, "members")
    count = 0
    for file, numbers in on.items():
        a, b = now.get(str(file)), then.get(str(file))
        if a is None or b is None or len(a) != len(b):
            continue
        mine = numbers == sheet
        if str(file) in masks:
            mine &= masks[str(file)].astype(bool)
        count += int((np.abs(a - b)[mine] > 1e-9).any(axis=1).sum())
    return count
