"""What a batch came to: JSON, CSV, and a page with the outliers first and a small picture of each asset."""

from __future__ import annotations

import csv
import io
import json
from html import escape
from typing import Any
from urllib.parse import quote

from .places import Place

Row = dict[str, Any]
COLUMNS = ("name", "state", "ok", "coverage", "density_px_per_m", "islands", "seconds", "why", "verdict")
_STYLE = """body{font:14px/1.45 system-ui,sans-serif;color:#26324d;background:#f6f0e3;margin:2em auto;max-width:72em;padding:0 1em}
h1{font-size:22px}.bad{color:#a33f34}.fair{color:#7a5c1e}table{border-collapse:collapse;font-variant-numeric:tabular-nums;width:100%}
td,th{padding:.3em 1em .3em 0;text-align:left;border-bottom:1px dashed #cdbf9f;vertical-align:top}td.n,th.n{text-align:right}
img{width:64px;height:64px;object-fit:contain;border:1px solid #cdbf9f;background:#fdfaf3}a{color:#3c5a99}small{color:#5b6275}"""


def limits_of(job: Row) -> tuple[float | None, float | None]:
    """The least and greatest density that a job allows."""
    check = job.get("check", {})
    return check.get("density_least"), check.get("density_greatest")


def outside(row: Row, least: float | None, greatest: float | None) -> str:
    """How far an asset's density is outside the limits, in words; empty where it is not."""
    d = row.get("density_px_per_m")
    if d is None:
        return ""
    if least is not None and d < least:
        return (
            f"{1 - d / least:.0%} below the least density"
            if d * 10 > least
            else f"{least / d:,.0f} times less than the least density"
            if d
            else "no density at all"
        )
    if greatest is not None and d > greatest:
        return (
            f"{d / greatest - 1:.0%} above the greatest density" if d < greatest * 10 else f"{d / greatest:,.0f} times the greatest density"
        )
    return ""


FAILED, OUTSIDE, UNFIT, FINE = range(4)


def place_of(row: Row, least: float | None, greatest: float | None) -> tuple[int, float]:
    """How soon somebody should look at an asset: failed, outside the limits, not fit, fine; and of those outside how many times."""
    d = row.get("density_px_per_m") or 0.0
    far = max((least or 0.0) / d if d and least else 0.0, d / greatest if greatest else 0.0)
    kind = FAILED if row["state"] == "failed" else OUTSIDE if outside(row, least, greatest) else UNFIT if not row.get("ok") else FINE
    return kind, far if kind == OUTSIDE else 0.0


def ordered(rows: list[Row], least: float | None, greatest: float | None) -> list[Row]:
    """What failed first, then what is outside the limits, the farthest first, then what is not fit, then the rest by name."""

    def place(row: Row) -> tuple[int, float, str]:
        rank, far = place_of(row, least, greatest)
        return rank, -far, row["name"]

    return sorted(rows, key=place)


def report(rows: list[Row], seconds: float, workers: int) -> Row:
    """As the command prints it."""
    kept = ("name", "state", "why", "coverage", "density_px_per_m", "ok", "seconds")
    more = ("verdict", "islands", "notes", "kind", "peak_mb")
    assets = [{k: r.get(k) for k in kept} | {k: r[k] for k in more if k in r} for r in rows]
    return {"assets": assets, "seconds": round(seconds, 2), "workers": workers}


def put(out: Place, found: Row, job: Row) -> None:
    """Write all three beside the results."""
    rows, (least, greatest) = found["assets"], limits_of(job)
    out.send("batch.json", (json.dumps(found, indent=1) + "\n").encode())
    out.send("batch.csv", table(rows, least, greatest).encode())
    out.send("batch.html", page(found, least, greatest))


def table(rows: list[Row], least: float | None, greatest: float | None) -> str:
    """CSV of all assets."""
    text = io.StringIO()
    lines = csv.writer(text, lineterminator="\n")
    lines.writerow((*COLUMNS, "outside"))
    for r in rows:
        lines.writerow([cell(r.get(c)) for c in COLUMNS] + [outside(r, least, greatest)])
    return text.getvalue()


def said(row: Row, least: float | None, greatest: float | None) -> str:
    """What an asset came to, in words."""
    far = outside(row, least, greatest)
    return " ".join(x for x in (far and f"{far}.", row.get("why") or row.get("verdict") or "") if x)


def cell(value: Any) -> Any:
    """What a table may show: a text that begins like a formula is no formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r") else "" if value is None else value


def page(found: Row, least: float | None, greatest: float | None) -> bytes:
    """The page."""
    rows = ordered(found["assets"], least, greatest)
    count = {s: sum(r["state"] == s for r in rows) for s in ("done", "unchanged", "failed")}
    out = [f'<!doctype html><html lang="en"><meta charset="utf-8"><title>Batch</title><style>{_STYLE}</style><h1>{len(rows):,} assets</h1>']
    out.append(
        f"<p>{count['done']:,} done, {count['unchanged']:,} unchanged, {count['failed']:,} failed in {found['seconds']:,.1f} s on {found['workers']} workers.</p>"
    )
    out.append(
        '<table><tr><th></th><th>Asset</th><th class="n">Coverage</th><th class="n">Density</th><th class="n">Islands</th><th class="n">Seconds</th><th>What it came to</th></tr>'
    )
    for r in rows:
        out.append(_row(r, outside(r, least, greatest), said(r, least, greatest)))
    return "".join([*out, "</table></html>\n"]).encode()


def _row(r: Row, far: str, text: str) -> str:
    name, path = escape(r["name"], quote=True), quote(r["name"])
    failed = r["state"] == "failed"
    shown = "" if failed or not r.get("islands") else f'<a href="{path}/report.html"><img loading="lazy" alt="" src="{path}/sheet.png"></a>'
    look = "bad" if failed or far else "" if r.get("ok") else "fair"

    def number(value: float | None, form: str) -> str:
        return f'<td class="n">{"" if value is None else format(value, form)}</td>'

    return (
        f"<tr><td>{shown}</td><td>{name}<br><small>{r['state']}</small></td>{number(r.get('coverage'), '.1%')}{number(r.get('density_px_per_m'), ',.1f')}"
        f'{number(r.get("islands"), ",")}{number(r.get("seconds"), ",.1f")}<td class="{look}">{escape(text)}</td></tr>'
    )
