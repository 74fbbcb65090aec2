"""`quilt deliver`: what goes with meshes whose layout is done: templates, tile images, the proof as a page, a manifest."""

from __future__ import annotations

import argparse
import hashlib
import json
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.delivery import report
from quilt_core.delivery.page import page
from quilt_core.delivery.verdict import Asked, verdict
from quilt_core.errors import FileError, QuiltError
from quilt_core.measure.proof import prove
from quilt_core.measure.sheet_bleed import sheet_bleed
from quilt_core.measure.texels import owners
from quilt_core.model.scene import Scene
from quilt_core.model.tiles import Grid, column_row, listed
from quilt_core.textures import template
from quilt_core.textures.judged import by_material, reasons, summed
from quilt_core.textures.tile_images import ImageRecipe, encoded, tile_image
from quilt_core.uv.analysis import MeshIslands

from . import files
from . import meshes as handing


def add(commands: Any, common: argparse.ArgumentParser, tiles: Any) -> None:
    """The words of this command."""
    d = commands.add_parser("deliver", parents=[common])
    d.add_argument("--out", type=Path, required=True, metavar="DIR", help="an empty folder for all that is made")
    d.add_argument("--tiles", type=tiles, default=(1, 1), metavar="CxR", help="tiles of the sheet (1x1)")
    d.add_argument("--padding", type=float, metavar="PX", help="that the layout was made with (8 at 2048)")
    d.add_argument(
        "--templates", choices=("png", "svg", "both", "none"), default="png", help="to paint over: as pictures or as lines (png)"
    )
    d.add_argument(
        "--fill", choices=("object", "island", "none"), default="object", help="what has a colour of its own in templates (object)"
    )
    d.add_argument("--zone", action="store_true", help="show the padding in templates")
    d.add_argument("--labels", action="store_true", help="write the objects' names into templates")
    d.add_argument("--template-px", type=int, metavar="PX", help="size of templates (that of the map)")
    d.add_argument("--images", choices=("none", "blank", "checker", "object", "island"), default="none", help="tile images to begin with")
    d.add_argument(
        "--image-tiles",
        type=_range,
        default=(),
        metavar="LIST",
        help="tiles that get an image, used or not, as in 1001-1004,1011 (those in use)",
    )
    d.add_argument("--format", choices=("png", "tiff", "exr"), default="png", help="of tile images (png)")
    d.add_argument(
        "--depth", type=int, choices=(8, 16, 32), default=8, help="bits of tile images (8); an EXR holds linear half floats, or 32 bits"
    )
    d.add_argument("--name", default="sheet", help="of the sheet: its files are called name.1001.png")
    handing.options(d)


def _range(text: str) -> list[int]:
    try:
        return listed(text)
    except ValueError as e:
        raise argparse.ArgumentTypeError(str(e)) from e


def _put(out: Path, made: dict[str, tuple[bytes, str]]) -> None:
    """Write all files; none that is there already.

    Raises
    ------
    FileError : a file of that name is there
    """
    for name in made:
        if (out / name).exists():
            raise FileError(str(out / name), "it is there already", "", "Choose an empty folder for --out.")
    out.mkdir(parents=True, exist_ok=True)
    manifest = [
        {"path": name, "kind": kind, "bytes": len(body), "sha256": hashlib.sha256(body).hexdigest()}
        for name, (body, kind) in sorted(made.items())
    ]
    for name, (body, _) in made.items():
        (out / name).parent.mkdir(parents=True, exist_ok=True)
        (out / name).write_bytes(body)
    (out / "manifest.json").write_text(json.dumps({"files": manifest}, indent=2) + "\n")


def _numbers(pieces: list[MeshIslands], by: str) -> NDArray[np.int64]:
    """A number (n,) for every island: its object's, or its own."""
    counts = [p.islands.count for p in pieces]
    return np.arange(sum(counts)) if by == "island" else np.repeat(np.arange(len(pieces)), counts)


def _image(args: argparse.Namespace, pieces: list[MeshIslands], tile: int) -> bytes:
    recipe = ImageRecipe(args.images, format=args.format, depth=args.depth)
    owner = None
    if args.images in ("object", "island"):
        number, start, row = _numbers(pieces, args.images), 0, 0
        uvs, triangles, numbers = [], [], []
        for p in pieces:
            of = p.islands.of_triangle
            uvs.append(p.uvs)
            triangles.append(p.mesh.channels[p.channel].triangles[of >= 0].astype(np.int64) + row)
            numbers.append(number[start + of[of >= 0]])
            start, row = start + p.islands.count, row + len(p.uvs)
        owner, _ = owners(np.concatenate(uvs), np.concatenate(triangles), np.concatenate(numbers), args.map, column_row(tile))
    return encoded(tile_image(recipe, args.map, owner), args.format, args.depth, display=True)


def deliver(args: argparse.Namespace, scenes: list[Scene]) -> dict[str, Any]:
    """Make everything; returns the report."""
    files.check_out(args.out, args.files)
    analysed = report.analyse_all(scenes, args.channel_in)
    pieces = report.pieces_of(analysed)
    if not pieces:
        raise QuiltError(f"No object has UVs in channel {args.channel_in}.")
    padding = args.padding if args.padding is not None else 8 * args.map / 2048
    regions = np.concatenate([p.outlines.regions for p in pieces])
    grid = Grid(args.map, *args.tiles)
    proof = prove(pieces, None, args.map, args.tiles)
    spread = report.overall_density(pieces, None, args.map)
    used = [t for t in grid.numbers if t in proof.coverage]
    found = sheet_bleed(pieces, None, regions, grid, padding).as_dict()
    coverage = sum(proof.coverage[t][0] for t in used) / max(1, len(used))
    figures = {
        **report.proof_figures(proof), "islands": proof.islands, "map_px": args.map, "coverage": coverage, "density": None if spread is None else spread.median,
        "tiles": [{"tile": t, "px": args.map, "islands": proof.coverage[t][1], "coverage": proof.coverage[t][0]} for t in used],
    }  # fmt: skip
    said = verdict(figures, found, Asked(args.padding))
    made: dict[str, tuple[bytes, str]] = {}
    owner = _numbers(pieces, "object")
    names = tuple(p.objects[0].name for p in pieces)
    pictures = {f"Tile {t}": template.draw(regions, owner, 400, t, "#fbf7ee") for t in used}
    size = args.template_px or args.map
    if not 16 <= size <= 16384:
        raise QuiltError("A template has 16 to 16384 px.")
    extras = template.Extras(padding / args.map / 2 if args.zone else 0.0, labels=names if args.labels else ())
    filled = _numbers(pieces, "island" if args.fill == "island" else "object")
    for t in used:
        drawn = (regions, filled, size, t, None, args.fill != "none", extras)
        if args.templates in ("png", "both"):
            made[f"{args.name}.template.{t}.png"] = template.draw(*drawn), "template"
        if args.templates in ("svg", "both"):
            made[f"{args.name}.template.{t}.svg"] = template.draw_svg(*drawn), "template"
    for t in (args.image_tiles or used) if args.images != "none" else ():
        made[f"{args.name}.{t}.{args.format}"] = _image(args, pieces, t), "image"
    handed = handing.hand(args, analysed, grid)
    made |= handed.made
    other = summed(handed.seen)
    faults = reasons(other)
    sheet = {
        "name": args.name,
        "figures": figures,
        "bleed": found,
        "verdict": said,
        "padding_px": padding,
        "margin_px": padding / 2,
        "pictures": pictures,
    }
    made["report.html"] = page(f"{args.name}: layout report", [sheet], handed.carried, other), "report"
    result = {
        "ok": said.ok and not faults,
        "verdict": said.line,
        "reasons": said.reasons + faults,
        **figures,
        "bleed": found,
        "carried": handed.carried,
        "seen": other,
        "seen_by_material": by_material(handed.seen),
        "notes": handed.notes,
    }
    made["report.json"] = (json.dumps(result, indent=2) + "\n").encode(), "report"
    _put(args.out, made)
    return result
