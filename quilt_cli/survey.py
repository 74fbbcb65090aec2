"""`quilt survey DIR`: the density of a library against limits, before anything is packed; as a page with one chart, CSV and JSON."""

from __future__ import annotations

import argparse
import csv
import io
import json
import math
import tempfile
import time
from pathlib import Path
from typing import Any

from quilt_core.delivery import report, survey
from quilt_core.errors import QuiltError
from quilt_core.formats.pictures import pictures, size_of

from . import files
from .batch import Told


def add(commands: Any, size: Any) -> None:
    """The words of the command; `size` reads a map size."""
    c = commands.add_parser("survey")
    c.add_argument("where", metavar="DIR-or-LIST", help="a folder or address of mesh files, or a text file with one path a line")
    c.add_argument("--out", type=Path, required=True, metavar="DIR", help="where survey.html, survey.csv and survey.json go")
    c.add_argument("--map", type=size, default=2048, metavar="PX", help="map size of assets without pictures of their own (2048)")
    c.add_argument("--same-map", action="store_true", help="take --map for all, whatever pictures they have")
    c.add_argument("--least", type=float, metavar="PX_PER_M", help="the team's least density")
    c.add_argument("--greatest", type=float, metavar="PX_PER_M", help="the team's greatest density")
    c.add_argument("--target", type=float, metavar="PX_PER_M", help="a density for all: what that would change in maps and megabytes")
    c.add_argument(
        "--bytes",
        type=float,
        default=4.0,
        metavar="N",
        help="bytes of a texel in memory (4: uncompressed with alpha; 1: usual compression)",
    )
    c.add_argument("--unit", choices=files.UNITS, default="m", help="unit of files that do not say (m)")
    c.add_argument("--channel-in", type=int, default=0, metavar="N", help="UV channel that is read (0)")
    c.add_argument("--scheduler", metavar="tcp://HOST:PORT", help="a Dask scheduler that runs; without it, this machine's cores")
    c.add_argument("--workers", type=int, metavar="N", help="processes, without a scheduler (one for each core)")
    c.add_argument("--json", action="store_true", help="print the figures as JSON, and nothing else")


def one(order: dict[str, Any]) -> dict[str, Any]:
    """The figures of an asset, in a worker."""
    from quilt_server.jobfile.places import place_at

    limits = survey.Limits(*order["limits"])
    try:
        with tempfile.TemporaryDirectory() as scratch:
            folder, root = place_at(order["root"]).below(order["inner"]).at_hand([order["file"]], Path(scratch))
            path = folder / order["file"]
            scene = files.read(path, files.UNITS[order["unit"]], root)
            (analysed,) = report.analyse_all([scene], order["channel"])
            found = [size_of(body) for maps in pictures(scene, files.Beside(path.parent, root)) for body in maps.values()]
        own = max((max(s) for s in found if s is not None), default=None)
        return survey.figures(order["name"], analysed, order["px"], None if order["same"] else own, order["bytes"], limits)
    except (QuiltError, ValueError) as e:
        return {"name": order["name"], "state": "failed", "why": str(e).removeprefix(f"{order['file']}: "), "stands": ""}


def run(args: argparse.Namespace) -> int:
    """Read all assets and sum them up; 1 where one cannot be read."""
    from quilt_server.jobfile import batch
    from quilt_server.jobfile.assets import assets_of
    from quilt_server.jobfile.places import Here, library

    limits = survey.Limits(args.least, args.greatest, args.target)
    if (
        any(v is not None and not (math.isfinite(v) and v > 0) for v in (args.least, args.greatest, args.target))
        or not 0 < args.bytes <= 64
    ):
        raise QuiltError("Densities are above 0 px/m, and a texel has up to 64 bytes.")
    if args.least and args.greatest and args.least > args.greatest:
        raise QuiltError("The least density is below the greatest.")
    if args.channel_in < 0:
        raise QuiltError("A UV channel is 0 or more.")
    top, paths = library(args.where, Here(args.out))
    begin = time.monotonic()
    orders = [
        {"name": a.name, "key": "survey", "root": top.address, "inner": a.inner, "file": a.files[0], "px": args.map, "same": args.same_map, "bytes": args.bytes,
         "unit": args.unit, "channel": args.channel_in, "limits": (args.least, args.greatest, args.target)}
        for a in assets_of(paths, "file")
    ]  # fmt: skip
    with batch.cluster(
        args.scheduler, min(args.workers or 10**6, len(orders), batch.cores()) if args.scheduler is None else None, page=False
    ) as client:
        rows = batch.run(client, orders, Told(begin), one)
    put(args.out, rows, limits)
    found = survey.summary(rows) | {"seconds": round(time.monotonic() - begin, 2)}
    print(json.dumps(found | {"rows": rows}, indent=1) if args.json else "\n".join(_lines(found, limits, args.out)))
    return 1 if found["failed"] else 0


def _lines(s: dict[str, Any], limits: survey.Limits, out: Path) -> list[str]:
    d = s["density_px_per_m"]
    lines = [
        f"{s['assets']:,} assets: {s['inside']:,} inside the limits, {s['below']:,} below, {s['above']:,} above, {s['none']:,} without UVs, {s['failed']:,} cannot be read"
    ]
    if d is not None:
        lines.append(f"density {d['median']:.4g} px/m in the middle, {d['min']:.4g} to {d['max']:.4g}")
    if s["target"] is not None:
        t = s["target"]
        lines.append(f"at {limits.target:g} px/m: {t['maps']:,} maps, {t['mb']:,.0f} MB, {t['mb_more']:+,.0f} MB")
    return [*lines, f"{s['seconds']:.1f} s; {out / 'survey.html'}"]


def put(out: Path, rows: list[dict[str, Any]], limits: survey.Limits) -> None:
    """Write the page and the tables."""
    from quilt_server.jobfile.summary import cell

    out.mkdir(parents=True, exist_ok=True)
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(survey.COLUMNS)
    table.writerows([cell(v) for v in survey.cells(r)] for r in rows)
    (out / "survey.csv").write_text(text.getvalue())
    (out / "survey.json").write_text(json.dumps({"summary": survey.summary(rows), "rows": rows}, indent=1) + "\n")
    (out / "survey.html").write_bytes(survey.page(rows, limits))
