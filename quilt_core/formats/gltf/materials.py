"""Materials of a glTF document as records, and what their pictures do to the UVs that they are read by. Standard: Khronos glTF 2.0, KHR_texture_transform."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ...model.material import BLEND, MASK, OPAQUE, Affine, Material, Texture, affine_of, flipped
from ...model.scene import Floats
from ..kinds import kind_of
from .container import Document
from .images import path_of

WRAPS = {10497: "repeat", 33071: "clamp", 33648: "mirror"}
_FIRST = ("baseColorTexture", "diffuseTexture", "normalTexture", "occlusionTexture", "emissiveTexture", "metallicRoughnessTexture",
          "specularGlossinessTexture")  # fmt: skip
_MODES = {"BLEND": BLEND, "MASK": MASK}
_SAID = ("KHR_materials_unlit", "KHR_materials_emissive_strength")  # extensions that the record holds
_WHOLE = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])


def materials_of(document: Document) -> list[Material]:
    """All materials of a document. What is not as the specification has it counts as its usual value."""
    return [_material(document, m, i) for i, m in enumerate(document.list("materials"))]


def _material(document: Document, m: dict[str, Any], number: int) -> Material:
    shading, extensions = m.get("pbrMetallicRoughness") or {}, m.get("extensions") or {}
    factor = _numbers(shading.get("baseColorFactor"), (1.0, 1.0, 1.0, 1.0))
    shine = _number((extensions.get("KHR_materials_emissive_strength") or {}).get("emissiveStrength"), 1.0)
    red, green, blue = (x * shine for x in _numbers(m.get("emissiveFactor"), (0.0, 0.0, 0.0)))
    return Material(
        str(m.get("name") or f"material {number}"),
        _read(document, m, number),
        (factor[0], factor[1], factor[2]),
        factor[3],
        _number(shading.get("metallicFactor"), 1.0),
        _number(shading.get("roughnessFactor"), 1.0),
        (red, green, blue),
        normal_scale=_number((m.get("normalTexture") or {}).get("scale"), 1.0),
        occlusion_strength=_number((m.get("occlusionTexture") or {}).get("strength"), 1.0),
        alpha=_MODES.get(m.get("alphaMode", "OPAQUE"), OPAQUE),
        cutoff=_number(m.get("alphaCutoff"), 0.5),
        double_sided=m.get("doubleSided") is True,
        unlit="KHR_materials_unlit" in extensions,
        extras=m.get("extras"),
        further=tuple(sorted(str(x) for x in extensions if x not in _SAID)),
    )


def _number(value: Any, usual: float) -> float:
    good = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
    return float(value) if good else usual


def _numbers(value: Any, usual: tuple[float, ...]) -> tuple[float, ...]:
    same = isinstance(value, list) and len(value) == len(usual)
    return tuple(_number(v, u) for v, u in zip(value if same else usual, usual, strict=True))


def _read(document: Document, material: dict[str, Any], number: int) -> dict[str, Texture]:
    """Its pictures by slot."""
    out = {}
    for slot, info in textures_of(material):
        texture = document.item("textures", info.get("index"), f"material {number}")
        source = _source(texture)
        if source is None or slot in out:
            continue
        channel = channel_of(info)
        first = first_transform(material, channel)
        own = _matrix(info)
        # The UVs of the scene have the first transform of their channel in them already.
        placed = _after(_WHOLE if own is None else own, first)
        frame = None if first is None else _after(_WHOLE, first)
        out[slot] = Texture(kind_of(slot), path_of(document, source), channel, placed, frame, _wrap(document, texture))
    return out


def _source(texture: dict[str, Any]) -> int | None:
    """The image of a texture; a WebP stands in an extension."""
    places = [texture, (texture.get("extensions") or {}).get("EXT_texture_webp") or {}]
    return next((p["source"] for p in places if isinstance(p.get("source"), int)), None)


def _wrap(document: Document, texture: dict[str, Any]) -> tuple[str, str]:
    if not isinstance(texture.get("sampler"), int):
        return "repeat", "repeat"
    sampler = document.item("samplers", texture["sampler"], "texture")
    return WRAPS.get(sampler.get("wrapS", 10497), "repeat"), WRAPS.get(sampler.get("wrapT", 10497), "repeat")


def _after(own: Floats, first: Floats | None) -> Affine | None:
    """What is left of a transform (2, 3) once the first one is undone, for UVs whose v counts upward."""
    if first is not None:
        back = np.linalg.inv(first[:, :2])
        turn = own[:, :2] @ back
        own = np.column_stack([turn, own[:, 2] - turn @ first[:, 2]])
    return affine_of(flipped(own))


def textures_of(material: dict[str, Any]) -> list[tuple[str, dict[str, Any]]]:
    """Texture infos of a material by slot, the base colour first, those of extensions last."""
    places = [material.get("pbrMetallicRoughness") or {}, material]
    extensions = material.get("extensions") or {}
    places.append(extensions.get("KHR_materials_pbrSpecularGlossiness") or {})
    first = [(s, p[s]) for s in _FIRST for p in places if isinstance(p.get(s), dict)]
    more = [(slot, info) for slot, info in _named_infos(extensions) if slot not in _FIRST]
    return first + more


def _named_infos(value: Any) -> list[tuple[str, dict[str, Any]]]:
    if not isinstance(value, dict):
        return []
    own = [(k, v) for k, v in value.items() if k.endswith("Texture") and isinstance(v, dict) and "index" in v]
    return own + [found for v in value.values() for found in _named_infos(v)]


def texture_infos(material: dict[str, Any]) -> list[dict[str, Any]]:
    """All texture infos of a material, those of extensions too: objects with an `index`, under a name that ends in Texture."""
    return [info for _, info in _named_infos(material)]


def channel_of(info: dict[str, Any]) -> int:
    """The TEXCOORD that a texture info reads."""
    moved = (info.get("extensions") or {}).get("KHR_texture_transform")
    channel = (moved if isinstance(moved, dict) else {}).get("texCoord", info.get("texCoord", 0))
    return channel if isinstance(channel, int) else 0


def _matrix(info: dict[str, Any]) -> Floats | None:
    """The transform (2, 3) of a texture info, in glTF's own UV space; None for none or one that is not finite.

    Source: KHR_texture_transform (translation x rotation x scale); its turning direction as in the Khronos sample renderer (from memory).
    """
    t = (info.get("extensions") or {}).get("KHR_texture_transform")
    if not isinstance(t, dict):
        return None
    (sx, sy), (ox, oy) = t.get("scale", (1, 1)), t.get("offset", (0, 0))
    c, s = math.cos(t.get("rotation", 0.0)), math.sin(t.get("rotation", 0.0))
    matrix = np.array([[c * sx, s * sy, ox], [-s * sx, c * sy, oy]], float)
    return matrix if np.isfinite(matrix).all() else None


def first_transform(material: dict[str, Any], channel: int) -> Floats | None:
    """The (2, 3) matrix that the first picture of a channel applies to its UVs, in glTF's own UV space; None for none or one that cannot be undone."""
    for _, info in textures_of(material):
        if channel_of(info) == channel:
            matrix = _matrix(info)
            return None if matrix is None or abs(np.linalg.det(matrix[:, :2])) < 1e-12 else matrix
    return None


def uv_transform(document: Document, primitive: dict[str, Any], channel: int) -> Floats | None:
    """The matrix that the UVs of a primitive's channel are read with here, see `first_transform`."""
    if "material" not in primitive:
        return None
    return first_transform(document.item("materials", primitive["material"], "primitive"), channel)
