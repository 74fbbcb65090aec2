"""Old textures carried over into the new sheets, and the materials of the files pointed at them."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.deliver.carry import (
    Mips,
    Patch,
    carry,
    difference,
    difference_picture,
    mips_of,
    picture_of,
    stored_values,
    to_linear,
    to_srgb,
)
from quilt_core.formats.pictures import open_picture
from quilt_core.formats.rewire import Wiring, plan, safe_name
from quilt_core.scene import Floats
from quilt_core.sheet import transform_rows
from quilt_core.tiles import place

from ..projects.models import Job, Original
from ..projects.reading import Chosen, Parts, sheet_numbers
from ..projects.sheets import grid, of_sheet, sheets
from .progress import report_progress

Colour = tuple[float, float, float]


@dataclass
class Paint:
    """What was carried over: pictures by path; by sheet, kind and tile the path of the picture; figures of every map."""

    pictures: dict[str, bytes] = field(default_factory=dict)
    of_sheet: dict[int, dict[str, dict[int, str]]] = field(default_factory=dict)
    figures: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def maps(self) -> dict[tuple[int, int], dict[str, str]]:
        """The pictures of every tile (sheet, tile), by kind of map."""
        out: dict[tuple[int, int], dict[str, str]] = {}
        for sheet, kinds in self.of_sheet.items():
            for kind, tiles in kinds.items():
                for tile, path in tiles.items():
                    out.setdefault((sheet, tile), {})[kind] = path
        return out


class _Pictures:
    """Old pictures as mip levels, each decoded once for each kind."""

    def __init__(self) -> None:
        self.kept: dict[tuple[str, str, Colour | None], Mips] = {}

    def get(self, sha: str, kind: str, colour: Colour | None = None) -> Mips:
        """A picture by its hash, multiplied by a colour; no hash for the colour alone."""
        key = (sha, kind, colour)
        if key not in self.kept:
            values = np.ones((1, 1, 3), np.float32)
            if sha:
                values = stored_values(open_picture(bytes(Original.objects.get(pk=sha).data), f"the old {kind} map"))
            if colour is not None and colour != (1.0, 1.0, 1.0):
                values = to_srgb(to_linear(values) * np.array(colour, np.float32))
            self.kept[key] = mips_of(values, kind)
        return self.kept[key]


@dataclass
class _Group:
    """Triangles of one material of one mesh on one sheet, with their new UVs (T, 3, 2)."""

    chosen: Chosen
    mesh: int
    material: int
    sheet: int
    triangles: NDArray[np.int64]
    new: Floats


def _groups(chosen: list[Chosen], parts: Parts, rows: Floats, on: NDArray[np.int64]) -> list[_Group]:
    out = []
    tables, numbers = parts.pieced(rows), parts.pieced(on)
    at = 0
    for c in chosen:
        for m, piece in enumerate(c.pieces):
            if piece is None:
                continue
            new = transform_rows(piece.uvs, piece.islands.of_row, tables[at])
            of = piece.islands.of_triangle
            sheet = np.where(of >= 0, numbers[at][np.maximum(of, 0)], -1)
            source = piece.mesh.channels[piece.channel]
            for material in np.unique(piece.mesh.materials):
                for s in np.unique(sheet[sheet >= 0]):
                    t = np.flatnonzero((piece.mesh.materials == material) & (sheet == s))
                    if len(t):
                        out.append(_Group(c, m, int(material), int(s), t, new[source.triangles[t]]))
            at += 1
    return out


def _patch(group: _Group, kind: str, pictures: _Pictures, per_sheet: bool) -> Patch:
    """The triangles of a group with the UVs that the old map of a kind is read by.

    One material for all cannot have the colour of each: then the map of the base colour takes it in.
    """
    info = group.chosen.file.materials[group.material] if 0 <= group.material < len(group.chosen.file.materials) else {}
    sha = info.get("images", {}).get(kind)
    mesh = group.chosen.scene.meshes[group.mesh]
    source = mesh.channels.get(int(info.get("channels", {}).get(kind, 0)))
    colour: Colour | None = tuple(info["colour"]) if per_sheet and kind == "base colour" and info.get("colour") else None
    if sha is None or source is None:
        return Patch(group.new, np.zeros_like(group.new), None if colour is None else pictures.get("", kind, colour))
    old = source.triangles[group.triangles]
    has = (old >= 0).all(axis=1)
    return Patch(group.new[has], source.uvs[old[has]], pictures.get(sha, kind, colour))


def kinds_of(chosen: list[Chosen]) -> list[str]:
    """The kinds of map that the files have, the base colour first."""
    found = {kind for c in chosen for m in c.file.materials for kind in m.get("images", {})}
    return sorted(found, key=lambda k: (k != "base colour", k))


def paint(job: Job, chosen: list[Chosen], parts: Parts, rows: Floats, settings: dict[str, Any], per_sheet: bool = False) -> Paint:
    """Carry every kind of map over to every sheet and tile; see `_patch` for `per_sheet`."""
    out, pictures = Paint(), _Pictures()
    groups = _groups(chosen, parts, rows, sheet_numbers(chosen, parts, settings))
    kinds = kinds_of(chosen)
    if not kinds:
        out.notes.append("There is no old paint: no material names a picture that came with the files.")
    for s in sheets(settings):
        mine = [g for g in groups if g.sheet == s["id"]]
        if not mine:
            continue
        flat = of_sheet(settings, s["id"])
        tiles = grid(flat)
        for kind in kinds:
            patches = [_patch(g, kind, pictures, per_sheet) for g in mine]
            if all(p.picture is None for p in patches):
                continue
            for tile, px in zip(tiles.numbers, tiles.sizes, strict=True):
                report_progress(job, {"text": f"Carrying the {kind} over to {s['name']}, tile {tile}"})
                corner = place(tile)
                found = carry(patches, kind, px, corner)
                if not found.covered.any():
                    continue
                off = difference(patches, found, kind, px, corner)
                path = f"textures/{safe_name(s['name'])}.{safe_name(kind)}.{tile}.png"
                out.pictures[path] = _png(picture_of(found.values))
                out.pictures[f"textures/differences/{path.rsplit('/', 1)[-1]}"] = _png(difference_picture(off, min(px, 1024), corner))
                out.of_sheet.setdefault(s["id"], {}).setdefault(kind, {})[tile] = path
                out.figures.append(
                    {"sheet": s["name"], "tile": tile, "kind": kind, "px": px, "file": path, "psnr": None if np.isinf(off.psnr) else round(off.psnr, 2),
                     "mean": round(off.mean, 3), "high": round(off.high, 2), "texels_per_second": round(px * px / max(found.seconds, 1e-9)),
                     "bare": found.bare}
                )  # fmt: skip
    return out


def _png(image: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def wiring_of(
    found: Paint, c: Chosen, sheet_of: dict[int, NDArray[np.int64]], new: dict[int, Floats], names: dict[int, str], per_sheet: bool
) -> Wiring:
    """Which material every triangle of a file has from now on.

    Parameters
    ----------
    sheet_of : for each mesh, the sheet of every triangle (T,), -1 for none; new : its UVs at the corners of the triangles (T, 3, 2)
    """
    spots = {}
    for m, sheet in sheet_of.items():
        corner = np.floor(new[m].mean(axis=1)).astype(np.int64)
        spots[m] = sheet, 1001 + corner[:, 0] + 10 * corner[:, 1]
    return plan(c.scene, spots, found.maps(), names, per_sheet)
