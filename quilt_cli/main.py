"""`quilt COMMAND`: inspect, pack, verify, deliver, bake, and the web application's demo and start."""

from __future__ import annotations

import argparse
import json
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from quilt_core import formats
from quilt_core.arrange.sheet import SheetPacking, SheetRules, pack_sheet
from quilt_core.arrange.sizes import painted_texels, texel_ratios
from quilt_core.arrange.texel_grid import edges_on_grid, on_texels, roomier
from quilt_core.delivery import report
from quilt_core.errors import DoesNotFit, QuiltError
from quilt_core.formats.pictures import pictures, size_of, texels_per_unit
from quilt_core.measure.proof import prove
from quilt_core.model.scene import Floats, Scene
from quilt_core.model.tiles import Grid
from quilt_core.pack import Recipe
from quilt_core.pack.shapes import ANGLES
from quilt_core.uv.analysis import MeshIslands, transform_rows

from . import bake, deliver, files, run, unwrap, user


def _tiles(text: str) -> tuple[int, int]:
    columns, _, rows = text.lower().partition("x")
    if not (columns.isdigit() and rows.isdigit() and 1 <= int(columns) <= 10 and 1 <= int(rows) <= 100):
        raise argparse.ArgumentTypeError(f"'{text}' is not columns x rows, such as 2x1 (at most 10 columns)")
    return int(columns), int(rows)


def _map(text: str) -> int:
    if not text.isdigit() or not 16 <= int(text) <= 16384:
        raise argparse.ArgumentTypeError(f"'{text}' is not a map size from 16 to 16384 px")
    return int(text)


def _allowed(text: str) -> tuple[str, ...]:
    kinds = tuple(k.strip() for k in text.split(","))
    if not all(k in report.ALLOWED for k in kinds):
        raise argparse.ArgumentTypeError(f"'{text}' is not a list of {' and '.join(report.ALLOWED)}, as in mirrored,self")
    return kinds


def parser() -> argparse.ArgumentParser:
    """The words of the command line; see `cli.md`."""
    top = argparse.ArgumentParser(prog="quilt", description="Even texel density, packed UV islands, proven layouts.")
    commands = top.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for name, text in (("demo", "load the demo and start the web application"), ("start", "start the web application")):
        c = commands.add_parser(name, help=text)
        c.add_argument("--port", type=int, default=8321, help="where it listens on this machine (8321)")
        c.add_argument("--data", type=Path, help="where projects are kept")
        c.add_argument(
            "--host",
            default="127.0.0.1",
            metavar="ADDRESS",
            help="where it listens: this machine alone (127.0.0.1), or an address for a team",
        )
        c.add_argument(
            "--team", action="store_true", help="whoever comes has to sign in, on this machine too (so it is where --host is another)"
        )
        c.add_argument(
            "--allow-host", action="append", default=[], metavar="NAME", help="a name that the team calls this machine by; repeatable"
        )
        c.add_argument("--plain-http", action="store_true", help="there is no TLS in front of it: passwords can be read on the way")
    common = argparse.ArgumentParser(add_help=False)
    common.add_argument("files", nargs="+", type=Path, metavar="FILE", help="mesh files: glTF, OBJ, PLY, USD, COLLADA")
    common.add_argument("--map", type=_map, default=2048, metavar="PX", help="map size (2048)")
    common.add_argument("--unit", choices=files.UNITS, default="m", help="unit of files that do not say (m)")
    common.add_argument("--channel-in", type=int, default=0, metavar="N", help="UV channel that is read (0)")
    common.add_argument("--json", action="store_true", help="print the figures as JSON")
    i = commands.add_parser("inspect", parents=[common], help="what is in the files and what is wrong with their UVs")
    i.add_argument("--tiles", type=_tiles, default=(1, 1), metavar="CxR", help="tiles that count as inside (1x1)")
    v = commands.add_parser("verify", parents=[common], help="prove the layout that the files share; exit 1 where it fails")
    v.add_argument("--padding", type=float, metavar="PX", help="also ask for this gap")
    v.add_argument("--margin", type=float, metavar="PX", help="also ask for this margin")
    v.add_argument(
        "--allow",
        type=_allowed,
        default=(),
        metavar="KINDS",
        help="faults of single islands that came with their UVs and are no reason to fail: mirrored, self (overlap themselves)",
    )
    p = argparse.ArgumentParser(add_help=False)
    p.add_argument("--out", type=Path, required=True, metavar="DIR", help="another folder than that of the files, for what is written")
    p.add_argument("--padding", type=float, metavar="PX", help="between islands (8 at 2048)")
    p.add_argument("--margin", type=float, metavar="PX", help="to the border (half the padding)")
    p.add_argument("--rotate", choices=ANGLES, default="90", help="turns that islands may take, in degrees (90)")
    p.add_argument("--tiles", type=_tiles, default=(1, 1), metavar="CxR", help="tiles that are filled, columns x rows (1x1)")
    how = p.add_mutually_exclusive_group()
    how.add_argument("--density", type=float, metavar="PX_PER_M", help="hold this density")
    how.add_argument("--fit", action="store_true", help="the highest common density that fits (default)")
    p.add_argument("--keep-ratios", action="store_true", help="keep the islands' present relative sizes in UV")
    p.add_argument("--seconds", type=float, default=10.0, metavar="S", help="how long the search goes on (10)")
    p.add_argument(
        "--passes", type=int, metavar="N", help="bound the search by so many passes in place of the seconds: the same bytes every time"
    )
    p.add_argument("--seed", type=int, default=0, metavar="N", help="another number searches in another way (0)")
    p.add_argument("--channel-out", type=int, default=0, metavar="N", help="UV channel that is written (0)")
    k = commands.add_parser("pack", parents=[common, p], help="even the density and pack all files into one sheet")
    k.add_argument(
        "--keep-texels",
        action="store_true",
        help="keep the texels that islands were painted with, against each other: a 1024 px picture counts twice a 512 px one",
    )
    k.add_argument(
        "--refuse-slivers",
        action="store_true",
        help="exit 3 where islands are so long and thin that no map could hold them, instead of making them shorter",
    )
    k.add_argument(
        "--texel-grid",
        type=float,
        nargs="?",
        const=1.0,
        metavar="PERCENT",
        help="straight edges along the axes lie on whole texels; sizes change by so many percent at most for it (1)",
    )
    deliver.add(commands, common, _tiles)
    bake.add(commands, common, _tiles)
    unwrap.add(commands, common, p)
    run.add(commands)
    user.add(commands)
    return top


def main(argv: list[str] | None = None) -> int:
    """Run a command; returns the exit code of `cli.md`."""
    args = parser().parse_args(argv)
    if args.command in ("demo", "start"):
        from quilt_server.launch import Where, serve

        return serve(
            Where(args.host, args.port, args.team, tuple(args.allow_host), args.plain_http), args.data, demo=args.command == "demo"
        )
    if args.command == "user":
        from quilt_server import accounts

        return accounts.run(args)
    try:
        return int(globals()["_" + args.command](args))
    except DoesNotFit as e:
        print(f"quilt: {e}", file=sys.stderr)
        return 3
    except (QuiltError, ValueError) as e:
        print(f"quilt: {e}", file=sys.stderr)
        return 2


def _scenes(args: argparse.Namespace) -> list[Scene]:
    if args.channel_in < 0:
        raise QuiltError("A UV channel is 0 or more.")
    out = []
    for n, path in enumerate(args.files):
        files.say(f"Reading {path.name}, {n + 1} of {len(args.files)}")
        out.append(files.read(path, files.UNITS[args.unit]))
    files.say("Finding islands")
    return out


def _say(args: argparse.Namespace, figures: dict[str, Any], text: list[str]) -> None:
    print(json.dumps(figures, indent=2) if args.json else "\n".join(text))


def _inspect(args: argparse.Namespace) -> int:
    r = report.inspect_report(_scenes(args), args.channel_in, args.map, args.tiles)
    lines = [f"{len(r['objects'])} objects, {r['islands']} islands, density at {args.map} px:"]
    for o in r["objects"]:
        d = o["density_px_per_m"]
        density = f"{d['median']:10.1f} px/m  ({d['min']:.1f} to {d['max']:.1f})" if d else "     no UVs"
        lines.append(f"  {o['name'][:32]:32} {o['triangles']:8} triangles {o['islands']:6} islands {density}")
    f = r["faults"]
    lines.append(f"{len(f['no_uv'])} objects with faces without UVs, {f['flipped']} flipped islands, {f['outside']} outside,")
    more = "at least " if f["overlap"]["cut_short"] else ""
    lines.append(f"{more}{f['overlap']['pairs']} overlapping pairs, {f['overlap']['self']} islands overlap themselves,")
    gap = f["gap"]["smallest_px"]
    lines.append(f"{f['zero_area']} triangles without area, smallest gap {'none' if gap is None else f'{gap:.2f} px'}.")
    _say(args, r, lines + r["warnings"])
    return 0


def _verify(args: argparse.Namespace) -> int:
    r = report.verify_report(_scenes(args), args.channel_in, args.map, args.padding, args.margin, args.allow)
    gap, margin = (("none" if r[k] is None else f"{r[k]:.3f} px") for k in ("smallest_gap_px", "smallest_margin_px"))
    verdict = "; ".join([r["verdict"], *r["reasons"], *r["faults"]])
    lines = [
        f"{verdict}.",
        f"{r['islands']} islands at {args.map} px, smallest gap {gap}, smallest margin {margin}, coverage {r['coverage']:.1%}",
    ]
    words = {"self": "overlap themselves", "mirrored": "are mirrored"}
    lines += [f"{n} islands {words[kind]}, as their UVs came: allowed" for kind, n in r["allowed"].items()]
    own = [words[k] for k, n in (("self", r["overlap"]["self"]), ("mirrored", r["flipped"])) if n and k not in args.allow]
    if own:
        lines.append(f"islands that {' or '.join(own)} do so in the UVs that came; --allow takes these kinds")
    _say(args, r, lines)
    return 0 if r["ok"] else 1


def recipe_of(args: argparse.Namespace) -> Recipe:
    """The recipe that the options ask for, with the usual gaps for the map size."""
    padding = args.padding if args.padding is not None else 8 * args.map / 2048
    margin = args.margin if args.margin is not None else padding / 2
    columns, rows = args.tiles
    return Recipe(args.map, padding, margin, args.rotate, columns, rows, args.density, args.seconds, args.passes, args.seed)


def _deliver(args: argparse.Namespace) -> int:
    r = deliver.deliver(args, _scenes(args))
    lines = [
        f"{r['verdict']}.",
        *r["reasons"],
        f"clean down to mip level {r['bleed']['clean']}, {r['bleed']['thumb']} by the rule of thumb",
        *r["notes"],
    ]
    _say(args, r, lines)
    return 0 if r["ok"] else 1


def _run(args: argparse.Namespace) -> int:
    return run.run(args)


def _bake(args: argparse.Namespace) -> int:
    r = bake.run(args, _scenes(args))
    lines = [f"tile {t['tile']}: {', '.join(t['maps'])}; {t['twice']} texels written twice, {t['missed']} missed" for t in r["tiles"]]
    _say(args, r, lines or ["No island lies on these tiles."])
    return 0 if r["ok"] else 1


def _pack(args: argparse.Namespace) -> int:
    begin = time.monotonic()
    recipe = recipe_of(args)
    if args.channel_out < 0:
        raise QuiltError("A UV channel is 0 or more.")
    if args.texel_grid is not None and not 0 <= args.texel_grid <= 20:
        raise QuiltError("--texel-grid lets sizes change by 0 to 20 percent.")
    if args.keep_ratios and args.keep_texels:
        raise QuiltError("--keep-ratios keeps sizes in UV, --keep-texels the texels of the old pictures. Take one of them.")
    files.check_out(args.out, args.files)
    files.folders(args.files)
    scenes = _scenes(args)
    analysed = report.analyse_all(scenes, args.channel_in)
    pieces = report.pieces_of(analysed)

    def progress(_: list[Floats], packing: Any) -> None:
        if sys.stderr.isatty():
            print(f"\r{time.monotonic() - begin:6.1f} s  coverage {packing.coverage:.2%} ", end="", file=sys.stderr)

    try:
        packed = pack_sheet(
            pieces,
            recipe if args.texel_grid is None else roomier(recipe),
            args.keep_ratios or args.keep_texels,
            progress,
            weight=_texels(args, analysed),
            rules=SheetRules(refuse_endless=args.refuse_slivers),
        )
    except DoesNotFit as e:
        raise DoesNotFit(f"{e} No place for: {_names(pieces, e.islands)}.", e.islands, e.best_density) from e
    if sys.stderr.isatty():
        print(file=sys.stderr)
    uvs, change = _laid(args, pieces, packed, recipe)
    written = _write(args, analysed, uvs)
    # The proof reads what was written, through the readers, as anybody else would.
    again = report.pieces_of(report.analyse_all(written, args.channel_out))
    proof = prove(again, None, args.map, args.tiles)
    figures = report.pack_report(again, proof, packed, recipe, time.monotonic() - begin)
    if args.texel_grid is not None:
        on, edges = edges_on_grid(np.concatenate([p.outlines.regions for p in again]), Grid(args.map, *args.tiles))
        figures["texel_grid"] = {"edges": edges, "on": on, "change": round(change, 6)}
    figures["unpacked"] = [f"{s.file}: {o.name}" for s, ps in analysed for o in s.objects if ps[o.mesh] is None]
    (args.out / "report.json").write_text(json.dumps(figures, indent=2) + "\n")
    density = figures["density_px_per_m"]
    lines = [f"{figures['islands']} islands of {figures['objects']} objects, coverage {figures['coverage']:.2%}, {density or 0:.1f} px/m"]
    lines.append(
        f"smallest gap {figures['smallest_gap_px']} px, margin {figures['smallest_margin_px']} px, {figures['overlap_pairs']} overlaps"
    )
    if args.texel_grid is not None:
        lines.append(f"{on:,} of {edges:,} straight edges on whole texels, sizes changed by {change:.2%} at most")
    lines += [f"left as it was, it has no UVs: {u}" for u in figures["unpacked"]]
    lines += [f"no map could hold it at the common density, so it is smaller: {n}" for n in figures["shrunk_islands"][:12]]
    lines.append("; ".join([f"{figures['verdict']}", *figures["reasons"]]) + ".")
    _say(args, figures, lines)
    return 0 if figures["ok"] else 1


def _texels(args: argparse.Namespace, analysed: list[report.Analysed]) -> Floats | None:
    """What islands' sizes are multiplied by where they keep the texels of their old pictures."""
    if not args.keep_texels:
        return None
    pieces, texels = [], []
    for (scene, own), path in zip(analysed, args.files, strict=True):
        found = [{kind: size_of(body) for kind, body in maps.items()} for maps in pictures(scene, files.Beside(path.parent))]
        per = texels_per_unit(scene, [{kind: size for kind, size in m.items() if size is not None} for m in found])
        pieces += [p for p in own if p is not None]
        texels += [painted_texels(scene, m, per) for m, p in enumerate(own) if p is not None]
    return texel_ratios(pieces, texels)


def _unwrap(args: argparse.Namespace) -> int:
    padding = args.padding if args.padding is not None else 8 * args.map / 2048
    margin = args.margin if args.margin is not None else padding / 2
    return _unfit(
        args,
        *unwrap.unwrap(args, _scenes(args), Recipe(args.map, padding, margin, seconds=args.seconds, passes=args.passes, seed=args.seed)),
    )


def _mend(args: argparse.Namespace) -> int:
    return _unfit(args, *unwrap.mend(args, _scenes(args)))


def _ready(args: argparse.Namespace) -> int:
    if args.channel_out < 0:
        raise QuiltError("A UV channel is 0 or more.")
    found, lines = unwrap.ready(args, _scenes(args), recipe_of(args))
    unfit = _unfit(args, found, lines)
    if not found["ok"] and not unfit:
        print(f"quilt: {'; '.join([found['verdict'], *found['reasons']])}", file=sys.stderr)
    return 0 if found["ok"] else 1


def _unfit(args: argparse.Namespace, found: dict[str, Any], lines: list[str]) -> int:
    """Say what was done; 1, and the names, where something stayed that is not fit for baking."""
    _say(args, found, lines)
    unfit = [f"{o['name']}: {', '.join(o['left'])}" for o in found["objects"] if o["left"]]
    for text in unfit:
        print(f"quilt: {text}", file=sys.stderr)
    return 1 if unfit else 0


def _names(pieces: list[MeshIslands], islands: list[int]) -> str:
    names = [f"{p.objects[0].name} island {i}" for p in pieces for i in range(p.islands.count)]
    shown = ", ".join(names[i] for i in islands[:12])
    return shown + (f" and {len(islands) - 12} more" if len(islands) > 12 else "")


def _laid(args: argparse.Namespace, pieces: list[MeshIslands], packed: SheetPacking, recipe: Recipe) -> tuple[list[Floats], float]:
    """The UVs of every mesh where the packing puts them, on whole texels where that is asked for; and by which share sizes changed at most."""
    uvs = [transform_rows(p.uvs, p.islands.of_row, t) for p, t in zip(pieces, packed.transforms, strict=True)]
    if args.texel_grid is None:
        return uvs, 0.0
    return on_texels(pieces, packed, uvs, Grid(args.map, *args.tiles), args.texel_grid / 100, recipe.padding_px, recipe.margin_px)


def _write(args: argparse.Namespace, analysed: list[report.Analysed], laid: list[Floats]) -> list[Scene]:
    """Write all files with their new UVs; returns them as read back."""
    args.out.mkdir(parents=True, exist_ok=True)
    out, at = [], 0
    for (scene, pieces), source, folder in zip(analysed, args.files, files.folders(args.files), strict=True):
        uvs = {}
        for number, piece in enumerate(pieces):
            if piece is not None:
                uvs[number] = laid[at]
                at += 1
        outputs = formats.write(scene, uvs, args.channel_out)
        (args.out / folder).mkdir(parents=True, exist_ok=True)
        files.write(scene, args.out / folder, source, outputs)
        out.append(files.read(args.out / folder / scene.file, files.UNITS[args.unit]))
    return out


if __name__ == "__main__":
    sys.exit(main())
