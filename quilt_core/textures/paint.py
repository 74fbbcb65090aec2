"""Old paint of whole files carried over into the maps of their new sheets, and the wiring of their materials to these."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..formats.pictures import open_picture
from ..formats.wiring import Wiring, plan, safe_name
from ..model.scene import Floats, Scene
from ..model.tiles import Grid, column_row
from .carry import (
    NEUTRAL,
    Mips,
    Patch,
    Single,
    alpha_of,
    carry,
    difference,
    difference_picture,
    mips_of,
    picture_of,
    seen_through,
    stored_values,
    to_linear,
    to_srgb,
)

Colour = tuple[float, float, float]
Numbers = NDArray[np.int64]
DIFFERENCES = "textures/differences/"


@dataclass(frozen=True)
class Old:
    """An old picture: a key that tells it from others, and how to get its bytes."""

    key: str
    load: Callable[[], bytes]


@dataclass(frozen=True)
class Laid:
    """Where the triangles of a mesh lie now: the UVs (T, 3, 2) of their corners, and the sheet of each (T,), -1 for none."""

    new: Floats
    sheet: Numbers


@dataclass
class Coat:
    """A file with its old paint. For each material: the old pictures by kind of map, the UV channel that each reads, and the plain colour.

    `old` are the meshes as the old pictures read them; their triangles are those of the scene.
    """

    scene: Scene
    meshes: dict[int, Laid]
    maps: Sequence[Mapping[str, Old]]
    reads: Sequence[Mapping[str, int]]
    colours: Sequence[Colour | None]
    old: Scene | None = None


@dataclass(frozen=True)
class Sheet:
    """A sheet that maps are made for."""

    number: int
    name: str
    tiles: Grid


@dataclass
class Paint:
    """What was carried over: pictures by path; by tile (sheet, number) the path of each kind; figures of every map."""

    pictures: dict[str, bytes] = field(default_factory=dict)
    maps: dict[tuple[int, int], dict[str, str]] = field(default_factory=dict)
    figures: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    @property
    def shown(self) -> dict[str, bytes]:
        """The pictures for materials, without those of differences."""
        return {path: body for path, body in self.pictures.items() if not path.startswith(DIFFERENCES)}


class _Pictures:
    """Old pictures as mip levels, each decoded once for each kind and colour."""

    def __init__(self) -> None:
        self.kept: dict[tuple[str, str, Colour | None, str], Mips] = {}

    def get(self, old: Old | None, kind: str, colour: Colour | None = None, part: str = "") -> Mips:
        """A picture multiplied by a colour; without one, the colour alone. `part`: of what is seen through the "alpha", or the "lit" colours, which are linear
        and less where less is seen; "whole" and "all lit" are the same of what is not seen through."""
        key = ("" if old is None else old.key, kind, colour, part)
        if key not in self.kept:
            values, alpha = np.ones((1, 1, 3), np.float32), None
            if old is not None:
                picture = open_picture(old.load(), f"the old {kind} map")
                values, alpha = stored_values(picture), alpha_of(picture) if part in ("alpha", "lit") else None
            if part:
                return self._part(key, values, alpha, colour)
            if colour is not None and colour != (1.0, 1.0, 1.0):
                values = to_srgb(to_linear(values) * np.array(colour, np.float32))
            self.kept[key] = mips_of(values, kind)
        return self.kept[key]

    def _part(self, key: tuple[str, str, Colour | None, str], values: Single, alpha: Single | None, colour: Colour | None) -> Mips:
        seen = np.ones((*values.shape[:2], 1), np.float32) if alpha is None else alpha[:, :, None]
        if key[3] in ("alpha", "whole"):
            values = np.repeat(seen, 3, axis=2)
        else:
            values = to_linear(values) * np.array(colour or (1.0, 1.0, 1.0), np.float32) * seen
        self.kept[key] = mips_of(values, "")
        return self.kept[key]


@dataclass(frozen=True)
class _Group:
    """Triangles of one material of one mesh on one sheet."""

    coat: Coat
    mesh: int
    material: int
    sheet: int
    triangles: Numbers

    @property
    def see_through(self) -> bool:
        """Whether the alpha of its base colour counts."""
        return 0 <= self.material < len(self.coat.scene.materials) and self.coat.scene.materials[self.material].alpha

    def part(self, name: str, pictures: _Pictures, per_sheet: bool) -> Patch:
        """The "alpha" of its base colour, or the "lit" colours, see `_Pictures.get`."""
        kind = "base colour"
        own = name if self.see_through else {"alpha": "whole", "lit": "all lit"}[name]
        found = self.patch(kind, pictures, per_sheet, own)
        if found.picture is None and name == "lit":
            neutral = to_linear(np.array([[NEUTRAL[kind]]], np.float32))
            return Patch(found.new, found.old, mips_of(neutral, ""))
        return found

    def patch(self, kind: str, pictures: _Pictures, per_sheet: bool, part: str = "") -> Patch:
        """With the UVs that the old map of a kind is read by; `part` of it, see `_Pictures.get`.

        One material for all cannot have the colour of each: then the map of the base colour takes it in.
        """
        c, m = self.coat, self.material
        new = c.meshes[self.mesh].new[self.triangles]
        known = 0 <= m < len(c.maps)
        old = c.maps[m].get(kind) if known else None
        source = (c.old or c.scene).meshes[self.mesh].channels.get(c.reads[m].get(kind, 0)) if known else None
        colour = c.colours[m] if known and per_sheet and kind == "base colour" else None
        if old is None or source is None:
            return Patch(new, np.zeros_like(new), None if colour is None else pictures.get(None, kind, colour, part))
        rows = source.triangles[self.triangles]
        has = (rows >= 0).all(axis=1)
        return Patch(new[has], source.uvs[rows[has]], pictures.get(old, kind, colour, part))


def _groups(coats: Sequence[Coat]) -> list[_Group]:
    out = []
    for c in coats:
        for m, laid in c.meshes.items():
            materials = c.scene.meshes[m].materials
            keys = np.unique(np.column_stack([materials, laid.sheet])[laid.sheet >= 0], axis=0)
            for material, sheet in keys.tolist():
                out.append(_Group(c, m, material, sheet, np.flatnonzero((materials == material) & (laid.sheet == sheet))))
    return out


def kinds_of(coats: Sequence[Coat]) -> list[str]:
    """The kinds of map that the files have, the base colour first."""
    found = {kind for c in coats for maps in c.maps for kind in maps}
    return sorted(found, key=lambda k: (k != "base colour", k))


def paint(
    coats: Sequence[Coat], sheets: Sequence[Sheet], per_sheet: bool = False, progress: Callable[[str], None] = lambda _: None
) -> Paint:
    """Carry every kind of map over to every sheet and tile.

    Parameters
    ----------
    per_sheet : the maps are for one material a tile (see `rewire.plan`)
    """
    out, pictures = Paint(), _Pictures()
    groups, kinds = _groups(coats), kinds_of(coats)
    if not kinds:
        out.notes.append("There is no old paint: no material names a picture that came with the files.")
    for s in sheets:
        mine = [g for g in groups if g.sheet == s.number]
        for kind in kinds if mine else ():
            patches = [g.patch(kind, pictures, per_sheet) for g in mine]
            if all(p.picture is None for p in patches):
                continue
            seen = kind == "base colour" and any(g.see_through for g in mine)
            alpha, lit = ([g.part(n, pictures, per_sheet) for g in mine] if seen else [] for n in ("alpha", "lit"))
            for tile, px in zip(s.tiles.numbers, s.tiles.sizes, strict=True):
                progress(f"Carrying the {kind} over to {s.name}, tile {tile}")
                _one(out, s, tile, px, kind, patches, alpha, lit)
    return out


def _one(out: Paint, s: Sheet, tile: int, px: int, kind: str, patches: list[Patch], alpha: list[Patch], lit: list[Patch]) -> None:
    """One map of one tile; `alpha` and `lit` where something is seen through."""
    corner = column_row(tile)
    found = carry(patches, kind, px, corner)
    if not found.covered.any():
        return
    off = difference(patches, found, kind, px, corner)
    name = f"{safe_name(s.name)}.{safe_name(kind)}.{tile}.png"
    path = f"textures/{name}"
    values = seen_through(found, alpha, lit, px, corner) if alpha else found.values
    out.pictures[path] = _png(picture_of(values))
    out.pictures[DIFFERENCES + name] = _png(difference_picture(off, min(px, 1024), corner))
    out.maps.setdefault((s.number, tile), {})[kind] = path
    out.figures.append(
        {"sheet": s.name, "tile": tile, "kind": kind, "px": px, "file": path, "psnr": None if np.isinf(off.psnr) else round(off.psnr, 2),
         "mean": round(off.mean, 3), "high": round(off.high, 2), "texels_per_second": round(px * px / max(found.seconds, 1e-9)), "bare": found.bare}
    )  # fmt: skip


def _png(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def wiring(found: Paint, coat: Coat, names: Mapping[int, str], per_sheet: bool, channel: int) -> Wiring:
    """Which material every triangle of a file has from now on; `names` of the sheets, `channel` the one that the layout is in."""
    spots = {}
    for m, laid in coat.meshes.items():
        corner = np.floor(laid.new.mean(axis=1)).astype(np.int64)
        spots[m] = laid.sheet, 1001 + corner[:, 0] + 10 * corner[:, 1]
    out = plan(coat.scene, spots, found.maps, names, per_sheet, [set(m) for m in coat.maps])
    out.pictures, out.channel = found.shown, channel
    return out
