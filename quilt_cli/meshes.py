"""The mesh files of `quilt deliver`: as they are, with their old paint carried over, or in another format."""

from __future__ import annotations

import argparse
import hashlib
import posixpath
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.delivery.report import Analysed
from quilt_core.errors import FileError, QuiltError
from quilt_core.formats import EXPORTS, rewire
from quilt_core.formats.channels import LAYOUT, Arrangement, lost, rearranged
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from quilt_core.formats.pictures import pictures
from quilt_core.formats.wiring import Wiring, safe_name
from quilt_core.model.scene import Scene
from quilt_core.model.tiles import Grid
from quilt_core.textures import seen
from quilt_core.textures.paint import DIFFERENCES, Coat, Laid, Old, Sheet, paint, wiring

from . import files

Made = dict[str, tuple[bytes, str]]


def options(d: argparse.ArgumentParser) -> None:
    """The words about files and paint."""
    d.add_argument("--paint", action="store_true", help="carry the old textures over to the layout and let the materials show the new ones")
    d.add_argument(
        "--before",
        type=Path,
        metavar="DIR",
        help="files of the same names with the UVs that the old textures use, where they are not in another channel",
    )
    d.add_argument("--one-material", action="store_true", help="with --paint: one material for each tile, with plain colours in its map")
    d.add_argument(
        "--channels", type=_arranged, metavar="LIST", help="what goes into each UV channel: layout or an old number, as in layout,0"
    )
    d.add_argument("--to", choices=tuple(EXPORTS), help="write the meshes in this format")
    d.add_argument("--joined", action="store_true", help="with --to: all in one file, called by --name")


def _arranged(text: str) -> Arrangement:
    parts = [p.strip() for p in text.split(",")]
    if parts.count("layout") != 1 or not all(p == "layout" or (p.isdecimal() and int(p) < 8) for p in parts) or len(parts) > 8:
        raise argparse.ArgumentTypeError(f"'{text}' is not a list of channels: the layout once, and numbers from 0 to 7, as in layout,0")
    return Arrangement(tuple(LAYOUT if p == "layout" else int(p) for p in parts))


@dataclass
class Handed:
    """What was made: files by name with their kind, figures of maps that were carried over and of what a viewer sees, notes."""

    made: Made = field(default_factory=dict)
    seen: list[dict[str, Any]] = field(default_factory=list)
    carried: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def hand(args: argparse.Namespace, analysed: list[Analysed], grid: Grid) -> Handed:
    """Make the mesh files and the maps.

    Raises
    ------
    QuiltError : options that do not go together, or old paint that cannot be read
    """
    if args.joined and not args.to:
        raise QuiltError("--joined needs --to: the format of the one file.")
    out = Handed()
    painted, coats = None, []
    if args.paint:
        places = files.folders(args.files)
        coats = [_coat(args, *each) for each in zip(analysed, args.files, places, strict=True)]
        painted = paint(coats, [Sheet(0, args.name, grid)], args.one_material, lambda text, _: files.say(text))
        out.carried, out.notes = painted.figures, painted.notes
        for path, body in painted.pictures.items():
            out.made[path] = body, "difference" if path.startswith(DIFFERENCES) else "texture"
    model, taken, eye = Model(), dict[str, bytes](), seen.Eye()
    for n, ((scene, _), source, folder) in enumerate(zip(analysed, args.files, files.folders(args.files), strict=True)):
        files.say(f"Writing {source.name}, {n + 1} of {len(args.files)}")
        how: Arrangement | None = None if args.channels is None else replace(args.channels, old=args.channel_in)
        layout = args.channel_in if how is None else how.layout
        wired = None if painted is None else wiring(painted, coats[n], {0: args.name}, args.one_material, layout)
        if wired is not None:
            wired.plain = how is not None
        beside = files.Beside(source.parent)
        uvs = {m: p.uvs for m, p in enumerate(analysed[n][1]) if p is not None}
        if how is not None and painted is None:
            out.notes += lost(scene, how)
        if not args.to:
            written = {"": source.read_bytes()} if how is None else formats.rearrange(scene, uvs, how)
            shown = None if wired is None else wired.seen_from("../" * (folder.count("/") + 1 if folder else 0))
            local, again, order = _as_it_came(scene, written, beside, shown, formats.unit_for(source.name, files.UNITS[args.unit]))
            for path, file in local.items():
                out.made.setdefault(posixpath.normpath(posixpath.join(folder, path)), file)
            if shown is not None:
                made = {path: body for path, (body, _) in local.items()} | dict(shown.pictures)
                after = seen.of_scene(again, formats.Both(made, beside), order)
                out.seen += seen.compare(seen.of_coat(coats[n]), after, layout, grid.px, eye=eye)
            continue
        if how is not None:
            scene = rearranged(scene, uvs, dict.fromkeys(uvs, args.channel_in), how)
        one = model if args.joined else Model(pictures=taken)
        stem = Path(scene.file).stem
        first = len(one.meshes)
        add(one, scene, beside, wired, f"{stem}/" if args.joined else "", dict.fromkeys(range(len(scene.meshes)), layout))
        if coats:
            out.seen += seen.compare(seen.of_coat(coats[n]), seen.of_model(one, first, scene), layout, grid.px, eye=eye)
        if not args.joined:
            out.notes += _convert(out.made, one, args.to, stem, folder)
            taken |= one.shown
    if args.joined:
        out.notes += _convert(out.made, model, args.to, safe_name(args.name))
    return out


def _coat(args: argparse.Namespace, analysed: Analysed, source: Path, below: str) -> Coat:
    """A file with its old paint, read from the file itself or from the one of its name (and folder) in --before."""
    scene, pieces = analysed
    old, folder = scene, source.parent
    if args.before is not None:
        folder = args.before / below
        old = files.read(folder / source.name, files.UNITS[args.unit])
        same = len(old.meshes) == len(scene.meshes) and all(
            len(a.triangles) == len(b.triangles) for a, b in zip(old.meshes, scene.meshes, strict=True)
        )
        if not same:
            raise FileError(
                str(folder / source.name), "its meshes are not those of the file that is delivered", "", "Give the file that was packed."
            )
    beside = files.Beside(folder)
    found = pictures(old, beside)
    if args.before is None and any(
        m.maps[kind].channel == args.channel_in for m, p in zip(old.materials, found, strict=True) for kind in p
    ):
        raise FileError(
            scene.file, f"its old textures are read by channel {args.channel_in}, where the layout is now", "",
            "Name the folder of the files as they were with --before.",
        )  # fmt: skip
    meshes = {}
    for m, piece in enumerate(pieces):
        if piece is not None:
            triangles = piece.mesh.channels[piece.channel].triangles
            meshes[m] = Laid(piece.uvs[triangles], np.where(piece.islands.of_triangle >= 0, 0, -1))
    maps = [{kind: Old(hashlib.sha256(body).hexdigest(), lambda body=body: body) for kind, body in p.items()} for p in found]  # type: ignore[misc]
    return Coat(scene, meshes, maps, old)


def _as_it_came(
    scene: Scene, written: dict[str, bytes], beside: files.Beside, wired: Wiring | None, unit_m: float
) -> tuple[Made, Scene, Mapping[int, NDArray[np.int64]]]:
    """A file and what it names now, by the path that it sees them at; the file as it is read back, and where its triangles stand in another order now."""
    made: Made = {}
    order: Mapping[int, NDArray[np.int64]] = {}
    again, pictures = scene, {}
    if wired is not None:
        rewired = rewire(scene, written, beside, wired)
        written, order, pictures = rewired.files, rewired.order, dict(wired.pictures)
    for path, body in written.items():
        made[path or scene.file] = body, "mesh" if not path else "texture" if "textures/" in path else "companion"
    if wired is not None:
        known = pictures | {path: body for path, (body, _) in made.items()}
        again = formats.read(written[""], scene.file, unit_m, formats.Both(known, beside))
    for reference in again.references:
        found = formats.find_resource(reference, beside)
        if found is not None and not found.startswith(".."):
            made.setdefault(found, (beside[found], "companion"))
    return made, again, order


def _convert(made: Made, model: Model, format: str, name: str, folder: str = "") -> list[str]:
    """Write a model; returns what its format has no place for."""
    main, done, notes = checked(model, format, name)
    if posixpath.join(folder, main) in made:
        raise FileError(main, "two files would have this name", "", "Rename one of them, or take --joined.")
    for path, file in done.items():
        made.setdefault(posixpath.join(folder, path), file)
    return [f"{main}: {note}" for note in notes]
