"""`quilt COMMAND`: inspect, pack, verify, deliver, bake, and the web application's demo and start."""

from __future__ import annotations

import argparse
import json
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from quilt_core.errors import DoesNotFit, QuiltError

if TYPE_CHECKING:
    from quilt_core.model.scene import Scene

# What each command does. Its options, and all that it works with, are loaded where it is called: asking what there is takes no time.
COMMANDS = {
    "demo": "load the demo and start the web application",
    "start": "start the web application",
    "inspect": "what is in the files and what is wrong with their UVs",
    "verify": "prove the layout that the files share; exit 1 where it fails",
    "pack": "even the density and pack all files into one sheet",
    "deliver": "templates, tile images and the proof for files whose layout is done",
    "bake": "bake test maps of a layout that is done; an object called name_high gives its detail to name_low",
    "unwrap": "make new UVs for what has none or cannot be saved",
    "mend": "repair UVs, in the order that is given",
    "ready": "the whole way for a bought kit: what is good stays, the rest is made anew, flipped back, evened, packed, proven",
    "run": "do a job file: the same as in the browser, without one",
    "batch": "one job over many assets: each is packed, proven and delivered on its own",
    "survey": "the density of all assets of a library, before anything is packed",
    "user": "accounts of an installation that a team shares",
}


def _tiles(text: str) -> tuple[int, int]:
    columns, _, rows = text.lower().partition("x")
    if not (columns.isdecimal() and rows.isdecimal() and 1 <= int(columns) <= 10 and 1 <= int(rows) <= 100):
        raise argparse.ArgumentTypeError(f"'{text}' is not columns x rows, such as 2x1 (at most 10 columns)")
    return int(columns), int(rows)


def _map(text: str) -> int:
    if not text.isdecimal() or not 16 <= int(text) <= 16384:
        raise argparse.ArgumentTypeError(f"'{text}' is not a map size from 16 to 16384 px")
    return int(text)


class _Commands:
    """The words of the commands as their modules add them."""

    def __init__(self, top: argparse.ArgumentParser) -> None:
        self.of = top.add_subparsers(dest="command", required=True, metavar="COMMAND")

    def add_parser(self, name: str, **given: Any) -> argparse.ArgumentParser:
        """The parser of a command; what it does stands in `COMMANDS`."""
        return self.of.add_parser(name, help=COMMANDS[name], description=f"{COMMANDS[name][0].upper()}{COMMANDS[name][1:]}.", **given)


def parser(usual: dict[str, Any] | None = None, only: str | None = None) -> argparse.ArgumentParser:
    """The words of the command line.

    Parameters
    ----------
    usual : of `pack`, values of a recipe; only : a command whose options are wanted, "" for none; None for those of all
    """
    top = argparse.ArgumentParser(prog="quilt", description="Even texel density, packed UV islands, proven layouts.")
    commands = _Commands(top)
    for name in COMMANDS:
        if only is not None and name != only:
            commands.add_parser(name)
    for names, add in _GROUPS:
        if only is None or only in names:
            add(_Only(commands, only), usual)
    return top


class _Only(_Commands):
    """The same for one command of several that a module adds: the options of the others go nowhere."""

    def __init__(self, commands: _Commands, only: str | None) -> None:
        self.commands, self.only = commands, only

    def add_parser(self, name: str, **given: Any) -> argparse.ArgumentParser:
        """See `_Commands`."""
        return self.commands.add_parser(name, **given) if self.only in (None, name) else argparse.ArgumentParser(add_help=False, **given)


def _serving(commands: _Commands, _: dict[str, Any] | None) -> None:
    for name in ("demo", "start"):
        c = commands.add_parser(name)
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
        c.add_argument(
            "--library", type=Path, metavar="DIR", help="a folder whose meshes batches may read, in the browser; none without it"
        )
        c.add_argument("--results", type=Path, metavar="DIR", help="where the results of such batches go (the data folder)")
        c.add_argument("--scheduler", metavar="tcp://HOST:PORT", help="a Dask scheduler for such batches (this machine's cores)")


def _common() -> argparse.ArgumentParser:
    """Options of all that reads mesh files."""
    from . import files

    common = argparse.ArgumentParser(add_help=False)
    common.add_argument("files", nargs="+", type=Path, metavar="FILE", help="mesh files: glTF, OBJ, PLY, USD, COLLADA")
    common.add_argument("--map", type=_map, default=2048, metavar="PX", help="map size (2048)")
    common.add_argument("--unit", choices=files.UNITS, default="m", help="unit of files that do not say (m)")
    common.add_argument("--channel-in", type=int, default=0, metavar="N", help="UV channel that is read (0)")
    common.add_argument("--json", action="store_true", help="print the figures as JSON")
    return common


def _looking(commands: _Commands, _: dict[str, Any] | None) -> None:
    i = commands.add_parser("inspect", parents=[_common()])
    i.add_argument("--tiles", type=_tiles, default=(1, 1), metavar="CxR", help="tiles that count as inside (1x1)")


def _verifying(commands: _Commands, _: dict[str, Any] | None) -> None:
    from . import verify

    verify.add(commands, _common())


def _packing(commands: _Commands, usual: dict[str, Any] | None) -> None:
    from . import packing

    packing.add(commands, _common(), packing.options(_tiles), usual)


def _delivering(commands: _Commands, _: dict[str, Any] | None) -> None:
    from . import deliver

    deliver.add(commands, _common(), _tiles)


def _baking(commands: _Commands, _: dict[str, Any] | None) -> None:
    from . import bake

    bake.add(commands, _common(), _tiles)


def _unwrapping(commands: _Commands, _: dict[str, Any] | None) -> None:
    from . import packing, unwrap

    unwrap.add(commands, _common(), packing.options(_tiles))


def _by_job(commands: _Commands, _: dict[str, Any] | None) -> None:
    from . import batch, packing, run, survey

    run.add(commands)
    batch.add(commands, _common(), packing.options(_tiles))
    survey.add(commands, _map)


def _people(commands: _Commands, _: dict[str, Any] | None) -> None:
    from . import user

    user.add(commands)


_GROUPS = (
    (("demo", "start"), _serving), (("inspect",), _looking), (("verify",), _verifying), (("pack",), _packing), (("deliver",), _delivering), (("bake",), _baking),
    (("unwrap", "mend", "ready"), _unwrapping), (("run", "batch", "survey"), _by_job), (("user",), _people),
)  # fmt: skip


def main(argv: list[str] | None = None) -> int:
    """Run a command; returns its exit code: 0 done, 1 a check failed, 2 wrong use or a file that cannot be read, 3 it does not fit."""
    words = sys.argv[1:] if argv is None else argv
    only = next((w for w in words if w in COMMANDS), "")
    args = parser(only=only).parse_args(words)
    if args.command in ("demo", "start"):
        from quilt_server.launch import Where, serve

        if args.library is not None and not args.library.is_dir():
            print(f"quilt: {args.library}: there is no such folder. Choose another with --library.", file=sys.stderr)
            return 2
        where = Where(args.host, args.port, args.team, tuple(args.allow_host), args.plain_http, args.library, args.results, args.scheduler)
        return serve(where, args.data, demo=args.command == "demo")
    if args.command == "user":
        from quilt_server import accounts

        return accounts.run(args)
    try:
        if getattr(args, "recipe", None) is not None:
            # What stands on the command line holds over the recipe.
            from . import packing

            args = parser(packing.recipe_options(args.recipe), only).parse_args(words)
        return int(globals()["_" + args.command](args))
    except DoesNotFit as e:
        print(f"quilt: {e}", file=sys.stderr)
        return 3
    except (QuiltError, ValueError) as e:
        print(f"quilt: {e}", file=sys.stderr)
        return 2


def _scenes(args: argparse.Namespace) -> list[Scene]:
    from . import files

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
    from quilt_core.delivery import report

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
    from . import verify

    found, lines = verify.verify(args, _scenes(args))
    _say(args, found, lines)
    return 0 if found["ok"] else 1


def _deliver(args: argparse.Namespace) -> int:
    from . import deliver

    r = deliver.deliver(args, _scenes(args))
    lines = [
        f"{r['verdict']}.",
        *r["reasons"],
        f"clean down to mip level {r['bleed']['clean']}, {r['bleed']['thumb']} by the rule of thumb",
        *r["notes"],
    ]
    _say(args, r, lines)
    return 0 if r["ok"] else 1


def _pack(args: argparse.Namespace) -> int:
    from . import packing

    figures, lines = packing.pack(args, lambda: _scenes(args))
    _say(args, figures, lines)
    return 0 if figures["ok"] else 1


def _run(args: argparse.Namespace) -> int:
    from . import run

    return run.run(args)


def _survey(args: argparse.Namespace) -> int:
    from . import survey

    return survey.run(args)


def _batch(args: argparse.Namespace) -> int:
    from . import batch

    return batch.run(args)


def _bake(args: argparse.Namespace) -> int:
    from . import bake

    r = bake.run(args, _scenes(args))
    lines = [f"tile {t['tile']}: {', '.join(t['maps'])}; {t['twice']} texels written twice, {t['missed']} missed" for t in r["tiles"]]
    lines += [
        f"tile {t['tile']}, {k}: {s['bad']} of {s['count']} places on seams differ by more than {args.seam_limit:g} %, {s['greatest']:.1%} at most"
        for t in r["tiles"]
        for k, s in t["seams"].items()
        if s["bad"]
    ]
    if lines and {"curvature", "cavity"} & set(args.maps):
        lines.append(
            f"curvature: black is -{r['half_range']:g} and white +{r['half_range']:g} per metre; cavity: black is -{r['half_range']:g}"
        )
    _say(args, r, lines or ["No island lies on these tiles."])
    return 0 if r["ok"] else 1


def _unwrap(args: argparse.Namespace) -> int:
    from quilt_core.pack import Recipe

    from . import unwrap

    padding = args.padding if args.padding is not None else 8 * args.map / 2048
    margin = args.margin if args.margin is not None else padding / 2
    return _unfit(
        args,
        *unwrap.unwrap(args, _scenes(args), Recipe(args.map, padding, margin, seconds=args.seconds, passes=args.passes, seed=args.seed)),
    )


def _mend(args: argparse.Namespace) -> int:
    from . import unwrap

    return _unfit(args, *unwrap.mend(args, _scenes(args)))


def _ready(args: argparse.Namespace) -> int:
    from . import packing, unwrap

    if args.channel_out < 0:
        raise QuiltError("A UV channel is 0 or more.")
    found, lines = unwrap.ready(args, _scenes(args), packing.recipe_of(args))
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


def entry() -> int:
    """The command, run from a shell."""
    try:
        code = main()
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever reads it has read enough (`| head`): no news for anybody. What is left in the buffer must not be tried again at the end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    return code


if __name__ == "__main__":
    sys.exit(entry())
