"""`quilt unwrap`, `quilt mend` and `quilt ready`: new UVs for what cannot be saved, repairs in order, and the whole way for a bought kit."""

from __future__ import annotations

import argparse
import json
import sys
import time
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import numpy as np

from quilt_core.arrange.sheet import SheetPacking, pack_sheet
from quilt_core.delivery import report
from quilt_core.edit import repairs
from quilt_core.errors import FileError, QuiltError
from quilt_core.measure.proof import prove
from quilt_core.model.pairs import details
from quilt_core.model.scene import Floats, Scene
from quilt_core.pack import Packing, Recipe
from quilt_core.unwrap.copies import copied, same_shape
from quilt_core.unwrap.hands import Asked, do
from quilt_core.unwrap.meshes import Options
from quilt_core.unwrap.scenes import beyond_saving, flattened, largest_placing, renewed, skin_in
from quilt_core.unwrap.skin import revised
from quilt_core.uv.density import world_areas

from . import files
from .workbench import Bench, lines_of

STEPS = ("flip", "into-tile", "straighten", "join", "part", "square", "sew", "relax", "copy")
_BY_HAND = {"part": "part", "square": "square", "sew": "sew_free", "relax": "relax"}


def add(commands: Any, common: argparse.ArgumentParser, pack: argparse.ArgumentParser) -> None:
    """The words of the commands; `pack` has those of packing."""
    how = argparse.ArgumentParser(add_help=False)
    how.add_argument("--stretch", type=float, default=1.25, metavar="S", help="allowed stretch: less means more seams (1.25)")
    how.add_argument("--hard-edges", type=float, metavar="DEG", help="edges at least this sharp are seams")
    how.add_argument("--material-borders", action="store_true", help="faces of different materials are parted")
    how.add_argument("--keep-seams", action="store_true", help="the seams that there are stay")
    how.add_argument(
        "--keep-flat", action=argparse.BooleanOptionalAction, default=True, help="flat sides stay flat, for a little more seam"
    )
    how.add_argument("--alike", action=argparse.BooleanOptionalAction, default=True, help="halves that mirror each other are cut alike")
    how.add_argument("--close-holes", action="store_true", help="small holes keep their shape: they count as closed while the UVs are made")
    some = argparse.ArgumentParser(add_help=False)
    some.add_argument("--objects", action="append", metavar="PATTERN", help="only objects whose name or path is like this (repeatable)")
    out = argparse.ArgumentParser(add_help=False)
    out.add_argument("--out", type=Path, required=True, metavar="DIR", help="another folder than that of the files, for what is written")
    u = commands.add_parser("unwrap", parents=[common, out, how, some])
    u.add_argument("--only", choices=("bad", "all"), default="bad", help="what has no UVs or cannot be saved (bad), or everything (all)")
    u.add_argument("--padding", type=float, metavar="PX", help="between islands (8 at 2048)")
    u.add_argument("--margin", type=float, metavar="PX", help="to the border (half the padding)")
    u.add_argument("--seconds", type=float, default=2.0, metavar="S", help="for the packing (2)")
    u.add_argument("--passes", type=int, metavar="N", help="bound the packing by so many passes in place of the seconds")
    u.add_argument("--seed", type=int, default=0, metavar="N", help="another number searches in another way (0)")
    m = commands.add_parser("mend", parents=[common, out, some])
    m.add_argument("--do", type=_steps, required=True, metavar="LIST", help=f"some of {','.join(STEPS)}, in order")
    m.add_argument("--margin", type=float, metavar="PX", help="to the border, for into-tile (4 at 2048)")
    commands.add_parser("ready", parents=[common, pack, how, some])


def _steps(text: str) -> list[str]:
    found = [s.strip() for s in text.split(",")]
    unknown = [s for s in found if s not in STEPS]
    if unknown:
        raise argparse.ArgumentTypeError(f"'{unknown[0]}' is no repair: {', '.join(STEPS)}")
    return found


def options_of(args: argparse.Namespace) -> Options:
    """How is unwrapped."""
    return Options(args.stretch, args.hard_edges, args.material_borders, args.keep_seams, args.keep_flat, args.alike, args.close_holes)


def benches(args: argparse.Namespace, scenes: list[Scene]) -> list[Bench]:
    """The files, ready to be worked on.

    Raises
    ------
    FileError : one that would be overwritten
    """
    files.check_out(args.out, args.files)
    names = [p.name for p in args.files]
    if len(set(names)) < len(names):
        twice = next(n for n in names if names.count(n) > 1)
        raise FileError(twice, "two files have this name and would become one", "", "Rename one of them.")
    work = [Bench(s, p, files.UNITS[args.unit], args.channel_in) for s, p in zip(scenes, args.files, strict=True)]
    found = details([[o.name for o in s.objects] for s in scenes], [[b.pieces[o.mesh] is None for o in b.scene.objects] for b in work])
    for n, b in enumerate(work):
        b.needless = {o.mesh for k, o in enumerate(b.scene.objects) if (n, k) in found}
    return work


def unwrap(args: argparse.Namespace, scenes: list[Scene], recipe: Recipe) -> tuple[dict[str, Any], list[str]]:
    """Unwrap, pack and write all files; the report, and what it says in lines.

    Raises
    ------
    QuiltError : options that cannot work; FileError : a file that would be overwritten
    """
    begin = time.monotonic()
    options = options_of(args)
    work = benches(args, scenes)
    for b in work:
        _anew(b, args, options, args.only == "all")
    _packed(work, recipe, False)
    return _finished(args, work, begin, args.channel_in)


def mend(args: argparse.Namespace, scenes: list[Scene]) -> tuple[dict[str, Any], list[str]]:
    """Do repairs in order and write all files; see `unwrap`."""
    begin = time.monotonic()
    work = benches(args, scenes)
    margin = args.margin if args.margin is not None else 4 * args.map / 2048
    for step in args.do:
        if step == "copy":
            _copied(work, args)
            continue
        for b in work:
            _mended(b, args, step, margin / args.map * 2048)
    return _finished(args, work, begin, args.channel_in)


def ready(args: argparse.Namespace, scenes: list[Scene], recipe: Recipe) -> tuple[dict[str, Any], list[str]]:
    """Make files ready for baking: what cannot be saved is made anew, mirrored islands are flipped back, all is evened, packed, written and proven."""
    begin = time.monotonic()
    options = options_of(args)
    work = benches(args, scenes)
    for b in work:
        _flattened(b, args)
        _anew(b, args, options, False)
        _mended(b, args, "flip", 0.0)
    packed = _packed(work, recipe, args.keep_ratios)
    found, lines = _finished(args, work, begin, args.channel_out)
    again = [files.read(args.out / b.scene.file, b.unit_m) for b in work]
    pieces = report.pieces_of(report.analyse_all(again, args.channel_out))
    figures = report.pack_report(pieces, prove(pieces, None, args.map, args.tiles), packed, recipe, time.monotonic() - begin)
    found = {**figures, **found, "ok": bool(figures["ok"]) and not any(o["left"] for o in found["objects"])}
    (args.out / "report.json").write_text(json.dumps(found, indent=2) + "\n")
    density = figures["density_px_per_m"]
    lines.append(
        f"{figures['islands']} islands, coverage {figures['coverage']:.2%}, {density or 0:.1f} px/m, smallest gap {figures['smallest_gap_px']} px, "
        f"{figures['overlap_pairs']} overlaps: {'; '.join([figures['verdict'], *figures['reasons']])}."
    )
    return found, lines


def _flattened(b: Bench, args: argparse.Namespace) -> None:
    """Lay islands flat again that need no other seams for it."""
    for m, piece in enumerate(b.pieces):
        if piece is not None and _is_chosen(b.scene, m, args.objects) and beyond_saving(b.was[m]):
            made = flattened(b.scene, m, b.channel, piece, args.stretch)
            if made is not None:
                b.take(m, made, np.zeros(0, np.int64))
                b.tell(m, "relax")


def _anew(b: Bench, args: argparse.Namespace, options: Options, whole: bool) -> None:
    """New UVs for what a file has that cannot be saved, or for everything that was chosen."""
    chosen = [
        m
        for m in b.was
        if _is_chosen(b.scene, m, args.objects) and (whole or beyond_saving(b.figures(m))) and (args.objects or m not in b.needless)
    ]
    made, refused = renewed(b.scene, chosen, b.channel, options, tell=_tell, pieces=None if whole else b.pieces, roots=b.roots)
    for m, u in made.items():
        b.take(m, u.revised, u.anew)
        b.tell(m, "unwrap")
    for m, why in refused.items():
        b.tell(m, "unwrap", why)


def _mended(b: Bench, args: argparse.Namespace, step: str, margin_px: float) -> None:
    """One repair of all islands of the chosen objects of a file."""
    if step == "join":
        return  # done when the file was read: what only rounding keeps apart is one point
    for m, piece in enumerate(b.pieces):
        if piece is None or not _is_chosen(b.scene, m, args.objects):
            continue
        all_ = np.ones(piece.islands.count, bool)
        if step in _BY_HAND:
            _by_hand(b, m, step)
            continue
        if step == "flip":
            now = repairs.flip_back(piece, b.rows[m], all_)
        elif step == "into-tile":
            now = repairs.into_tile(piece, b.rows[m], all_, margin_px)
        else:
            now = repairs.straighten(piece, b.rows[m], all_, "edges")
        if (np.abs(now - b.rows[m]) > 1e-12).any():
            b.rows[m] = now
            b.tell(m, step)


def _copied(work: list[Bench], args: argparse.Namespace) -> None:
    """The UVs of good objects for those of the same shape, in any of the files, that have none or cannot be saved; they lie in places of their own."""
    every = [(b, m, beyond_saving(b.figures(m))) for b in work for m in sorted({o.mesh for o in b.scene.objects})]
    skins = {(id(b), m): skin_in(b.scene, m) for b, m, _ in every if world_areas(b.scene.meshes[m], largest_placing(b.scene, m)).any()}
    every = [x for x in every if (id(x[0]), x[1]) in skins]
    good = sorted(((b, m) for b, m, bad in every if not bad and b.pieces[m] is not None), key=lambda x: -x[0].figures(x[1]).under_1_1)
    for b, m, bad in every:
        if not bad or not _is_chosen(b.scene, m, args.objects):
            continue
        skin = skins[id(b), m]
        for source, n in good:
            same = same_shape(skins[id(source), n], skin)
            done = None if same is None else copied(*source.laying(n), skin, same)
            if done is None:
                continue
            made = done.revised(skin)
            b.take(m, made, np.unique(made.island[made.island >= 0]).astype(np.int64))
            b.tell(m, "copy")
            break
        else:
            b.tell(m, "copy", "No other object of this shape has UVs that are good.")


def _by_hand(b: Bench, mesh: int, step: str) -> None:
    piece = b.pieces[mesh]
    assert piece is not None
    try:
        skin, laying = b.laying(mesh)
        found = do(skin, laying, Asked(_BY_HAND[step], islands=np.arange(piece.islands.count)), tell=_tell)
    except QuiltError as e:
        if type(e) is not QuiltError:
            raise
        b.tell(mesh, step, str(e))
        return
    if found.touched.any():
        b.take(mesh, revised(skin, found.laying, found.touched), np.zeros(0, np.int64))
        b.tell(mesh, step)
    for why in dict.fromkeys(found.refused):
        b.tell(mesh, step, why)


def _packed(work: list[Bench], recipe: Recipe, keep_ratios: bool) -> SheetPacking:
    """Even and pack everything; the layouts go to the files."""
    places = [(b, m) for b in work for m, p in enumerate(b.pieces) if p is not None]
    pieces = [p for b, m in places if (p := b.pieces[m]) is not None]
    if not pieces:
        raise QuiltError("There is nothing to pack: no object has UVs, and none could be unwrapped.")
    present = np.concatenate([b.rows[m] for b, m in places])

    def progress(_: list[Floats], packing: Packing) -> None:
        _tell(f"coverage {packing.coverage:.2%}")

    packed = pack_sheet(pieces, recipe, keep_ratios, progress, present=present)
    for (b, m), laid in zip(places, packed.transforms, strict=True):
        b.rows[m] = laid
    return packed


def _finished(args: argparse.Namespace, work: list[Bench], begin: float, channel: int) -> tuple[dict[str, Any], list[str]]:
    if sys.stderr.isatty():
        print(file=sys.stderr)
    args.out.mkdir(parents=True, exist_ok=True)
    objects = [row for b in work for row in b.report(b.write(args.out, channel), channel)]
    out = {"objects": objects, "seconds": round(time.monotonic() - begin, 2)}
    (args.out / "report.json").write_text(json.dumps(out, indent=2) + "\n")
    return out, [*lines_of(objects), f"{len(objects)} objects in {out['seconds']:.1f} s"]


def _tell(text: str) -> None:
    if sys.stderr.isatty():
        print(f"\r{text[:100]:100}", end="", file=sys.stderr)


def _is_chosen(scene: Scene, mesh: int, patterns: list[str] | None) -> bool:
    return not patterns or any(fnmatchcase(n, p) for o in scene.objects if o.mesh == mesh for n in (o.name, o.path) for p in patterns)
