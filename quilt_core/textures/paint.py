"""Old paint of whole files carried over into the maps of their new sheets, and the wiring of their materials to these."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from PIL import Image

from ..formats.pictures import is_sixteen_bit, kind_of
from ..formats.wiring import OneEach, Wiring, plan, safe_name
from ..model.material import OPAQUE, Material
from ..model.tiles import Grid, column_row, numbers_at
from . import baked
from .carry import (
    Carried,
    Difference,
    Patch,
    Single,
    carry,
    difference,
    difference_picture,
    joined,
    levels,
    picture_of,
    seen_through,
)
from .old import Coat, Group, Laid, Old, Pictures, Use, groups_of

__all__ = ["DIFFERENCES", "Coat", "Laid", "Old", "Paint", "Sheet", "paint", "wiring"]

DIFFERENCES = "textures/differences/"
_FOURTH = ("specular and gloss", "sheen roughness", "specular strength")  # kinds whose fourth channel counts
_SINGLE = ("height",)  # kinds whose picture has one channel


@dataclass(frozen=True)
class Sheet:
    """A sheet that maps are made for."""

    number: int
    name: str
    tiles: Grid


@dataclass
class Paint:
    """What was carried over: pictures by path; by tile (sheet, number) the path of each kind; figures of every map. `materials`, for one material a sheet:
    by sheet and class (see `baked.classes`), its factors."""

    pictures: dict[str, bytes] = field(default_factory=dict)
    maps: dict[tuple[int, int], dict[str, str]] = field(default_factory=dict)
    figures: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    materials: dict[tuple[int, tuple[str, bool]], Material] = field(default_factory=dict)

    @property
    def shown(self) -> dict[str, bytes]:
        """The pictures for materials, without those of differences."""
        return {path: body for path, body in self.pictures.items() if not path.startswith(DIFFERENCES)}


@dataclass(frozen=True)
class _Layer:
    """What is carried into some channels of one map: where, its kind, and its patches. `alpha`, `lit` and `weight` where something is seen through, see
    `carry.seen_through`."""

    channels: str
    kind: str
    patches: list[Patch]
    alpha: list[Patch] = field(default_factory=list)
    lit: list[Patch] = field(default_factory=list)
    weight: list[Patch] = field(default_factory=list)


@dataclass(frozen=True)
class _Map:
    kind: str
    layers: list[_Layer]
    single: bool = False
    deep: bool = False


def kinds_of(coats: Sequence[Coat]) -> list[str]:
    """The kinds of map that the files have, the base colour first."""
    found = {kind for c in coats for maps in c.maps for kind in maps}
    return sorted(found, key=lambda k: (k != "base colour", k))


def paint(
    coats: Sequence[Coat], sheets: Sequence[Sheet], per_sheet: bool = False, progress: Callable[[str, float], None] = lambda *_: None
) -> Paint:
    """Carry every kind of map over to every sheet and tile.

    Parameters
    ----------
    per_sheet : the maps are for one material a tile, with the factors of those that it takes the place of in them
    progress : gets what is done, and which part (0 to 1) of the sheets' maps are
    """
    out, pictures = Paint(), Pictures()
    coats, unread = _readable(coats, out.notes)
    groups, kinds = groups_of(coats), kinds_of(coats)
    if not kinds:
        out.notes.append("There is no old paint: no material names a picture that came with the files.")
    out.notes += _missing(groups, unread)
    for n, s in enumerate(sheets):
        mine = [g for g in groups if g.sheet == s.number]
        makes = list(_one_material(out, s, mine) if per_sheet else _maps_as_they_are(mine, kinds))
        for k, make in enumerate(makes):
            made = make(pictures)
            if made is not None:
                for tile, px in zip(s.tiles.numbers, s.tiles.sizes, strict=True):
                    progress(f"Carrying the {made.kind} over to {s.name}, tile {tile}", (n + k / len(makes)) / len(sheets))
                    _draw(out, s, tile, px, made)
            pictures.clear()
    return out


def _readable(coats: Sequence[Coat], notes: list[str]) -> tuple[list[Coat], set[tuple[str, str, str]]]:
    """The coats without old pictures of a kind that is not read here, which are named by file, material and kind. Told are these, and those that are carried at
    less than their depth."""
    out, unread, known = [], set[tuple[str, str, str]](), dict[str, tuple[bool, bool]]()
    for c in coats:
        maps = []
        for material, found in zip(c.before.materials, c.maps, strict=False):
            kept = {}
            for kind, old in found.items():
                if old.key not in known:
                    body = old.load()
                    known[old.key] = kind_of(body) is not None, is_sixteen_bit(body, grey=False)
                good, deep = known[old.key]
                path = material.maps[kind].path if kind in material.maps else kind
                words = f"{c.scene.file}: '{path}', the {kind} of '{material.name}',"
                if good:
                    kept[kind] = old
                    notes += [f"{words} has 16 bits a channel; the new map has 8"] if deep else []
                else:
                    notes.append(f"{words} is a picture of a kind that is not read here: nothing of it is in the new maps")
                    unread.add((c.scene.file, material.name, kind))
            maps.append(kept)
        out.append(replace(c, maps=maps))
    return out, unread


def _missing(groups: Sequence[Group], unread: set[tuple[str, str, str]]) -> list[str]:
    """What is told of pictures that materials name and that did not come; those that came and could not be read are told already."""
    found = {
        (g.coat.scene.file, g.record.name, t.path, kind)
        for g in groups
        for kind, t in g.record.maps.items()
        if g.picture(kind) is None and (g.coat.scene.file, g.record.name, kind) not in unread
    }
    return [
        f"{file}: '{path}', the {kind} of '{name}', did not come along: nothing of it is in the new maps"
        for file, name, path, kind in sorted(found)
    ]


_Make = Callable[[Pictures], _Map | None]


def _maps_as_they_are(mine: Sequence[Group], kinds: Sequence[str]) -> list[_Make]:
    """Old pictures as they are stored; what multiplies them stays in their materials."""

    def make(pictures: Pictures, kind: str) -> _Map | None:
        patches = [g.patch(kind, baked.as_it_is(g, kind), pictures) for g in mine]
        if all(p.picture is None for p in patches):
            return None
        alpha: list[Patch] = []
        lit: list[Patch] = []
        if kind == "base colour" and any(g.record.see_through for g in mine):
            for g in mine:
                part = "a" if g.record.see_through else ""
                alpha.append(g.patch(kind, Use("opacity", "a"), pictures) if part else _whole(g, kind, pictures))
                lit.append(g.patch(kind, Use(kind, lit=bool(part)), pictures, baked.plain_of(Material(""), kind)))
        layers = [_Layer("rgb", kind, patches, alpha, lit, alpha)]
        if kind in _FOURTH:
            layers.append(_Layer("a", "opacity", [g.patch(kind, Use("opacity", "a"), pictures) for g in mine]))
        deep = any(old.key in pictures.sixteen for g in mine if (old := g.picture(kind)) is not None)
        return _Map(kind, layers, kind in _SINGLE, deep)

    return [lambda pictures, kind=kind: make(pictures, kind) for kind in kinds]  # type: ignore[misc]


def _whole(group: Group, kind: str, pictures: Pictures) -> Patch:
    """A group as one of which all is seen, on the triangles that its picture of a kind covers."""
    found = group.patch(kind, Use(kind), pictures)
    return replace(found, picture=levels(np.ones((1, 1, 3), np.float32)))


def _one_material(out: Paint, s: Sheet, mine: Sequence[Group]) -> list[_Make]:
    """The maps of one material for all, see `baked`; its factors, and what it cannot say, are put down."""
    wanted, peak, classes = baked.wanted(mine), baked.peak_of(mine), baked.classes(mine)
    for key, groups in classes.items():
        out.materials[s.number, key] = baked.record_of(groups, wanted, peak)
        out.notes += baked.notes(groups, s.name)
    if len(classes) > 1:
        names = ", ".join(f"'{baked.named_class(safe_name(s.name), key)}'" for key in classes)
        out.notes.append(
            f"{s.name}: what is seen through, cut out or unlit needs a material of its own, which shows the same maps: {names}"
        )

    def one(pictures: Pictures, kind: str) -> _Map:
        patches = [baked.patch(g, kind, pictures, peak) for g in mine]
        alpha: list[Patch] = []
        lit: list[Patch] = []
        weight: list[Patch] = []
        if kind == "base colour" and any(g.record.alpha != OPAQUE for g in mine):
            for g, p in zip(mine, patches, strict=True):
                source, use, plain = baked.alpha_of(g)
                alpha.append(g.patch(source, use, pictures, plain))
                lit.append(_lit(g, p, source, use, plain, pictures))
                weight.append(alpha[-1] if source == kind else replace(p, picture=levels(np.ones((1, 1, 3), np.float32))))
        return _Map(kind, [_Layer("rgb", kind, patches, alpha, lit, weight)], kind in _SINGLE)

    def both(pictures: Pictures) -> _Map:
        layers = [_Layer(at, kind, [baked.patch(g, kind, pictures) for g in mine]) for kind, at in (("roughness", "g"), ("metal", "b"))]
        return _Map("metal and roughness", layers)

    makes: list[_Make] = [lambda pictures, kind=kind: one(pictures, kind) for kind in wanted if kind not in ("roughness", "metal")]  # type: ignore[misc]
    return makes + ([both] if "metal" in wanted else [])


def _lit(group: Group, colour: Patch, source: str, use: Use, plain: tuple[float, float, float], pictures: Pictures) -> Patch:
    """The base colour of a group times what is seen of it. Where another picture says what is seen, colours are not weighed by it."""
    if source != "base colour":
        return colour
    old = group.picture("base colour")
    if old is None or colour.picture is None:
        return replace(colour, picture=levels(np.array([[baked.plain_of(group.record, "base colour")]], np.float32) * np.float32(plain[0])))
    return replace(colour, picture=pictures.get(old, replace(baked.use_of(group, "base colour"), lit=True, opacity=use.scale[0])))


def _draw(out: Paint, s: Sheet, tile: int, px: int, made: _Map) -> None:
    """One map of one tile."""
    corner = column_row(tile)
    done = [_carried(layer, px, corner) for layer in made.layers]
    if not any(found.covered.any() for found, _, _ in done):
        return
    values = _stacked([(layer.channels, v) for layer, (_, v, _) in zip(made.layers, done, strict=True)])
    off = joined([d for _, _, d in done])
    name = f"{safe_name(s.name)}.{safe_name(made.kind)}.{tile}.png"
    path = f"textures/{name}"
    out.pictures[path] = _png(_single(values, made.deep) if made.single else picture_of(values))
    out.pictures[DIFFERENCES + name] = _png(difference_picture(off, min(px, 1024), corner))
    out.maps.setdefault((s.number, tile), {})[made.kind] = path
    out.figures.append(
        {"sheet": s.name, "tile": tile, "kind": made.kind, "px": px, "file": path, "psnr": None if np.isinf(off.psnr) else round(off.psnr, 2),
         "mean": round(off.mean, 3), "high": round(off.high, 2), "bare": max(found.bare for found, _, _ in done)}
    )  # fmt: skip


def _carried(layer: _Layer, px: int, corner: tuple[int, int]) -> tuple[Carried, Single, Difference]:
    found = carry(layer.patches, layer.kind, px, corner)
    off = difference(layer.patches, found, layer.kind, px, corner)
    return found, seen_through(found, layer.alpha, layer.lit, layer.weight, px, corner) if layer.alpha else found.values, off


def _stacked(parts: Sequence[tuple[str, Single]]) -> Single:
    """A map (px, px, 3 or 4) from the channels that its layers fill; the others are 1."""
    if len(parts) == 1:
        return parts[0][1]
    out = np.ones((*parts[0][1].shape[:2], 4 if any("a" in c for c, _ in parts) else 3), np.float32)
    for channels, values in parts:
        for k, c in enumerate(channels):
            out[:, :, "rgba".index(c)] = values[:, :, k]
    return out


def _single(values: Single, deep: bool) -> Image.Image:
    """A map of one channel; of 16 bits where an old picture had as many."""
    grey = np.clip(values[:, :, 0], 0, 1)
    return (
        Image.fromarray(np.round(grey * 65535).astype(np.uint16)) if deep else Image.fromarray(np.round(grey * 255).astype(np.uint8), "L")
    )


def _png(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def wiring(found: Paint, coat: Coat, names: Mapping[int, str], per_sheet: bool, channel: int) -> Wiring:
    """Which material every triangle of a file has from now on; `names` of the sheets, `channel` the one that the layout is in."""
    spots = {}
    for m, laid in coat.meshes.items():
        spots[m] = laid.sheet, numbers_at(np.floor(laid.new.mean(axis=1)))
    if per_sheet:
        of = [(m.alpha, m.unlit) for m in coat.before.materials]
        out = plan(coat.scene, spots, found.maps, names, OneEach(of, (OPAQUE, False), found.materials, baked.named_class))
    else:
        out = plan(coat.scene, spots, found.maps, names, had=[set(m) for m in coat.maps])
    out.pictures, out.channel = found.shown, channel
    return out
