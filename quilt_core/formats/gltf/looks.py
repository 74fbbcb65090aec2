"""Records of materials as glTF writes them. Standard: Khronos glTF 2.0, KHR_texture_transform, KHR_materials_emissive_strength, KHR_materials_unlit."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ...model.material import BLEND, MASK, Affine, Material, Texture, flipped, parted
from .container import Document
from .materials import WRAPS

PBR = ("baseColorTexture", "metallicRoughnessTexture")
SLOTS = {
    "base colour": "baseColorTexture", "normal": "normalTexture", "occlusion": "occlusionTexture", "emission": "emissiveTexture",
    "metal and roughness": "metallicRoughnessTexture",
}  # fmt: skip
_CODES = {name: code for code, name in WRAPS.items()}
_TRANSFORM = "KHR_texture_transform"


def material_json(
    document: Document, look: Material, number: Callable[[Texture], int | None], channel: Callable[[int], int]
) -> dict[str, Any]:
    """A material of a document.

    Parameters
    ----------
    number : of the glTF texture of a picture, None where the document has none; channel : TEXCOORD of a UV channel
    """
    shading: dict[str, Any] = {"metallicFactor": look.metal if look.metal is not None else 0.0}
    if look.roughness is not None:
        shading["roughnessFactor"] = look.roughness
    if look.colour is not None:
        shading["baseColorFactor"] = [*look.colour, 1.0 if look.opacity is None else look.opacity]
    elif look.opacity is not None and look.opacity < 1:
        shading["baseColorFactor"] = [1.0, 1.0, 1.0, look.opacity]
    out: dict[str, Any] = {"name": look.name, "pbrMetallicRoughness": shading}
    for kind, texture in look.maps.items():
        slot, index = SLOTS.get(kind), number(texture)
        if slot is None or index is None:
            continue
        info: dict[str, Any] = {"index": index}
        if channel(texture.channel):
            info["texCoord"] = channel(texture.channel)
        moved = transform_json(texture.placed)
        if moved:
            info["extensions"] = {_TRANSFORM: moved}
            uses(document, _TRANSFORM)
        (shading if slot in PBR else out)[slot] = info
    _light(document, look, out)
    if look.normal_scale != 1 and "normalTexture" in out:
        out["normalTexture"]["scale"] = look.normal_scale
    if look.occlusion_strength != 1 and "occlusionTexture" in out:
        out["occlusionTexture"]["strength"] = look.occlusion_strength
    if look.alpha in (BLEND, MASK):
        out["alphaMode"] = look.alpha.upper()
        if look.alpha == MASK:
            out["alphaCutoff"] = look.cutoff
    if look.double_sided:
        out["doubleSided"] = True
    if look.extras is not None:
        out["extras"] = look.extras
    return out


def _light(document: Document, look: Material, out: dict[str, Any]) -> None:
    """What shines, and what light does not fall on."""
    emission = look.emission if look.emission is not None else (1.0, 1.0, 1.0) if "emission" in look.maps else (0.0, 0.0, 0.0)
    most = max(emission)
    if most > 1:
        out.setdefault("extensions", {})["KHR_materials_emissive_strength"] = {"emissiveStrength": most}
        uses(document, "KHR_materials_emissive_strength")
        emission = (emission[0] / most, emission[1] / most, emission[2] / most)
    if most > 0:
        out["emissiveFactor"] = list(emission)
    if look.unlit:
        out.setdefault("extensions", {})["KHR_materials_unlit"] = {}
        uses(document, "KHR_materials_unlit")


def uses(document: Document, extension: str) -> None:
    """List an extension among those that the document uses."""
    used = document.json.setdefault("extensionsUsed", [])
    if extension not in used:
        used.append(extension)


def sampler_of(document: Document, wrap: tuple[str, str]) -> int | None:
    """The number of a sampler for pictures that end as `wrap` says; None where they repeat, as they do without one."""
    codes = [_CODES.get(w, 10497) for w in wrap]
    if codes == [10497, 10497]:
        return None
    samplers = document.json.setdefault("samplers", [])
    wanted = {"wrapS": codes[0], "wrapT": codes[1]}
    if wanted not in samplers:
        samplers.append(wanted)
    return int(samplers.index(wanted))


def transform_json(placed: Affine | None) -> dict[str, Any] | None:
    """A placing as offset, rotation and scale; None where there is none, or one that is skewed, which these cannot say."""
    found = None if placed is None else parted(flipped(np.array(placed).reshape(2, 3)))
    if found is None:
        return None
    angle, scale, shift = found
    # With v downward a turn from u to v is the other way round.
    return {"offset": list(shift), "rotation": -angle, "scale": list(scale)}
