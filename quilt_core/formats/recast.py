"""Materials as another format has them: one picture for metal and roughness or two, what is seen in the base colour's fourth channel or in a picture of its
own, and what a picture is multiplied by in a factor or in the picture."""

from __future__ import annotations

import io
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..errors import QuiltError
from ..model.colours import to_linear, to_srgb
from ..model.material import OPAQUE, VECTORS, Colour, Material, Texture
from .format import Format
from .model import Model
from .pictures import alpha_of, is_sixteen_bit, kind_of, open_picture, stored_values
from .skewed import unskewed
from .wiring import NewMaterial, Wiring, safe_name

Picture = NDArray[np.float64]  # (height, width, 4) values 0 to 1 as they are stored
_BOTH = "metal and roughness"
_PARTS = {"roughness": "g", "metal": "b"}
_COLOURS = ("base colour", "emission", "specular")  # stored in sRGB
_SINGLE = ("roughness", "metal", "occlusion", "gloss", "height", "opacity")


def recast(model: Model, of: Format) -> tuple[Model, list[str]]:
    """A model whose materials have pictures of the kinds that a format knows, as far as that changes nothing; and what could not be said so."""
    notes: list[str] = []
    made = replace(model, pictures=dict(model.pictures))
    made.looks = [_Caster(made, of, look, notes).cast() for look in model.looks]
    return made, notes + unskewed(made, of)


def split(wiring: Wiring) -> tuple[dict[str, bytes], list[NewMaterial]]:
    """The new materials of a wiring for a format with pictures of their own for roughness, metal, and what is seen; and all pictures."""
    pictures, out = dict(wiring.pictures), []
    for m in wiring.materials:
        maps = dict(m.maps)
        if _BOTH in maps and m.like < 0:
            both = maps.pop(_BOTH)
            for kind, part in _PARTS.items():
                maps[kind] = both.replace(safe_name(_BOTH), kind) if safe_name(_BOTH) in both else f"{both.rsplit('.', 1)[0]}.{kind}.png"
                pictures[maps[kind]] = _encoded(_grey(_values(pictures[both], both), part), kind)
        if m.like < 0 and m.record is not None and m.record.alpha != OPAQUE and "base colour" in maps:
            base = maps["base colour"]
            maps["opacity"] = f"{base.rsplit('.', 1)[0]}.opacity.png"
            pictures[maps["opacity"]] = _encoded(_grey(_values(pictures[base], base), "a"), "opacity")
        out.append(replace(m, maps=maps))
    return pictures, out


class _Caster:
    """One material on its way to another format."""

    def __init__(self, model: Model, of: Format, look: Material, notes: list[str]) -> None:
        self.model, self.of, self.look, self.notes = model, of, look, notes
        self.maps = look.maps

    def cast(self) -> Material:
        """The material as the format has it."""
        try:
            if not self.of.scales:
                self._unscale()
            self._surface()
            self._opacity()
            if not self.of.parts:
                self._single()
        except QuiltError as e:
            self.notes.append(f"'{self.look.name}': {e}")
        self._held()
        return replace(self.look, textures=self.maps)

    def _held(self) -> None:
        """Pictures of a kind that the format does not hold become PNG; those that are not read here stay as they came, or are left out, and are told."""
        for kind, t in list(self.maps.items()):
            found = kind_of(self.model.pictures[t.path])
            if found is None:
                held = not self.of.pictures_inside
                self.notes.append(
                    f"'{self.look.name}': '{t.path}' is a picture of a kind that is not read here; it {'goes along as it came' if held else 'is left out'}."
                )
                if not held:
                    del self.maps[kind]
            elif self.of.pictures and found not in self.of.pictures:
                values = self._open(t)
                self.maps[kind] = self._kept(t, values, kind, alpha=kind not in _SINGLE and bool((values[:, :, 3] < 1).any()))

    def _surface(self) -> None:
        """Metal and roughness in one picture or in two."""
        kinds, maps = self.of.kinds, self.maps
        if _BOTH in maps and _BOTH not in kinds and "roughness" in kinds:
            both = maps.pop(_BOTH)
            for kind, part in _PARTS.items():
                maps.setdefault(kind, self._kept(replace(both, kind=kind), _grey(self._open(both), part), kind))
        elif _BOTH in kinds and "roughness" not in kinds and (maps.keys() & _PARTS.keys()):
            parts = {kind: maps.pop(kind) for kind in _PARTS if kind in maps}
            first = next(iter(parts.values()))
            if len({_reading(t) for t in parts.values()}) > 1:
                lost = parts.pop("metal")
                first = parts["roughness"]
                self.notes.append(
                    f"'{self.look.name}': the metal map '{lost.path}' is read in another way than the roughness and is left out"
                )
            if all((t.path, t.part) == (first.path, _PARTS[kind]) for kind, t in parts.items()):
                maps[_BOTH] = replace(first, kind=_BOTH, part="")
                return
            pictures = {kind: _grey(self._open(t), t.part or "r") for kind, t in parts.items()}
            size = _largest(list(pictures.values()))
            whole = np.ones((*size, 4))
            for kind, picture in pictures.items():
                whole[:, :, "rgb".index(_PARTS[kind])] = _sized(picture, size)[:, :, 0]
            maps[_BOTH] = self._kept(replace(first, kind=_BOTH, part=""), whole, _BOTH)

    def _opacity(self) -> None:
        """What is seen, in the base colour or in a picture of its own."""
        kinds, maps = self.of.kinds, self.maps
        base = maps.get("base colour")
        if "opacity" in maps and "opacity" not in kinds:
            through = maps.pop("opacity")
            if base is not None and _reading(base) != _reading(through):
                self.notes.append(
                    f"'{self.look.name}': the opacity map '{through.path}' is read in another way than the base colour and is left out"
                )
                return
            seen = _grey(self._open(through), through.part or "r")
            colour = np.ones((1, 1, 4)) if base is None else self._open(base)
            size = _largest([colour, seen])
            whole = _sized(colour, size)
            whole[:, :, 3] = _sized(seen, size)[:, :, 0]
            maps["base colour"] = self._kept(replace(base or through, kind="base colour", part=""), whole, "base colour", True)
        elif self.look.alpha != OPAQUE and base is not None and "opacity" in kinds and "opacity" not in maps:
            if self.of.parts:
                maps["opacity"] = replace(base, kind="opacity", part="a")
            else:
                maps["opacity"] = self._kept(replace(base, kind="opacity", part=""), _grey(self._open(base), "a"), "opacity")

    def _single(self) -> None:
        """Pictures of one value whose channel the format cannot choose."""
        for kind in _SINGLE:
            texture = self.maps.get(kind)
            if texture is not None and texture.part not in ("", "r"):
                self.maps[kind] = self._kept(replace(texture, part=""), _grey(self._open(texture), texture.part), kind)

    def _unscale(self) -> None:
        """What pictures are multiplied by goes into the factors, or into the pictures."""
        for kind, t in list(self.maps.items()):
            if t.scale is None and t.bias is None:
                continue
            scale, bias = t.scale or (1.0,) * 4, t.bias or (0.0,) * 4
            plain = replace(t, scale=None, bias=None)
            at = "rgba".index(t.part) if t.part else 0
            if kind not in VECTORS and not any(bias[:3]) and self._factor(kind, scale, at):
                self.maps[kind] = plain
                continue
            if kind == "occlusion" and abs(scale[at] + bias[at] - 1) < 1e-6:
                self.look = replace(self.look, occlusion_strength=scale[at])
                self.maps[kind] = plain
                continue
            values = self._open(t)
            if kind in _COLOURS:
                values[:, :, :3] = to_srgb(
                    to_linear(values[:, :, :3]) * scale[:3] + bias[:3]
                )  # a reader multiplies light, not what is stored
            else:
                values[:, :, :3] = values[:, :, :3] * scale[:3] + bias[:3]
            if kind in VECTORS:
                values[:, :, :3] = values[:, :, :3] * 0.5 + 0.5
            self.maps[kind] = self._kept(plain, values, kind)

    def _factor(self, kind: str, scale: tuple[float, ...], at: int) -> bool:
        """Whether a factor of the material takes what its picture is multiplied by."""
        if kind in ("roughness", "metal", "opacity"):
            if scale[at] > 1:
                return False
            value = {"roughness": self.look.roughness, "metal": self.look.metal, "opacity": self.look.opacity}[kind]
            changed: dict[str, Any] = {kind: (1.0 if value is None else value) * scale[at]}
            self.look = replace(self.look, **changed)
            return True
        name = {"base colour": "colour", "emission": "emission", "specular": "specular"}.get(kind)
        if name is None or (name != "emission" and max(scale[:3]) > 1):
            return False
        factor: Colour = getattr(self.look, name) or (1.0, 1.0, 1.0)
        tinted: dict[str, Any] = {name: (factor[0] * scale[0], factor[1] * scale[1], factor[2] * scale[2])}
        self.look = replace(self.look, **tinted)
        return True

    def _open(self, texture: Texture) -> Picture:
        body = self.model.pictures[texture.path]
        if is_sixteen_bit(body):
            note = f"'{self.look.name}': '{texture.path}' has 16 bits a channel and was made anew with 8."
            self.notes += [] if note in self.notes else [note]
        return _values(body, texture.path)

    def _kept(self, texture: Texture, values: Picture, kind: str, alpha: bool = False) -> Texture:
        """The texture with a picture of its own, among the model's."""
        body = _encoded(values, kind, alpha)
        stem, number = f"{texture.path.rsplit('.', 1)[0]}.{kind.replace(' ', '_')}", 1
        path = f"{stem}.png"
        while self.model.pictures.get(path, body) != body:
            number += 1
            path = f"{stem}.{number}.png"
        self.model.pictures[path] = body
        return replace(texture, path=path)


def _values(body: bytes, name: str) -> Picture:
    picture = open_picture(body, name)
    alpha = alpha_of(picture)
    colours = stored_values(picture).astype(np.float64)
    return np.dstack([colours, np.ones(colours.shape[:2]) if alpha is None else alpha])


def _encoded(values: Picture, kind: str, alpha: bool = False) -> bytes:
    """A PNG of 8 bits: one channel for kinds of one value, four where alpha counts, else three."""
    whole = np.round(np.clip(values, 0, 1) * 255).astype(np.uint8)
    shown = Image.fromarray(whole, "RGBA") if alpha else Image.fromarray(np.ascontiguousarray(whole[:, :, :3]), "RGB")
    if kind in _SINGLE:
        shown = Image.fromarray(np.ascontiguousarray(whole[:, :, 0]), "L")
    body = io.BytesIO()
    shown.save(body, "PNG")
    return body.getvalue()


def _reading(t: Texture) -> tuple[object, ...]:
    """How a picture is read: two that are read alike can be one."""
    return t.channel, t.placed, t.wrap


def _grey(picture: Picture, part: str) -> Picture:
    """One channel as a grey."""
    value = picture[:, :, "rgba".index(part)]
    return np.dstack([value, value, value, np.ones_like(value)])


def _largest(pictures: list[Picture]) -> tuple[int, int]:
    return max(p.shape[0] for p in pictures), max(p.shape[1] for p in pictures)


def _sized(picture: Picture, size: tuple[int, int]) -> Picture:
    """A picture at another size (height, width), each channel by itself."""
    if picture.shape[:2] == size:
        return picture.copy()
    channels = [
        Image.fromarray(picture[:, :, k].astype(np.float32), "F").resize((size[1], size[0]), Image.Resampling.BILINEAR) for k in range(4)
    ]
    return np.dstack([np.asarray(c, np.float64) for c in channels])
