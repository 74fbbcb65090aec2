"""`quilt unwrap`: new UVs for what has none or cannot be saved, at one density, apart from each other."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Callable
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

from quilt_core import formats
from quilt_core.arrange.sheet import pack_sheet
from quilt_core.delivery import report
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Scene
from quilt_core.pack import Recipe
from quilt_core.unwrap.meshes import Options, Unwrapped
from quilt_core.unwrap.scenes import Figures, beyond_saving, figures, renewed
from quilt_core.uv.analysis import analyse, transform_rows

from . import files


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    """The words of the command."""
    u = commands.add_parser("unwrap", parents=[common], help="make new UVs for what has none or cannot be saved")
    u.add_argument("--out", type=Path, required=True, metavar="DIR")
    u.add_argument("--only", choices=("bad", "all"), default="bad", help="what has no UVs or cannot be saved (bad), or everything (all)")
    u.add_argument("--stretch", type=float, default=1.25, metavar="S", help="allowed stretch: less means more seams (1.25)")
    u.add_argument("--hard-edges", type=float, metavar="DEG", help="edges at least this sharp are seams")
    u.add_argument("--material-borders", action="store_true", help="faces of different materials are parted")
    u.add_argument("--keep-seams", action="store_true", help="the seams that there are stay")
    u.add_argument(
        "--keep-flat", action=argparse.BooleanOptionalAction, default=True, help="flat sides stay exactly flat, for a little more seam"
    )
    u.add_argument("--objects", action="append", metavar="PATTERN", help="only objects whose name or path is like this (repeatable)")
    u.add_argument("--padding", type=float, metavar="PX", help="between islands (8 at 2048)")
    u.add_argument("--margin", type=float, metavar="PX", help="to the border (half the padding)")
    u.add_argument("--seconds", type=float, default=2.0, metavar="S", help="for the packing (2)")
    u.add_argument("--seed", type=int, default=0, metavar="N")


def run(args: argparse.Namespace, scenes: list[Scene], recipe: Recipe) -> tuple[dict[str, Any], list[str]]:
    """Unwrap, pack and write all files; the report, and what it says in lines.

    Raises
    ------
    QuiltError : options that cannot work; FileError : a file that would be overwritten
    """
    begin = time.monotonic()
    options = Options(args.stretch, args.hard_edges, args.material_borders, args.keep_seams, args.keep_flat)
    files.check_out(args.out, args.files)
    if len({p.name for p in args.files}) < len(args.files):
        raise QuiltError("Two files have one name and would become one. Rename one of them.")
    channel = args.channel_in
    wanted = _wanted(args.objects)
    done: list[tuple[Scene, Scene, dict[int, Figures], dict[int, Unwrapped], dict[int, str]]] = []
    for scene in scenes:
        was = {n: figures(scene, n, channel, p) for n, p in enumerate(analyse(scene, channel))}
        chosen = [n for n in was if _is_chosen(scene, n, wanted) and (args.only == "all" or beyond_saving(was[n]))]
        made, refused = renewed(scene, chosen, channel, options, tell=_tell)
        new = scene
        if made:
            body = formats.revise(scene, {n: u.channel for n, u in made.items()}, channel)
            new = formats.read(body[""], scene.file, files.UNITS[args.unit], {**body, **_beside(args, scene)})
        done.append((scene, new, was, made, refused))
    if sys.stderr.isatty():
        print(file=sys.stderr)
    analysed = report.analyse_all([new for _, new, *_ in done], channel)
    pieces = report.pieces_of(analysed)
    packed = pack_sheet(pieces, recipe, False) if pieces else None
    args.out.mkdir(parents=True, exist_ok=True)
    objects, at = [], 0
    for (old, new, was, made, refused), (_, own), source in zip(done, analysed, args.files, strict=True):
        uvs = {}
        for n, piece in enumerate(own):
            if piece is not None and packed is not None:
                uvs[n] = transform_rows(piece.uvs, piece.islands.of_row, packed.transforms[at])
                at += 1
        files.write(old, args.out, source, formats.write(new, uvs, channel))
        again = files.read(args.out / old.file, files.UNITS[args.unit])
        now = {n: figures(again, n, channel, p) for n, p in enumerate(analyse(again, channel))}
        objects += [_row(old, o.name, was[o.mesh], now[o.mesh], o.mesh in made, refused.get(o.mesh)) for o in old.objects]
    out = {"objects": objects, "seconds": round(time.monotonic() - begin, 2)}
    (args.out / "report.json").write_text(json.dumps(out, indent=2) + "\n")
    return out, _lines(out)


def _beside(args: argparse.Namespace, scene: Scene) -> dict[str, bytes]:
    """What a file refers to, as it lies beside it."""
    source = next(p for p in args.files if p.name == scene.file)
    beside = files.Beside(source.parent)
    found = (formats.find_resource(r, beside) for r in scene.references)
    return {p: beside[p] for p in found if p is not None}


def _tell(text: str) -> None:
    if sys.stderr.isatty():
        print(f"\r{text[:100]:100}", end="", file=sys.stderr)


def _wanted(patterns: list[str] | None) -> Callable[[str], bool]:
    return lambda name: not patterns or any(fnmatchcase(name, p) for p in patterns)


def _is_chosen(scene: Scene, mesh: int, wanted: Callable[[str], bool]) -> bool:
    return any(wanted(o.name) or wanted(o.path) for o in scene.objects if o.mesh == mesh)


def _row(scene: Scene, name: str, was: Figures, now: Figures, made: bool, why: str | None) -> dict[str, Any]:
    return {
        "file": scene.file, "name": name, "was": was.as_dict(), "now": now.as_dict(), "done": ["unwrap"] if made else [],
        "refused": [{"what": "unwrap", "why": why}] if why else [], "left": beyond_saving(now),
    }  # fmt: skip


def _lines(out: dict[str, Any]) -> list[str]:
    lines = []
    for o in out["objects"]:
        s = o["now"]["stretch"]
        what = "new UVs" if o["done"] else "as it was"
        share = f"{s['share_under_1_1']:.1%} under 1.1, {s['share_under_1_5']:.1%} under 1.5" if o["now"]["islands"] else "no UVs"
        lines.append(f"  {o['name'][:32]:32} {what}: {o['now']['islands']} islands, {o['now']['seam_m']:.3g} m of seam, {share}")
        lines += [f"    not done: {r['why']}" for r in o["refused"]]
    return [*lines, f"{len(out['objects'])} objects in {out['seconds']:.1f} s"]
