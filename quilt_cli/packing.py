"""`quilt pack`: the density of all files evened, all packed into one sheet, written and proven."""

from __future__ import annotations

import argparse
import difflib
import json
import math
import sys
import time
import tomllib
from collections.abc import Callable
from dataclasses import replace
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.arrange.sheet import SheetPacking, SheetRules, pack_sheet
from quilt_core.arrange.sizes import painted_texels, texel_ratios
from quilt_core.arrange.texel_grid import edges_on_grid, on_texels, roomier
from quilt_core.delivery import report
from quilt_core.errors import DoesNotFit, FileError, QuiltError
from quilt_core.formats.losses import unasked
from quilt_core.formats.pictures import pictures, size_of, texels_per_unit
from quilt_core.measure.proof import prove
from quilt_core.model.scene import Floats, Scene
from quilt_core.model.tiles import Grid
from quilt_core.pack import Recipe
from quilt_core.pack.shapes import ANGLES
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse, transform_rows
from quilt_core.uv.twins import grouped, stacked

from . import files


def options(tiles: Callable[[str], tuple[int, int]]) -> argparse.ArgumentParser:
    """The words that `pack` shares with `ready`."""
    p = argparse.ArgumentParser(add_help=False)
    p.add_argument("--out", type=Path, required=True, metavar="DIR", help="another folder than that of the files, for what is written")
    p.add_argument("--padding", type=float, metavar="PX", help="between islands (8 at 2048)")
    p.add_argument("--margin", type=float, metavar="PX", help="to the border (half the padding)")
    p.add_argument("--rotate", choices=ANGLES, default="90", help="turns that islands may take, in degrees (90)")
    p.add_argument("--tiles", type=tiles, default=(1, 1), metavar="CxR", help="tiles that are filled, columns x rows (1x1)")
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
    return p


def _ruled(text: str) -> tuple[str, float]:
    pattern, sign, value = text.rpartition("=")
    try:
        number = float(value)
    except ValueError:
        number = math.nan
    if not (sign and pattern and math.isfinite(number)):
        raise argparse.ArgumentTypeError(f"'{text}' is no PATTERN=NUMBER, as in crate*=1002")
    return pattern, number


def _sizes(text: str) -> tuple[int, ...]:
    parts = [p.strip() for p in text.split(",")]
    if not all(p.isdecimal() and 16 <= int(p) <= 16384 for p in parts):
        raise argparse.ArgumentTypeError(f"'{text}' is no list of map sizes from 16 to 16384 px, as in 2048,1024")
    return tuple(int(p) for p in parts)


# Keys of a recipe as the browser gives it, and the options of the same.
_RECIPE = {
    "padding_px": "padding", "margin_px": "margin", "rotate": "rotate", "seconds": "seconds", "passes": "passes", "seed": "seed", "fill": "fill", "mirror": "mirror",
}  # fmt: skip
_OTHER = ("name", "map_px", "hold", "density", "keep_ratios", "ratios", "texel_grid", "grid_percent")
_KINDS: dict[str, tuple[type, ...]] = {
    "rotate": (str,), "fill": (str,), "ratios": (str,), "name": (str,), "hold": (bool,), "keep_ratios": (bool,), "mirror": (bool,), "texel_grid": (bool,),
}  # fmt: skip


def recipe_options(path: Path) -> dict[str, Any]:
    """The options that a recipe asks for: JSON as the browser gives it, or TOML of the same keys.

    Raises
    ------
    FileError : no recipe, with the key that is none
    """
    try:
        body = path.read_bytes()
        found = tomllib.loads(body.decode()) if path.suffix.lower() == ".toml" else json.loads(body)
    except OSError as e:
        raise FileError(str(path), e.strerror or "it cannot be opened") from e
    except (ValueError, RecursionError) as e:
        raise FileError(path.name, f"it cannot be read as a recipe: {str(e)[:120]}", "", "Save one in the browser as JSON.") from e
    known = (*_RECIPE, *_OTHER)
    if not isinstance(found, dict) or not set(found) & set(known):
        raise FileError(path.name, "it is no recipe", "", f"It holds {', '.join(known)}.")
    for key, value in found.items():
        near = difflib.get_close_matches(key, known, 1, 0.5)
        if key not in known:
            raise FileError(path.name, f"a recipe knows no '{key[:60]}'" + (f"; did you mean '{near[0]}'?" if near else ""))
        number = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
        if not (isinstance(value, _KINDS[key]) if key in _KINDS else number or (key == "passes" and value is None)):
            raise FileError(path.name, f"{key} is not what it should be", "", "Save it in the browser again.")
    out = {option: found[key] for key, option in _RECIPE.items() if key in found}
    if "map_px" in found:
        out["map"] = int(found["map_px"])
    if found.get("hold"):
        out["density"] = found.get("density", 512.0)
    if found.get("keep_ratios"):
        out |= {"keep_texels": True} if found.get("ratios") == "texels" else {"keep_ratios": True}
    if found.get("texel_grid"):
        out["texel_grid"] = found.get("grid_percent", 1.0)
    return out


def add(commands: Any, common: argparse.ArgumentParser, p: argparse.ArgumentParser, usual: dict[str, Any] | None = None) -> None:
    """The words of `pack`; `usual` are values of a recipe, which hold where the command line says nothing."""
    k = commands.add_parser("pack", parents=[common, p])
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
    k.add_argument(
        "--recipe", type=Path, metavar="FILE", help="a recipe that the browser gave, or TOML of the same; other options hold over it"
    )
    k.add_argument(
        "--fill", choices=("common", "each"), default="common", help="one scale over all tiles (common), or each tile to its border"
    )
    k.add_argument("--mirror", action="store_true", help="islands may be mirrored where that helps")
    k.add_argument("--tile-px", type=_sizes, metavar="LIST", help="a map size for each tile, row by row, as in 2048,1024")
    k.add_argument(
        "--belongs",
        type=_ruled,
        action="append",
        default=[],
        metavar="PATTERN=TILE",
        help="objects by name or path go to this tile, by UDIM number; repeatable",
    )
    k.add_argument(
        "--weight",
        type=_ruled,
        action="append",
        default=[],
        metavar="PATTERN=FACTOR",
        help="objects by name or path are so many times as dense; repeatable",
    )
    k.add_argument(
        "--stack",
        action="append",
        default=[],
        metavar="PATTERN",
        help="islands of one shape and size of the objects that fit lie on each other and share their texels; repeatable, each for itself",
    )
    k.add_argument(
        "--stack-any-size", action="store_true", help="--stack also those whose surfaces differ in size: their densities differ then"
    )
    if usual:
        k.set_defaults(**usual)


def recipe_of(args: argparse.Namespace) -> Recipe:
    """The recipe that the options ask for, with the usual gaps for the map size."""
    padding = args.padding if args.padding is not None else 8 * args.map / 2048
    margin = args.margin if args.margin is not None else padding / 2
    columns, rows = args.tiles
    found = Recipe(args.map, padding, margin, args.rotate, columns, rows, args.density, args.seconds, args.passes, args.seed)
    return replace(found, mirror=args.mirror, tile_px=args.tile_px, fill=args.fill) if args.command == "pack" else found


def _grid(args: argparse.Namespace) -> Grid:
    plain = Grid(args.map, *args.tiles)
    return plain if args.tile_px is None else replace(plain, tile_px=dict(zip(plain.numbers, args.tile_px, strict=True)))


def _called(pieces: list[MeshIslands], pattern: str, what: str) -> NDArray[np.bool_]:
    """Which islands (n,) are of objects whose name or path fits a pattern.

    Raises
    ------
    QuiltError : a pattern that nothing fits
    """
    fits = [any(fnmatchcase(n, pattern) for o in p.objects for n in (o.name, o.path)) for p in pieces]
    if not any(fits):
        raise QuiltError(f"{what}: no object is called {pattern}.")
    return np.repeat(fits, [p.islands.count for p in pieces])


def _by_object(pieces: list[MeshIslands], asked: list[tuple[str, float]], usual: float, what: str) -> Floats:
    """A number for every island (n,), by patterns on the names and paths of its objects; the later pattern holds."""
    out = np.full(sum(p.islands.count for p in pieces), usual)
    for pattern, value in asked:
        out[_called(pieces, pattern, what)] = value
    return out


def _stacked(args: argparse.Namespace, pieces: list[MeshIslands]) -> tuple[Floats, NDArray[np.int64]]:
    """The layout (n, 5) in which islands of one shape lie on each other, and the group (n,) of each, -1 for none."""
    count = sum(p.islands.count for p in pieces)
    rows, pairs = np.tile(IDENTITY, (count, 1)), np.zeros((0, 2), np.int64)
    for pattern in args.stack:
        mine = np.flatnonzero(_called(pieces, pattern, "--stack"))
        if np.isin(mine, pairs).any():
            raise QuiltError(f"--stack {pattern}: some of its islands lie on others already, by a pattern before. Let each object fit one.")
        rows, lead = stacked(pieces, rows, mine, any_size=args.stack_any_size)
        follows = np.flatnonzero(lead != np.arange(count))
        pairs = np.concatenate([pairs, np.column_stack([lead[follows], follows])])
    return rows, grouped(pairs, count)


def _rules(args: argparse.Namespace, pieces: list[MeshIslands], twins: NDArray[np.int64]) -> SheetRules:
    for pattern, tile in args.belongs:
        if not tile.is_integer() or int(tile) not in _grid(args).numbers:
            raise QuiltError(f"--belongs {pattern}={tile:g}: the tiles are {', '.join(map(str, _grid(args).numbers))}.")
    if any(not 0.001 <= factor <= 1000 for _, factor in args.weight):
        raise QuiltError("--weight is a factor from 0.001 to 1000.")
    tile = _by_object(pieces, args.belongs, 0.0, "--belongs").astype(np.int64) if args.belongs else None
    return SheetRules(refuse_endless=args.refuse_slivers, tile=tile, twins=twins)


def _weights(args: argparse.Namespace, analysed: list[report.Analysed], pieces: list[MeshIslands]) -> Floats | None:
    """What islands' sizes are multiplied by: weights, and what keeps the texels of old pictures."""
    texels = _texels(args, analysed)
    if not args.weight:
        return texels
    own = _by_object(pieces, args.weight, 1.0, "--weight")
    return own if texels is None else own * texels


def pack(args: argparse.Namespace, read: Callable[[], list[Scene]]) -> tuple[dict[str, Any], list[str]]:
    """Even, pack, write and prove all files; the report, and what it says in lines."""
    begin = time.monotonic()
    recipe = recipe_of(args)
    grid = _grid(args)
    if args.channel_out < 0:
        raise QuiltError("A UV channel is 0 or more.")
    if args.texel_grid is not None and not 0 <= args.texel_grid <= 20:
        raise QuiltError("--texel-grid lets sizes change by 0 to 20 percent.")
    if args.stack and args.texel_grid is not None:
        raise QuiltError("--stack lays islands on each other, and --texel-grid moves the edges of each on its own. Take one of them.")
    if args.keep_ratios and args.keep_texels:
        raise QuiltError("--keep-ratios keeps sizes in UV, --keep-texels the texels of the old pictures. Take one of them.")
    files.check_out(args.out, args.files)
    files.folders(args.files)
    scenes = read()
    analysed = report.analyse_all(scenes, args.channel_in)
    pieces = report.pieces_of(analysed)
    present, twins = _stacked(args, pieces)

    def progress(_: list[Floats], packing: Any) -> None:
        if sys.stderr.isatty():
            print(f"\r{time.monotonic() - begin:6.1f} s  coverage {packing.coverage:.2%} ", end="", file=sys.stderr)

    try:
        packed = pack_sheet(
            pieces,
            recipe if args.texel_grid is None else roomier(recipe),
            args.keep_ratios or args.keep_texels,
            progress,
            weight=_weights(args, analysed, pieces),
            rules=_rules(args, pieces, twins),
            present=present,
        )
    except DoesNotFit as e:
        raise DoesNotFit(f"{e} No place for: {_names(pieces, e.islands)}.", e.islands, e.best_density) from e
    if sys.stderr.isatty():
        print(file=sys.stderr)
    uvs, change = _laid(args, pieces, packed, recipe)
    written = _write(args, analysed, uvs)
    # The proof reads what was written, through the readers, as anybody else would.
    again = _again(analysed, written, args.channel_out)
    proof = prove(again, None, args.map, args.tiles, twins, tile_px=grid.tile_px)
    figures = report.pack_report(again, proof, packed, recipe, time.monotonic() - begin, twins=twins)
    if args.texel_grid is not None:
        on, edges = edges_on_grid(np.concatenate([p.outlines.regions for p in again]), grid)
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
    lines += [n for (scene, _), after in zip(analysed, written, strict=True) for n in unasked(scene, after, args.channel_out)]
    lines += [f"left as it was, it has no UVs: {u}" for u in figures["unpacked"]]
    lines += [f"no gap is measured to them: {n}" for n in figures["without_area"][:12]]
    lines += [f"no map could hold it at the common density, so it is smaller: {n}" for n in figures["shrunk_islands"][:12]]
    lines.append("; ".join([f"{figures['verdict']}", *figures["reasons"]]) + ".")
    return figures, lines


def _again(analysed: list[report.Analysed], written: list[Scene], channel: int) -> list[MeshIslands]:
    """The islands of the files that were written: those that were packed, so that they have the same numbers even where nothing of one is left."""
    found = []
    for (_, was), scene in zip(analysed, written, strict=True):
        given = [None if p is None else p.islands.of_triangle for p in was]
        found += [p for p, old in zip(analyse(scene, channel, given), was, strict=True) if p is not None and old is not None]
    return found


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


def _names(pieces: list[MeshIslands], islands: list[int]) -> str:
    names = [f"{p.objects[0].name} island {i}" for p in pieces for i in range(p.islands.count)]
    shown = ", ".join(names[i] for i in islands[:12])
    return shown + (f" and {len(islands) - 12} more" if len(islands) > 12 else "")


def _laid(args: argparse.Namespace, pieces: list[MeshIslands], packed: SheetPacking, recipe: Recipe) -> tuple[list[Floats], float]:
    """The UVs of every mesh where the packing puts them, on whole texels where that is asked for; and by which share sizes changed at most."""
    uvs = [transform_rows(p.uvs, p.islands.of_row, t) for p, t in zip(pieces, packed.transforms, strict=True)]
    if args.texel_grid is None:
        return uvs, 0.0
    return on_texels(pieces, packed, uvs, _grid(args), args.texel_grid / 100, recipe.padding_px, recipe.margin_px)


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
