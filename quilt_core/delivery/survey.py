"""The density of a library, before anything is packed: of each asset against limits, and what a target would change in maps and megabytes."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from typing import Any

import numpy as np

from ..arrange.plan import USUAL, tiles_needed
from ..model.scene import Scene
from ..words import plain
from .report import Analysed, overall_density, pieces_of

LARGEST = 8192  # px of the largest single map that is proposed; what needs more gets several
MIPS = 4 / 3  # texels of a map with all its mip levels, over those of the map (the sum of 1/4^n)
Row = dict[str, Any]


@dataclass(frozen=True)
class Limits:
    """The team's least and greatest density in px/m, and the one that is aimed at; None where there is none."""

    least: float | None = None
    greatest: float | None = None
    target: float | None = None


def figures(name: str, analysed: Analysed, px: int, own: int | None, bytes_per_texel: float, limits: Limits) -> Row:
    """What a survey tells of an asset.

    Parameters
    ----------
    px : side of its map; own : side of its largest picture, which counts instead where it has one

    Returns
    -------
    name, objects, triangles, islands, bare faces, surface in m2, side of the map and whether that is its own, density (median, least, greatest in px/m), how it stands to the
    limits, and for the target the side and number of maps that it needs and the megabytes that these are more
    """
    scene, pieces = analysed
    side = own or px
    found = overall_density(pieces_of([analysed]), None, side)
    area = float(sum(float(p.world_area.sum()) for p in pieces if p is not None))
    row: Row = {
        "name": name, "objects": len(scene.objects), "triangles": sum(len(scene.meshes[o.mesh].triangles) for o in scene.objects),
        "islands": sum(p.islands.count for p in pieces if p is not None), "bare": _bare(scene, pieces), "area_m2": area, "px": side, "own_picture": own is not None,
        "density_px_per_m": None if found is None else {"median": found.median, "min": found.least, "max": found.greatest},
        "mb": megabytes(side, 1, bytes_per_texel),
    }  # fmt: skip
    row["stands"] = stands(row, limits)
    if limits.target is not None and area > 0:
        row["target"] = wanted(area, limits.target, bytes_per_texel)
        row["target"]["mb_more"] = row["target"]["mb"] - row["mb"]
    return row


def _bare(scene: Scene, pieces: Sequence[Any]) -> int:
    """Faces without UVs, of meshes that have none at all."""
    return sum(len(scene.meshes[o.mesh].triangles) for o in scene.objects if pieces[o.mesh] is None)


def megabytes(px: int, maps: int, bytes_per_texel: float) -> float:
    """Size of square maps in memory, with their mip levels."""
    return maps * px * px * bytes_per_texel * MIPS / 2**20


def wanted(area: float, target: float, bytes_per_texel: float) -> Row:
    """The smallest map, of a power of two, that gives a surface in m2 a density in px/m at the coverage that packing usually reaches; several of the largest where one is not enough."""
    side = math.sqrt(area * target**2 / USUAL)
    px = min(LARGEST, max(16, 2 ** math.ceil(math.log2(max(side, 1.0)) - 1e-9)))
    maps = tiles_needed(USUAL, px, area, target)
    return {"px": px, "maps": maps, "mb": megabytes(px, maps, bytes_per_texel)}


def stands(row: Row, limits: Limits) -> str:
    """How the median density stands to the limits: "below", "above", "inside", or "none" without UVs."""
    d = row["density_px_per_m"]
    if d is None:
        return "none"
    if limits.least is not None and d["median"] < limits.least:
        return "below"
    return "above" if limits.greatest is not None and d["median"] > limits.greatest else "inside"


def summary(rows: Sequence[Row]) -> Row:
    """How many stand how, the middle density, and what the target changes in all."""
    medians = [r["density_px_per_m"]["median"] for r in rows if r.get("density_px_per_m")]
    aims = [r["target"] for r in rows if "target" in r]
    return {
        "assets": len(rows), **{k: sum(r.get("stands") == k for r in rows) for k in ("below", "inside", "above", "none")}, "failed": sum("why" in r for r in rows),
        "density_px_per_m": {"median": float(np.median(medians)), "min": min(medians), "max": max(medians)} if medians else None,
        "mb": sum(r.get("mb", 0.0) for r in rows), "target": {"maps": sum(t["maps"] for t in aims), "mb": sum(t["mb"] for t in aims), "mb_more": sum(t["mb_more"] for t in aims)} if aims else None,
    }  # fmt: skip


_STYLE = """body{font:14px/1.45 system-ui,sans-serif;color:#26324d;background:#f6f0e3;margin:2em auto;max-width:80em;padding:0 1em}h1{font-size:22px}h2{font-size:17px}
svg{width:100%;height:auto;background:#fdfaf3;border:1px dashed #cdbf9f}svg text{font-size:11px;fill:#26324d}.bad{color:#a33f34}
table{border-collapse:collapse;font-variant-numeric:tabular-nums}td,th{padding:.15em 1.2em .15em 0;text-align:left;border-bottom:1px dashed #cdbf9f}td.n,th.n{text-align:right}small{color:#5b6275}"""
_WIDE, _HIGH, _LEFT, _LOW, _TOP = 1000.0, 420.0, 70.0, 30.0, 16.0


def page(rows: Sequence[Row], limits: Limits, most: int = 60) -> bytes:
    """The survey as one HTML file without anything from outside: a chart of all assets, and those that stand outside the limits, the farthest first."""
    s, known = summary(rows), [r for r in rows if r.get("density_px_per_m")]
    out = [
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>Density of a library</title><style>{_STYLE}</style><h1>Density of {s["assets"]:,} assets</h1>'
    ]
    parts = [
        f"{s['inside']:,} inside the limits",
        f"{s['below']:,} below",
        f"{s['above']:,} above",
        f"{s['none']:,} without UVs",
        f"{s['failed']:,} that cannot be read",
    ]
    out.append(f"<p>{', '.join(parts)}.</p>")
    if s["target"] is not None and limits.target is not None:
        t = s["target"]
        word = "more" if t["mb_more"] >= 0 else "less"
        out.append(
            f"<p>At {plain(limits.target)} px/m: {t['maps']:,} maps of {t['mb']:,.0f} MB, {abs(t['mb_more']):,.0f} MB {word} than now ({s['mb']:,.0f} MB).</p>"
        )
    if known:
        out.append(chart(known, limits))
    out.append(_table(sorted(known, key=lambda r: -far(r, limits))[:most], limits))
    bad = [r for r in rows if "why" in r]
    if bad:
        out.append(
            "<h2>Cannot be read</h2><ul>" + "".join(f"<li>{escape(r['name'])}: {escape(r['why'])}</li>" for r in bad[:most]) + "</ul>"
        )
    return "".join([*out, "</html>\n"]).encode()


def far(row: Row, limits: Limits) -> float:
    """How far an asset is outside the limits, as a power of two; below 0 inside them."""
    d = row["density_px_per_m"]["median"]
    low = math.log2(limits.least / d) if limits.least else -math.inf
    return max(low, math.log2(d / limits.greatest) if limits.greatest else -math.inf)


def chart(rows: Sequence[Row], limits: Limits) -> str:
    """SVG: every asset a mark, from the least dense to the densest, on a scale of powers; the limits as a band, what is outside them in red and the farthest by name."""
    order = sorted(rows, key=lambda r: r["density_px_per_m"]["median"])
    values = np.array([r["density_px_per_m"]["median"] for r in order])
    known = [v for v in (limits.least, limits.greatest, limits.target) if v]
    low, high = math.log10(min(values.min(), *known, values.min()) * 0.8), math.log10(max(values.max(), *known, values.max()) * 1.25)

    def y(d: float) -> float:
        return _TOP + (_HIGH - _TOP - _LOW) * (high - math.log10(d)) / max(high - low, 1e-9)

    step = (_WIDE - _LEFT - 10) / len(order)
    wide = max(0.8, min(step * 0.7, 10.0))
    paths = {"inside": "#3c5a99", "outside": "#a33f34"}
    marks: dict[str, list[str]] = {k: [] for k in paths}
    for n, r in enumerate(order):
        marks["inside" if far(r, limits) <= 0 else "outside"].append(
            f"M{_LEFT + (n + 0.5) * step - wide / 2:.1f} {y(values[n]):.1f}h{wide:.1f}"
        )
    top, bottom = y(limits.greatest) if limits.greatest else _TOP, y(limits.least) if limits.least else _HIGH - _LOW
    out = [
        f'<svg viewBox="0 0 {_WIDE:g} {_HIGH:g}" role="img" aria-label="Density of {len(order):,} assets, from the least to the densest">'
    ]
    out.append(
        f'<rect x="{_LEFT:g}" y="{top:.1f}" width="{_WIDE - _LEFT - 10:g}" height="{max(0.0, bottom - top):.1f}" fill="#3c5a99" opacity=".1"/>'
    )
    for k in range(math.floor(low), math.ceil(high) + 1):
        for d in (1, 2, 5):
            if low <= math.log10(d * 10.0**k) <= high:
                at = y(d * 10.0**k)
                out.append(
                    f'<path d="M{_LEFT:g} {at:.1f}H{_WIDE - 10:g}" stroke="#cdbf9f" stroke-dasharray="2 4"/><text x="{_LEFT - 6:g}" y="{at + 4:.1f}" text-anchor="end">{d * 10.0**k:,.10g}</text>'
                )
    if limits.target:
        out.append(
            f'<path d="M{_LEFT:g} {y(limits.target):.1f}H{_WIDE - 10:g}" stroke="#4d6530" stroke-width="1.5"/><text x="{_WIDE - 12:g}" y="{y(limits.target) - 4:.1f}" text-anchor="end">target</text>'
        )
    out += [f'<path d="{"".join(marks[k])}" stroke="{colour}" stroke-width="3" fill="none"/>' for k, colour in paths.items() if marks[k]]
    out.append(_named(order, limits, step, y))
    out.append(f'<text x="{_LEFT:g}" y="{_HIGH - 8:g}">px/m; every mark is an asset, from the least dense to the densest</text></svg>')
    return "".join(out)


def _named(order: Sequence[Row], limits: Limits, step: float, y: Any) -> str:
    """Names of those farthest outside, at both ends, as far as they have room."""
    out, last = [], {"start": -math.inf, "end": -math.inf}
    ends = [(n, "start") for n in range(min(6, len(order)))] + [(len(order) - 1 - n, "end") for n in range(min(6, len(order)))]
    for n, anchor in ends:
        if far(order[n], limits) <= 0:
            continue
        at = y(order[n]["density_px_per_m"]["median"])
        if abs(at - last[anchor]) < 12:
            continue
        last[anchor] = at
        x = _LEFT + (n + 0.5) * step + (8 if anchor == "start" else -8)
        out.append(f'<text x="{x:.1f}" y="{at + 4:.1f}" text-anchor="{anchor}">{escape(order[n]["name"][-40:])}</text>')
    return "".join(out)


def _table(rows: Sequence[Row], limits: Limits) -> str:
    head = '<tr><th>Asset</th><th class="n">Density, px/m</th><th class="n">Least</th><th class="n">Greatest</th><th class="n">Surface, m²</th><th class="n">Map</th>'
    aim = '<th class="n">At the target</th><th class="n">MB more</th>' if limits.target is not None else ""
    body = []
    for r in rows:
        d, t = r["density_px_per_m"], r.get("target")
        cells = f'<td class="n">{plain(d["median"])}</td><td class="n">{plain(d["min"])}</td><td class="n">{plain(d["max"])}</td><td class="n">{plain(r["area_m2"])}</td><td class="n">{r["px"]}</td>'
        more = f'<td class="n">{t["maps"]} x {t["px"]}</td><td class="n">{t["mb_more"]:,.1f}</td>' if t is not None else ""
        body.append(f'<tr><td class="{"bad" if far(r, limits) > 0 else ""}">{escape(r["name"])}</td>{cells}{more}</tr>')
    return f"<h2>The {len(rows):,} that stand farthest out</h2><table>{head}{aim}</tr>{''.join(body)}</table>"


COLUMNS = (
    "name",
    "stands",
    "median",
    "min",
    "max",
    "px",
    "own_picture",
    "area_m2",
    "objects",
    "triangles",
    "islands",
    "bare",
    "mb",
    "target_px",
    "target_maps",
    "target_mb_more",
    "why",
)


def cells(row: Mapping[str, Any]) -> list[Any]:
    """A row of the table in CSV, by `COLUMNS`."""
    d, t = row.get("density_px_per_m") or {}, row.get("target") or {}
    flat = {**row, **d, "target_px": t.get("px"), "target_maps": t.get("maps"), "target_mb_more": t.get("mb_more")}
    return [flat.get(c) for c in COLUMNS]
