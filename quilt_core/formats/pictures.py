"""The pictures that the materials of a scene name, as bytes, wherever the format keeps them."""

from __future__ import annotations

import io
from collections import ChainMap
from collections.abc import Mapping

from PIL import Image, UnidentifiedImageError

from ..errors import FileError
from ..model.scene import Scene
from .beside import find_resource

MOST_PIXELS = 16384 * 16384
# What a slot holds, by the words of glTF 2.0, of UsdPreviewSurface, and of the MTL and PLY files that are in use (common practice, no source).
# A word that is not here is its own kind ("roughness").
KINDS = {
    "baseColorTexture": "base colour", "diffuseTexture": "base colour", "map_Kd": "base colour", "map_kd": "base colour",
    "normalTexture": "normal", "norm": "normal", "map_Bump": "normal", "map_bump": "normal", "bump": "normal",
    "occlusionTexture": "occlusion", "emissiveTexture": "emission", "map_Ke": "emission", "metallicRoughnessTexture": "metal and roughness",
    "specularGlossinessTexture": "specular", "map_Ks": "specular", "map_Ns": "gloss", "map_d": "opacity", "map_Pr": "roughness",
    "map_Pm": "metal", "disp": "height", "TextureFile": "base colour", "diffuseColor": "base colour", "emissiveColor": "emission",
    "specularColor": "specular", "metallic": "metal", "displacement": "height", "diffuse": "base colour", "transparent": "opacity", "shininess": "gloss",
}  # fmt: skip


def pictures(scene: Scene, resources: Mapping[str, bytes]) -> list[dict[str, bytes]]:
    """For each material, what its slots hold: kind of map (see `KINDS`) to the bytes of the picture file.

    Pictures that are missing are left out: a layout does not depend on them. The first slot of a kind counts.
    """
    out = []
    resources = ChainMap(scene.inside, resources) if scene.inside else resources  # type: ignore[arg-type]
    for material in scene.materials:
        found: dict[str, bytes] = {}
        for slot, path in material.images.items():
            body = _beside(path, resources)
            if body:
                found.setdefault(KINDS.get(slot, slot), body)
        out.append(found)
    return out


def channels(scene: Scene) -> list[dict[str, int]]:
    """For each material, the UV channel that each kind of map reads."""
    return [{KINDS.get(s, s): m.channels.get(s, 0) for s in reversed(list(m.images))} for m in scene.materials]


def _beside(path: str, resources: Mapping[str, bytes]) -> bytes | None:
    found = find_resource(path, resources)
    if found is None:
        # MTL files made elsewhere hold whole paths; the file's own name is what can be looked for.
        name = path.replace("\\", "/").rsplit("/", 1)[-1].lower()
        same = [p for p in resources if p.rsplit("/", 1)[-1].lower() == name]
        found = same[0] if len(same) == 1 else None
    return None if found is None else resources[found]


def open_picture(data: bytes, name: str = "the picture") -> Image.Image:
    """A picture file, decoded.

    Raises
    ------
    FileError : no picture that can be read, or one of more pixels than are taken
    """
    try:
        image = Image.open(io.BytesIO(data))
        if image.width * image.height > MOST_PIXELS:
            raise FileError(name, f"it has {image.width} x {image.height} px, more than is taken", "", "Make it smaller than 16384 px.")
        image.load()
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError, MemoryError) as e:
        raise FileError(name, "this is no picture that can be read here", "", "PNG, JPEG, TIFF, TGA, BMP and WebP are.") from e
    return image
