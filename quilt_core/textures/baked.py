"""What stands in the maps of one material for a sheet: the factors of all the materials that it takes the place of, baked in. How factors and pictures
go together: glTF 2.0, sections 3.9.2 to 3.9.4 and 5.19 to 5.22; scale and bias of a texture: UsdPreviewSurface."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..model.material import BLEND, MASK, OPAQUE, VECTORS, Colour, Material, Texture
from ..words import named
from .carry import NEUTRAL, Patch, working
from .old import ONES, ZEROS, Group, Pictures, Use

# Maps of the one material, by how they are asked for here; roughness and metal go into one picture.
SURFACE = ("base colour", "roughness", "metal", "normal", "occlusion", "emission", "specular", "gloss", "height", "ambient")
_ONE_CHANNEL = ("roughness", "metal", "occlusion", "gloss", "height", "opacity")
_COMBINED = {"roughness": "g", "metal": "b"}  # channels of glTF's picture of both


def as_it_is(group: Group, kind: str) -> Use:
    """A picture as its material reads it; the factors stay in the material. Vectors are always told as vectors."""
    texture = group.texture(kind)
    if kind in VECTORS and texture.scale is not None:
        return Use(kind, scale=_decoded(texture)[0], bias=_decoded(texture)[1])
    return Use(kind)


def _decoded(texture: Texture) -> tuple[Colour, Colour]:
    """Scale and bias of vectors -1 to 1, from those of stored values."""
    scale, bias = texture.scale or (2.0, 2.0, 2.0, 1.0), texture.bias or (-1.0, -1.0, -1.0, 0.0)
    half = (scale[0] / 2, scale[1] / 2, scale[2] / 2)
    return half, (half[0] + bias[0], half[1] + bias[1], half[2] + bias[2])


def source_of(group: Group, kind: str) -> tuple[str, str]:
    """The kind of the old picture that a map is made from, and the channel of it that counts (empty for its colours)."""
    combined = _COMBINED.get(kind)
    if combined is not None and group.picture(kind) is None and group.picture("metal and roughness") is not None:
        return "metal and roughness", combined
    return kind, (group.texture(kind).part or "r") if kind in _ONE_CHANNEL else ""


def plain_of(record: Material, kind: str) -> Colour:
    """Working values of a map where a material has factors alone."""
    if kind == "base colour":
        grey = working(np.array([NEUTRAL[kind]], np.float32), kind)[0].tolist()
        return record.colour or (grey[0], grey[1], grey[2])
    if kind == "normal":
        return 0.0, 0.0, 1.0
    if kind in ("occlusion", "roughness"):
        value = 1.0 if kind == "occlusion" or record.roughness is None else record.roughness
        return value, value, value
    if kind == "metal":
        value = record.metal or 0.0
        return value, value, value
    return {"emission": record.emission, "specular": record.specular}.get(kind) or ZEROS


def use_of(group: Group, kind: str, peak: float = 1.0) -> Use:
    """What a map takes from the picture that `source_of` names. `peak` : what the emission is divided by, so that a picture can hold it."""
    record, (source, part) = group.record, source_of(group, kind)
    texture = group.texture(source)
    scale, bias = (texture.scale or (*ONES, 1.0))[:3], (texture.bias or (*ZEROS, 0.0))[:3]
    if kind == "normal":
        scale, bias = _decoded(texture)
        factor: Colour = (record.normal_scale, record.normal_scale, 1.0)
    elif part:
        at = "rgba".index(part)
        scale, bias = (_at(texture.scale, at, 1.0),) * 3, (_at(texture.bias, at, 0.0),) * 3
        value = {"roughness": record.roughness, "metal": record.metal}.get(kind)
        factor = ONES if value is None else (value, value, value)
    else:
        found = {"base colour": record.colour, "emission": record.emission, "specular": record.specular}.get(kind)
        factor = ONES if found is None else found
    if kind == "occlusion":
        strength = record.occlusion_strength
        return Use(source, part, _times(scale, (strength,) * 3), _plus(_times(bias, (strength,) * 3), (1 - strength,) * 3))
    down = 1 / peak if kind == "emission" else 1.0
    factor = (factor[0] * down, factor[1] * down, factor[2] * down)
    return Use(source, part, _times(scale, factor), _times(bias, factor))


def _at(values: tuple[float, ...] | None, at: int, usual: float) -> float:
    return usual if values is None else values[at]


def _times(a: tuple[float, ...], b: tuple[float, ...]) -> Colour:
    return a[0] * b[0], a[1] * b[1], a[2] * b[2]


def _plus(a: tuple[float, ...], b: tuple[float, ...]) -> Colour:
    return a[0] + b[0], a[1] + b[1], a[2] + b[2]


def patch(group: Group, kind: str, pictures: Pictures, peak: float = 1.0) -> Patch:
    """The triangles of a group with what a map shows on them."""
    plain = plain_of(group.record, kind)
    if kind == "emission":
        plain = plain[0] / peak, plain[1] / peak, plain[2] / peak
    return group.patch(source_of(group, kind)[0], use_of(group, kind, peak), pictures, plain)


def alpha_of(group: Group) -> tuple[str, Use, Colour]:
    """How much of a group is seen: the kind of picture that says it, what is taken from it, and the value without one. A cutoff becomes one half."""
    record = group.record
    much = 1.0 if record.opacity is None else record.opacity
    if record.alpha == OPAQUE:
        return "", Use("opacity"), ONES
    if record.alpha == MASK:
        much *= 0.5 / max(record.cutoff, 1e-6)
    plain = (min(much, 1.0),) * 3
    if "opacity" in record.maps:
        texture = record.maps["opacity"]
        part = texture.part or "r"
        much, more = much * _at(texture.scale, "rgba".index(part), 1.0), much * _at(texture.bias, "rgba".index(part), 0.0)
        return "opacity", Use("opacity", part, (much,) * 3, (more,) * 3), plain
    return "base colour", Use("opacity", "a", (much,) * 3), plain


def peak_of(groups: Sequence[Group]) -> float:
    """The largest factor of emission, at least 1."""
    return max([1.0, *(max(g.record.emission) for g in groups if g.record.emission is not None)])


def wanted(groups: Sequence[Group]) -> list[str]:
    """The kinds of map (of `SURFACE`) that a sheet needs; roughness and metal go together."""
    found = [kind for kind in SURFACE if groups and _needed(groups, kind)]
    return [kind for kind in SURFACE if kind in found or (kind in _COMBINED and _COMBINED.keys() & set(found))]


def _needed(groups: Sequence[Group], kind: str) -> bool:
    """Whether a sheet needs a map of a kind: somebody has a picture, or factors differ."""
    if any(g.picture(source_of(g, kind)[0]) is not None for g in groups):
        return True
    return kind in ("base colour", "roughness", "metal", "emission", "specular") and len({plain_of(g.record, kind) for g in groups}) > 1


def classes(groups: Sequence[Group]) -> dict[tuple[str, bool], list[Group]]:
    """Groups by what no map can say: how they are seen through, and whether light falls on them."""
    out: dict[tuple[str, bool], list[Group]] = {}
    for g in groups:
        out.setdefault((g.record.alpha, g.record.unlit), []).append(g)
    return out


def record_of(groups: Sequence[Group], maps: Sequence[str], peak: float) -> Material:
    """The one material for groups of one class, without its pictures.

    Parameters
    ----------
    maps : the kinds of map (of `SURFACE`) that the sheet has; what is in no map is the same in all groups
    """
    records = [g.record for g in groups]
    one = records[0]
    shine = (peak, peak, peak) if "emission" in maps else one.emission
    return Material(
        "",
        colour=ONES if "base colour" in maps else one.colour,
        opacity=1.0 if one.alpha != OPAQUE else None,
        metal=1.0 if "metal" in maps else one.metal,
        roughness=1.0 if "roughness" in maps else one.roughness,
        emission=shine,
        specular=ONES if "specular" in maps else one.specular,
        gloss=one.gloss,
        alpha=one.alpha,
        cutoff=0.5,
        double_sided=any(r.double_sided for r in records),
        unlit=one.unlit,
    )


def named_class(name: str, kind: tuple[str, bool]) -> str:
    """The name of the material of a class on a sheet."""
    alpha, unlit = kind
    return name + {OPAQUE: "", BLEND: ".seen_through", MASK: ".cut_out"}[alpha] + (".unlit" if unlit else "")


def notes(groups: Sequence[Group], sheet: str) -> list[str]:
    """What one material cannot say, by property and material."""
    said: dict[str, set[str]] = {}
    for g in groups:
        r = g.record
        for kind in r.maps:
            if kind not in (*SURFACE, "metal and roughness", "opacity"):
                said.setdefault(f"has no {kind} map", set()).add(r.name)
        for name in r.further:
            said.setdefault(f"has no {name}", set()).add(r.name)
    if any(g.record.double_sided for g in groups):
        for g in groups:
            if not g.record.double_sided:
                said.setdefault("shows both sides", set()).add(g.record.name)
    return [
        f"{sheet}: its one material {what}, unlike {named((n or 'what has none' for n in sorted(names)), 3)}"
        for what, names in sorted(said.items())
    ]
