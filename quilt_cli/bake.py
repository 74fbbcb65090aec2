"""`quilt bake`: test maps of a layout that is done, as pictures, and what went wrong in them."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

import numpy as np

from quilt_core.delivery import report
from quilt_core.errors import FileError, QuiltError
from quilt_core.formats import normals
from quilt_core.formats.wiring import safe_name
from quilt_core.measure.bake import MAPS, bake
from quilt_core.measure.map_seams import SEAM_LIMIT
from quilt_core.measure.staging import Laid, staged
from quilt_core.model.pairs import pairs_by_name
from quilt_core.model.scene import Scene
from quilt_core.model.tiles import Grid, column_row
from quilt_core.textures.tile_images import encoded
from quilt_core.uv.analysis import MeshIslands

from . import files


def add(commands: Any, common: argparse.ArgumentParser, tiles: Any) -> None:
    """The words of this command."""
    b = commands.add_parser("bake", parents=[common])
    b.add_argument("--out", type=Path, required=True, metavar="DIR", help="an empty folder for the maps and the report")
    b.add_argument("--tiles", type=tiles, default=(1, 1), metavar="CxR", help="tiles of the sheet (1x1)")
    b.add_argument("--maps", type=_maps, default=MAPS, metavar="LIST", help=f"which maps: {', '.join(MAPS)} (all)")
    b.add_argument("--rays", type=int, default=32, metavar="N", help="rays for each texel of occlusion, 1 to 1024 (32)")
    b.add_argument("--cage", type=float, metavar="M", help="how far the cage stands off, in metres (a fiftieth of the object)")
    b.add_argument(
        "--seam-limit",
        type=float,
        default=100 * SEAM_LIMIT,
        metavar="PERCENT",
        help="of a map's range that the sides of a seam may differ by (5)",
    )
    b.add_argument("--depth", type=int, choices=(8, 16), default=8, help="bits of the maps (8)")
    b.add_argument("--name", default="bake", help="of the maps: name.normal.1001.png (bake)")


def _maps(text: str) -> tuple[str, ...]:
    names = tuple(x.strip() for x in text.split(","))
    if not names or not set(names) <= set(MAPS):
        raise argparse.ArgumentTypeError(f"'{text}' is not a list of maps: {', '.join(MAPS)}")
    return names


def _laid(scene: Scene, pieces: list[MeshIslands | None]) -> Laid:
    """A file as it lies in itself, with all of its islands."""
    return Laid(
        scene,
        pieces,
        [None if p is None else p.uvs for p in pieces],
        [None if p is None else np.ones(p.islands.count, bool) for p in pieces],
        [normals(scene, m) for m in range(len(scene.meshes))],
    )


def run(args: argparse.Namespace, scenes: list[Scene]) -> dict[str, Any]:
    """Bake every tile in use; returns the report.

    Raises
    ------
    QuiltError : nothing to bake, or values that cannot be
    """
    if not 0 < args.seam_limit <= 100:
        raise QuiltError("--seam-limit is more than 0 and up to 100 %.")
    if not 1 <= args.rays <= 1024 or (args.cage is not None and not args.cage > 0) or args.map > 8192:
        raise QuiltError("A test bake has up to 8192 px, 1 to 1024 rays a texel, and a cage that stands off by more than 0 m.")
    files.check_out(args.out, args.files)
    stage = staged(
        [_laid(*file) for file in report.analyse_all(scenes, args.channel_in)], pairs_by_name([[o.name for o in s.objects] for s in scenes])
    )
    if not stage.low:
        raise QuiltError(f"No object has UVs in channel {args.channel_in}.")
    made: dict[str, bytes] = {}
    tiles = []
    for tile in Grid(args.map, *args.tiles).numbers:
        files.say(f"Baking tile {tile} at {args.map} px")
        found = bake(
            stage.low,
            stage.high,
            args.map,
            column_row(tile),
            args.maps,
            args.rays,
            None,
            args.cage,
            args.seam_limit / 100,
            stage.half_range,
        )
        if not found.covered.any():
            continue
        for kind, values in found.maps.items():
            made[f"{safe_name(args.name)}.{safe_name(kind)}.{tile}.png"] = encoded(values, "png", args.depth)
        tiles.append(
            {"tile": tile, "px": args.map, "maps": list(found.maps), "twice": found.twice, "missed": len(found.missed),
             "seams": {k: s.as_dict() for k, s in found.seams.items()}}
        )  # fmt: skip
    result = {
        "ok": bool(tiles) and not any(t["twice"] or t["missed"] for t in tiles),
        "tiles": tiles,
        "detailed": stage.detailed,
        "half_range": stage.half_range,
        "files": sorted(made),
    }
    for name in [*made, "report.json"]:
        if (args.out / name).exists():
            raise FileError(str(args.out / name), "it is there already", "", "Choose an empty folder for --out.")
    args.out.mkdir(parents=True, exist_ok=True)
    for name, body in made.items():
        (args.out / name).write_bytes(body)
    (args.out / "report.json").write_text(json.dumps(result, indent=2) + "\n")
    return result
