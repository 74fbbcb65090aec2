"""`quilt bake`: test maps of a layout that is done, as pictures, and what went wrong in them."""

from __future__ import annotations

import argparse
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from quilt_core.delivery import report
from quilt_core.errors import FileError, QuiltError
from quilt_core.formats import normals
from quilt_core.formats.wiring import safe_name
from quilt_core.measure.bake import MAPS, High, LowMesh, bake, curvature_of, normals_of, partner, shading
from quilt_core.model.scene import Floats, MeshObject, Scene
from quilt_core.model.tiles import Grid, column_row
from quilt_core.textures.tile_images import encoded

from . import files


def add(commands: Any, common: argparse.ArgumentParser, tiles: Any) -> None:
    """The words of this command."""
    b = commands.add_parser(
        "bake", parents=[common], help="bake test maps of a layout that is done; an object called name_high gives its detail to name_low"
    )
    b.add_argument("--out", type=Path, required=True, metavar="DIR", help="an empty folder for the maps and the report")
    b.add_argument("--tiles", type=tiles, default=(1, 1), metavar="CxR", help="tiles of the sheet (1x1)")
    b.add_argument("--maps", type=_maps, default=MAPS, metavar="LIST", help=f"which maps: {', '.join(MAPS)} (all)")
    b.add_argument("--rays", type=int, default=32, metavar="N", help="rays for each texel of occlusion, 1 to 1024 (32)")
    b.add_argument("--cage", type=float, metavar="M", help="how far the cage stands off, in metres (a fiftieth of the object)")
    b.add_argument("--depth", type=int, choices=(8, 16), default=8, help="bits of the maps (8)")
    b.add_argument("--name", default="bake", help="of the maps: name.normal.1001.png (bake)")


def _maps(text: str) -> tuple[str, ...]:
    names = tuple(x.strip() for x in text.split(","))
    if not names or not set(names) <= set(MAPS):
        raise argparse.ArgumentTypeError(f"'{text}' is not a list of maps: {', '.join(MAPS)}")
    return names


@dataclass
class _Stage:
    """What is baked, by owner number: low meshes, their curvature, the detail that some have, and names."""

    low: list[LowMesh] = field(default_factory=list)
    curve: list[Floats] = field(default_factory=list)
    high: dict[int, High] = field(default_factory=dict)
    names: list[str] = field(default_factory=list)


def _world(o: MeshObject, positions: Floats) -> Floats:
    return positions @ o.world[:3, :3].T + o.world[:3, 3]


def _details(scenes: list[Scene]) -> dict[str, High]:
    """The detailed objects that have a low one, by the name that both share."""
    found: dict[str, dict[bool, tuple[Scene, MeshObject]]] = {}
    for scene in scenes:
        for o in scene.objects:
            pair = partner(o.name)
            if pair:
                found.setdefault(pair[0], {}).setdefault(pair[1], (scene, o))
    out = {}
    for name, both in found.items():
        if len(both) == 2:
            scene, o = both[True]
            mesh = scene.meshes[o.mesh]
            at = _world(o, mesh.positions)
            given = normals(scene, o.mesh)
            out[name] = High(at, mesh.triangles.astype(np.int64), shading(given, normals_of(mesh, at), mesh.triangles, o.world))
    return out


def _stage(analysed: list[report.Analysed]) -> _Stage:
    out, details = _Stage(), _details([scene for scene, _ in analysed])
    island = materials = 0
    for scene, pieces in analysed:
        for m, piece in enumerate(pieces):
            if piece is None:
                continue
            source, of = piece.mesh.channels[piece.channel], piece.islands.of_triangle
            for k, o in enumerate(o for o in scene.objects if o.mesh == m):
                pair = partner(o.name)
                if pair and pair[1] and pair[0] in details:
                    continue
                # Of several placings of a mesh the first is baked; the others throw shadows.
                use = (of >= 0) & (k == 0)
                at = _world(o, piece.mesh.positions)
                smooth = normals_of(piece.mesh, at)
                normal = shading(normals(scene, m), smooth, piece.mesh.triangles, o.world)
                spot = np.where(use[:, None, None], piece.uvs[np.maximum(source.triangles, 0)], -1e6)
                number = piece.mesh.materials.astype(np.int64)
                out.low.append(
                    LowMesh(at, piece.mesh.triangles.astype(np.int64), spot, (of + island).astype(np.int64), np.full(len(of), len(out.names)),
                            np.where(number < 0, -1, number + materials), normal)
                )  # fmt: skip
                out.curve.append(curvature_of(piece.mesh, at, smooth))
                if pair and pair[0] in details:
                    out.high[len(out.names)] = details[pair[0]]
                out.names.append(o.name)
            island += piece.islands.count
        materials += len(scene.materials)
    return out


def run(args: argparse.Namespace, scenes: list[Scene]) -> dict[str, Any]:
    """Bake every tile in use; returns the report.

    Raises
    ------
    QuiltError : nothing to bake, or values that cannot be
    """
    if not 1 <= args.rays <= 1024 or (args.cage is not None and not args.cage > 0) or args.map > 8192:
        raise QuiltError("A test bake has up to 8192 px, 1 to 1024 rays a texel, and a cage that stands off by more than 0 m.")
    files.check_out(args.out, args.files)
    stage = _stage(report.analyse_all(scenes, args.channel_in))
    if not stage.low:
        raise QuiltError(f"No object has UVs in channel {args.channel_in}.")
    made: dict[str, bytes] = {}
    tiles = []
    for tile in Grid(args.map, *args.tiles).numbers:
        files.say(f"Baking tile {tile} at {args.map} px")
        found = bake(stage.low, stage.high, args.map, column_row(tile), args.maps, args.rays, None, args.cage, stage.curve)
        if not found.covered.any():
            continue
        for kind, values in found.maps.items():
            made[f"{safe_name(args.name)}.{safe_name(kind)}.{tile}.png"] = encoded(values, "png", args.depth)
        tiles.append(
            {"tile": tile, "px": args.map, "maps": list(found.maps), "twice": found.twice, "missed": len(found.missed),
             "seams": {k: [round(a, 4), round(b, 4)] for k, (a, b) in found.seams.items()}}
        )  # fmt: skip
    result = {
        "ok": bool(tiles) and not any(t["twice"] or t["missed"] for t in tiles),
        "tiles": tiles,
        "detailed": [stage.names[k] for k in stage.high],
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
