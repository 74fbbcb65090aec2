"""Figures of sheets and of a whole project, as the browser takes them."""

from __future__ import annotations

from typing import Any

from quilt_core.delivery.verdict import Asked, OfSheet, Verdict, of_sheets, verdict
from quilt_core.words import counted

from .models import Layout, Snapshot
from .sheets import of_sheet, sheets
from .stale import inputs_of, moved_since, reasons
from .state import settings_of


def sheet_rows(snapshot: Snapshot) -> list[dict[str, Any]]:
    """Every sheet with its figures, the try that it keeps, and why that is stale."""
    settings = settings_of(snapshot)
    now = inputs_of(snapshot)
    figures = snapshot.layout.figures.get("sheets", {}) if snapshot.layout else {}
    kept = Layout.objects.defer("findings", "picture").in_bulk([v for v in snapshot.kept.values() if v])
    out = []
    for s in sheets(settings):
        found = figures.get(str(s["id"]))
        try_ = kept.get(snapshot.kept.get(str(s["id"]), 0))
        map_px = int(of_sheet(settings, s["id"])["map_px"])
        shown, bleed = None if found is None else scaled(found, map_px, bool(s["tile_px"])), _bleed(snapshot, s["id"], map_px)
        said = verdict_of(shown, bleed, asked_of(snapshot, settings, s["id"]))
        out.append(
            {
                "id": s["id"], "name": s["name"], "figures": shown, "bleed": bleed, "islands": now[s["id"]]["count"], "kept": None if try_ is None else try_.pk,
                "stale": [] if try_ is None else reasons(try_.inputs, now[s["id"]]) + _astray(try_),
                **{k: None if try_ is None else try_.figures.get(of) for k, of in (("filled", "tiles_filled"), ("move", "move"), ("spans", "spans"))},
                "verdict": None if said is None else said.as_dict(), "moved": 0 if try_ is None else moved_since(snapshot, try_, s["id"]),
            }
        )  # fmt: skip
    return out


def asked_of(snapshot: Snapshot, settings: dict[str, Any], sheet: int) -> Asked:
    """What a sheet's layout has to hold: the padding and margin of its recipe where it was packed, nothing where it is as it came."""
    if not snapshot.kept.get(str(sheet)):
        return Asked()
    flat = of_sheet(settings, sheet)
    return Asked(float(flat["padding_px"]), float(flat["margin_px"]))


def verdict_of(figures: dict[str, Any] | None, bleed: dict[str, Any] | None, asked: Asked) -> Verdict | None:
    """The verdict on a sheet; None where nothing lies on it."""
    return verdict(figures, bleed, asked) if figures is not None and figures["islands"] else None


def whole_verdict(rows: list[dict[str, Any]]) -> Verdict | None:
    """The verdict on all sheets, of what `sheet_rows` tells."""
    return of_sheets([OfSheet(r["name"], Verdict(**r["verdict"]), (r["bleed"] or {}).get("clean")) for r in rows if r["verdict"]])


def _astray(kept: Layout) -> list[str]:
    """Why a layout of which only some was packed is not what its rules ask for."""
    count = kept.figures.get("strays", 0)
    return (
        [f"{counted(count, 'island lies outside the tile it belongs to', 'islands lie outside the tile they belong to')}"] if count else []
    )


def _bleed(snapshot: Snapshot, sheet: int, map_px: int) -> dict[str, Any] | None:
    """The bleed proof of a sheet, where its layout was proven at this map size."""
    found = snapshot.layout.figures.get("bleed", {}).get(str(sheet)) if snapshot.layout else None
    return found if found is not None and found["px"] == map_px else None


def scaled(figures: dict[str, Any], map_px: int, mixed: bool) -> dict[str, Any]:
    """Figures that were measured at one map size, at another: lengths in px grow with it, areas with its square.

    A sheet whose tiles have resolutions of their own (`mixed`) keeps what was measured.
    """
    k = map_px / figures["map_px"]
    if k == 1 or mixed:
        return figures
    out = figures | {"map_px": map_px}
    for name in ("smallest_gap_px", "smallest_margin_px", "density"):
        out[name] = None if figures[name] is None else figures[name] * k
    out["overlap"] = figures["overlap"] | {"px": figures["overlap"]["px"] * k * k}
    out["tiles"] = [t | {"px": map_px, "density": None if t["density"] is None else t["density"] * k} for t in figures.get("tiles", [])]
    return out


def whole(snapshot: Snapshot, rows: list[dict[str, Any]]) -> dict[str, Any] | None:
    """The figures of all sheets together: sums, the least gap and margin, the mean coverage of those in use."""
    found = [r["figures"] for r in rows if r["figures"] is not None]
    used = [f for f in found if f["islands"]] or found[:1]
    if snapshot.layout is None or not used:
        return None
    if len(used) == 1:
        return used[0] | {"density": used[0]["density"]}

    def least(name: str) -> float | None:
        return min((f[name] for f in used if f[name] is not None), default=None)

    first = used[0]
    return first | {
        "islands": sum(f["islands"] for f in used), "coverage": sum(f["coverage"] for f in used) / len(used),
        "density": snapshot.layout.figures.get("density"), "smallest_gap_px": least("smallest_gap_px"),
        "smallest_margin_px": least("smallest_margin_px"), "overlap": {k: sum(f["overlap"][k] for f in used) for k in first["overlap"]},
        "outside": sum(f["outside"] for f in used), "flipped": sum(f["flipped"] for f in used), "tiles": [],
        "twins": sum(f.get("twins", 0) for f in used),
    }  # fmt: skip
