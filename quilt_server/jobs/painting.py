"""Old textures carried over into the new sheets, and the materials of the files pointed at them."""

from __future__ import annotations

import hashlib
import io
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.deliver.carry import Mips, Patch, carry, difference, difference_picture, mips_of, picture_of, stored_values
from quilt_core.formats.pictures import open_picture
from quilt_core.formats.rewire import safe_name
from quilt_core.scene import Floats
from quilt_core.sheet import transform_rows
from quilt_core.tiles import place

from ..projects.models import Job, Original
from ..projects.reading import Chosen, Parts, sheet_numbers
from ..projects.sheets import grid, of_sheet, sheets
from .progress import report_progress


@dataclass
class Paint:
    """What was carried over: pictures by path; for each file and material the sheet that it lies on (None for several); figures of every map."""

    pictures: dict[str, bytes] = field(default_factory=dict)
    of_sheet: dict[int, dict[str, dict[int, str]]] = field(default_factory=dict)
    sheet_of: dict[tuple[int, int], int | None] = field(default_factory=dict)
    figures: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


class _Pictures:
    """Old pictures as mip levels, each decoded once for each kind."""

    def __init__(self) -> None:
        self.kept: dict[tuple[str, str], Mips] = {}

    def get(self, sha: str, kind: str) -> Mips:
        key = (hashlib.sha256(sha.encode()).hexdigest() if len(sha) != 64 else sha, kind)
        if key not in self.kept:
            image = open_picture(bytes(Original.objects.get(pk=sha).data), f"the old {kind} map")
            self.kept[key] = mips_of(stored_values(image), kind)
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


def _patch(group: _Group, kind: str, pictures: _Pictures) -> Patch:
    """The triangles of a group with the UVs that the old map of a kind is read by."""
    info = group.chosen.file.materials[group.material] if 0 <= group.material < len(group.chosen.file.materials) else {}
    sha = info.get("images", {}).get(kind)
    mesh = group.chosen.scene.meshes[group.mesh]
    source = mesh.channels.get(int(info.get("channels", {}).get(kind, 0)))
    if sha is None or source is None:
        return Patch(group.new, group.new, None)
    old = source.triangles[group.triangles]
    has = (old >= 0).all(axis=1)
    return Patch(group.new[has], source.uvs[old[has]], pictures.get(sha, kind))


def kinds_of(chosen: list[Chosen]) -> list[str]:
    """The kinds of map that the files have, the base colour first."""
    found = {kind for c in chosen for m in c.file.materials for kind in m.get("images", {})}
    return sorted(found, key=lambda k: (k != "base colour", k))


def paint(job: Job, chosen: list[Chosen], parts: Parts, rows: Floats, settings: dict[str, Any]) -> Paint:
    """Carry every kind of map over to every sheet and tile."""
    out, pictures = Paint(), _Pictures()
    groups = _groups(chosen, parts, rows, sheet_numbers(chosen, parts, settings))
    for g in groups:
        key = (g.chosen.file.pk, g.material)
        out.sheet_of[key] = g.sheet if out.sheet_of.get(key, g.sheet) == g.sheet else None
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
            patches = [_patch(g, kind, pictures) for g in mine]
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


def wired(found: Paint, file: int, count: int) -> tuple[dict[int, dict[str, str]], list[int]]:
    """For each material of a file the pictures that it shows now; and materials that lie on several sheets or tiles, which keep their old ones."""
    out: dict[int, dict[str, str]] = {}
    kept = []
    for material in range(count):
        sheet = found.sheet_of.get((file, material), -1)
        if sheet == -1:
            continue
        maps = found.of_sheet.get(sheet, {}) if sheet is not None else {}
        if sheet is None or any(len(tiles) > 1 for tiles in maps.values()):
            kept.append(material)
            continue
        out[material] = {kind: next(iter(tiles.values())) for kind, tiles in maps.items()}
    return out, kept
