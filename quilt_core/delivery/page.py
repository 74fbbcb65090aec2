"""The report as a page for people: verdict, figures and pictures of every sheet, in one HTML file without anything from outside."""

from __future__ import annotations

import base64
from html import escape
from typing import Any

from ..words import plain

_STYLE = """body{font:14px/1.45 system-ui,sans-serif;color:#26324d;background:#f6f0e3;margin:2em auto;max-width:60em;padding:0 1em}
h1{font-size:22px}h2{font-size:17px;margin-top:2em;border-top:1px dashed #cdbf9f;padding-top:1em}
.verdict{border:2px dashed;padding:.6em 1em;font-weight:600}.good{color:#4d6530}.bad{color:#a33f34}.fair{color:#7a5c1e}
table{border-collapse:collapse;font-variant-numeric:tabular-nums}td,th{padding:.15em 1em .15em 0;text-align:left;border-bottom:1px dashed #cdbf9f}
td.n,th.n{text-align:right}img{max-width:46%;border:1px solid #cdbf9f;background:#fdfaf3;margin:.5em .5em 0 0}small{color:#5b6275}"""

_LOOK = {"fit": "good", "fit with faults": "fair", "not fit": "bad"}


def _row(name: str, value: object) -> str:
    return f'<tr><td>{escape(name)}</td><td class="n">{escape(str(value))}</td></tr>'


def _px(value: float | None) -> str:
    return "none" if value is None else f"{value:.3f} px"


def page(title: str, sheets: list[dict[str, Any]], carried: list[dict[str, Any]], seen: list[dict[str, Any]]) -> bytes:
    """The page.

    Parameters
    ----------
    sheets : for each `name`, `figures`, `bleed` (or None), its `Verdict`, `padding_px`, `margin_px`, `pictures` {caption: PNG}
    carried : for each map carried over `sheet`, `tile`, `kind`, `px`, `psnr`, `mean`, `bare`
    seen : for each quantity `kind`, `psnr`, `mean`, `worst` material, `worst_psnr`
    """
    out = [f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(title)}</title><style>{_STYLE}</style>']
    out.append(f"<h1>{escape(title)}</h1><p>Measured on the files of this delivery, on the polygons of their islands.</p>")
    for s in sheets:
        f, bleed, found = s["figures"], s["bleed"], s["verdict"]
        out.append(f'<h2>{escape(s["name"])}</h2><p class="verdict {_LOOK[found.grade]}">{escape(found.line)}</p>')
        if found.reasons:
            out.append("<ul>" + "".join(f"<li>{escape(r)}</li>" for r in found.reasons) + "</ul>")
        density = "none" if f["density"] is None else f"{plain(f['density'])} px/m, {plain(f['density'] / 100, 3)} px/cm"
        rows = [
            _row("Islands", f["islands"]), _row("Coverage", f"{f['coverage']:.2%}"), _row("Density", density),
            _row(f"Smallest gap ({s['padding_px']:g} px asked)", _px(f["smallest_gap_px"])),
            _row(f"Smallest margin ({s['margin_px']:g} px asked)", _px(f["smallest_margin_px"])), _row("Twins that share texels", f.get("twins", 0)),
        ]  # fmt: skip
        if bleed is not None:
            rows.append(_row("Clean mip levels, measured", f"down to {bleed['clean']} of {bleed['levels'] - 1}"))
            rows.append(_row("Clean mip levels, rule of thumb", bleed["thumb"]))
        out.append("<table>" + "".join(rows) + "</table>")
        if len(f.get("tiles", [])) > 1:
            cells = "".join(
                f'<tr><td>{t["tile"]}</td><td class="n">{t["px"]} px</td><td class="n">{t["islands"]}</td><td class="n">{t["coverage"]:.1%}</td>'
                f'<td class="n">{_px(t.get("gap_px"))}</td><td class="n">{_px(t.get("margin_px"))}</td></tr>'
                for t in f["tiles"]
            )
            out.append(
                f'<p><table><tr><th>Tile</th><th class="n">Map</th><th class="n">Islands</th><th class="n">Covered</th><th class="n">Gap</th><th class="n">Margin</th></tr>{cells}</table></p>'
            )
        for caption, png in s["pictures"].items():
            data = base64.b64encode(png).decode()
            out.append(
                f'<img alt="{escape(caption, quote=True)}" title="{escape(caption, quote=True)}" src="data:image/png;base64,{data}">'
            )
    if carried:
        out.append("<h2>Old paint, carried over</h2><table><tr><th>Sheet</th><th>Tile</th><th>Map</th>")
        out.append('<th class="n">PSNR</th><th class="n">Mean difference</th><th class="n">Bare triangles</th></tr>')
        for c in carried:
            psnr = "the same" if c["psnr"] is None else f"{c['psnr']:.1f} dB"
            out.append(
                f'<tr><td>{escape(c["sheet"])}</td><td>{c["tile"]}</td><td>{escape(c["kind"])}</td><td class="n">{psnr}</td>'
                f'<td class="n">{c["mean"]:.2f} of 255</td><td class="n">{c["bare"]}</td></tr>'
            )
        out.append(
            "</table><p><small>The difference between the old paint and the new map, both sampled at random points of the surface.</small></p>"
        )
    if seen:
        out.append("<h2>The surface, before and after</h2><table><tr><th>What is seen</th>")
        out.append('<th class="n">PSNR</th><th class="n">Mean difference</th><th>Furthest off</th><th class="n">PSNR there</th></tr>')
        for f in seen:
            all_, there = ("the same" if x is None else f"{x:.1f} dB" for x in (f["psnr"], f["worst_psnr"]))
            out.append(
                f'<tr><td>{escape(f["kind"])}</td><td class="n">{all_}</td><td class="n">{f["mean"]:.2f} of 255</td>'
                f'<td>{escape(f["worst"])}</td><td class="n">{there}</td></tr>'
            )
        out.append(
            "</table><p><small>Every material as its file says it, pictures and factors, at points spread over all of the surface.</small></p>"
        )
    return "".join([*out, "</html>\n"]).encode()
