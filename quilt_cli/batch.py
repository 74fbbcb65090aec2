"""`quilt batch`: one job over many assets, on all cores of this machine or on a cluster."""

from __future__ import annotations

import argparse
import json
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from quilt_core.errors import FileError, QuiltError

if TYPE_CHECKING:
    from quilt_server.jobfile.places import Place


def add(commands: Any, common: argparse.ArgumentParser, p: argparse.ArgumentParser) -> None:
    """The words of the command. `common` and `p`: the options of `pack`, which hold where there is no job file."""
    c = commands.add_parser("batch")
    c.add_argument(
        "where",
        metavar="DIR-or-LIST",
        help="a folder of mesh files (or its address, as fsspec has it), or a text file with one path a line",
    )
    c.add_argument(
        "--out", required=True, metavar="DIR", help="another folder or address, for the results: a folder for each asset, and batch.html"
    )
    c.add_argument("--job", type=Path, metavar="JOB", help="a job file; what it says of input.files is replaced by each asset's")
    c.add_argument(
        "--set", action="append", default=[], metavar="KEY=VALUE", help="another value of the job, as recipe.map_px=1024; repeatable"
    )
    c.add_argument(
        "--group",
        default="file",
        metavar="file|folder|REGEX",
        help="what is one asset: each file (file), all of a folder, or all whose path gives the same first group",
    )
    c.add_argument(
        "--scheduler", metavar="tcp://HOST:PORT", help="a Dask scheduler that runs; without it, a cluster of this machine's cores"
    )
    c.add_argument("--workers", type=int, metavar="N", help="processes, without a scheduler (one for each core)")
    c.add_argument("--force", action="store_true", help="do again what has not changed, too")
    c.add_argument("--json", action="store_true", help="print the report as JSON, and nothing else")
    mine = [a for a in (*common._actions, *p._actions) if a.dest in _OPTIONS]
    for a in mine:
        c._add_action(a)
    c.set_defaults(usual={a.dest: a.default for a in mine})


# Options of `pack`, and the key of a recipe that each is.
_OPTIONS = {
    "map": "map_px", "padding": "padding_px", "margin": "margin_px", "rotate": "rotate", "keep_ratios": "keep_ratios", "seconds": "seconds", "passes": "passes",
    "seed": "seed", "density": "density", "tiles": "", "unit": "", "channel_in": "", "channel_out": "",
}  # fmt: skip


def _job(args: argparse.Namespace) -> dict[str, Any]:
    """The values of the job: those of the file, or of the options."""
    from quilt_server.jobfile import text

    if args.job is not None:
        if told := [o for o, usual in args.usual.items() if getattr(args, o) != usual]:
            raise QuiltError(
                f"--{told[0].replace('_', '-')} holds where there is no job file. With --job, say it with --set, as in --set recipe.map_px=1024."
            )
        try:
            values = text.loaded(args.job.read_bytes(), args.job.name)
        except OSError as e:
            raise FileError(str(args.job), e.strerror or "it cannot be opened") from e
    else:
        columns, rows = args.tiles
        recipe = {key: v for option, key in _OPTIONS.items() if key and (v := getattr(args, option)) is not None}
        values = {
            "job": 1, "recipe": recipe | ({"hold": True} if args.density is not None else {}), "input": {"unit": args.unit, "channel": args.channel_in},
            "out": {"channel": args.channel_out}, "sheets": [{"name": "Sheet 1", "columns": columns, "rows": rows}],
        }  # fmt: skip
    values = text.with_set(values, args.set)
    return text.plain(text.parsed(values, args.job.name if args.job is not None else "the options"))


def run(args: argparse.Namespace) -> int:
    """Do it; 1 where an asset failed."""
    from quilt_server.jobfile import batch
    from quilt_server.jobfile.assets import assets_of
    from quilt_server.jobfile.place import own_place
    from quilt_server.jobfile.places import library, place_at

    if args.workers is not None and args.workers < 1:
        raise QuiltError("There is at least one worker.")
    out = place_at(args.out)
    top, paths = library(args.where, out)
    if out.address == top.address:
        raise FileError(str(out), "the results would lie among the mesh files", "", "Choose another folder for --out.")
    with own_place():
        job = _job(args)
    assets = assets_of(paths, args.group)
    begin = time.monotonic()
    with batch.cluster(args.scheduler, args.workers) as client:
        workers = batch.workers_of(client)
        orders = [batch.order_of(a, job, top, out, args.force) for a in assets]
        if not args.json:
            print(f"{len(orders):,} assets on {workers} workers; the engine's own page: {client.dashboard_link}", file=sys.stderr)
        rows = batch.run(client, orders, Told(begin))
    out.sweep()
    return _summed(args, out, rows, time.monotonic() - begin, workers, job)


def _summed(args: argparse.Namespace, out: Place, rows: list[dict[str, Any]], seconds: float, workers: int, job: dict[str, Any]) -> int:
    from quilt_server.jobfile import summary

    found = summary.report(rows, seconds, workers)
    summary.put(out, found, job)
    least, greatest = summary.limits_of(job)
    bad = [
        r
        for r in summary.ordered(rows, least, greatest)
        if r["state"] == "failed" or not r.get("ok") or summary.outside(r, least, greatest)
    ]
    if args.json:
        print(json.dumps(found, indent=1))
    else:
        for r in bad[:40]:
            why = summary.outside(r, least, greatest) or r.get("why") or r.get("verdict") or ""
            print(f"{r['name']}: {why.removeprefix(r['name'] + ': ')}")
        if len(bad) > 40:
            print(f"and {len(bad) - 40:,} more, in batch.html")
        count = {s: sum(r["state"] == s for r in rows) for s in ("done", "unchanged", "failed")}
        print(f"{count['done']:,} done, {count['unchanged']:,} unchanged, {count['failed']:,} failed in {seconds:,.1f} s; {out}/batch.html")
    return 1 if any(r["state"] == "failed" for r in rows) else 0


class Told:
    """A line on a terminal: how many are done, how long the rest takes."""

    def __init__(self, begin: float) -> None:
        self.begin, self.failed = begin, 0

    def __call__(self, row: dict[str, Any], done: int, of: int) -> None:
        self.failed += row.get("state") == "failed"
        if not sys.stderr.isatty():
            return
        left = (time.monotonic() - self.begin) / done * (of - done)
        text = f"{done:,} of {of:,} done, {self.failed:,} failed, about {left:,.0f} s left: {row['name']}"
        print(f"\r{text[:110]:110}", end="" if done < of else "\n", file=sys.stderr, flush=True)
