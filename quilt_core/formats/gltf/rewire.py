"""glTF: textures of their own for the new pictures, and primitives parted where their triangles have several materials now.

Only what names a picture is changed. Whatever else a material says stays: names, factors, other maps.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from typing import Any

import numpy as np

from ...model.scene import Scene
from ..wiring import NewMaterial, Numbers, Rewired, Wiring
from .container import Document, parse, serialise
from .read import triangles_of

PBR = ("baseColorTexture", "metallicRoughnessTexture")
SLOTS = {
    "base colour": "baseColorTexture", "normal": "normalTexture", "occlusion": "occlusionTexture", "emission": "emissiveTexture",
    "metal and roughness": "metallicRoughnessTexture",
}  # fmt: skip
_INDEX_BUFFER, _UINT = 34963, 5125


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`. A GLB takes the pictures in."""
    document = parse(written[""], scene.file, {**beside, **written})
    textures = _Textures(document, wiring)
    numbers = [_material(document, scene, m, textures) for m in wiring.materials]
    order = {}
    for mesh, labels in wiring.of_triangle.items():
        order[mesh] = _part(document, scene, mesh, labels, numbers)
    return Rewired({**written, **serialise(document), **textures.beside}, order)


class _Textures:
    """Textures of a document for new pictures, each made once."""

    def __init__(self, document: Document, wiring: Wiring) -> None:
        self.document, self.wiring = document, wiring
        self.number: dict[str, int] = {}
        self.beside: dict[str, bytes] = {}

    def get(self, path: str) -> int:
        """Number of the texture of a picture."""
        if path not in self.number:
            root = self.document.json
            images, textures = root.setdefault("images", []), root.setdefault("textures", [])
            images.append(self._image(path, self.wiring.pictures[path]))
            textures.append({"source": len(images) - 1})
            self.number[path] = len(textures) - 1
        return self.number[path]

    def _image(self, path: str, body: bytes) -> dict[str, Any]:
        name = path.rsplit("/", 1)[-1].rsplit(".", 1)[0]
        if not self.document.glb:
            self.beside[path] = body
            return {"name": name, "uri": path}
        return {"name": name, "mimeType": "image/png", "bufferView": self.document.append(body)}


def _material(document: Document, scene: Scene, new: NewMaterial, textures: _Textures) -> int:
    """Number of a new material; an old one that keeps its name is changed where it stands."""
    materials = document.json.setdefault("materials", [])
    if new.like >= 0 and new.name == scene.materials[new.like].name:
        number = new.like
    else:
        number = len(materials)
        plain = {"pbrMetallicRoughness": {} if "metal and roughness" in new.maps else {"metallicFactor": 0.0}}
        materials.append({**(copy.deepcopy(materials[new.like]) if new.like >= 0 else plain), "name": new.name})
    material = materials[number]
    for kind, path in new.maps.items():
        slot = SLOTS.get(kind)
        if slot is None:
            continue
        place = material.setdefault("pbrMetallicRoughness", {}) if slot in PBR else material
        info = place.setdefault(slot, {})
        info["index"] = textures.get(path)
        info.pop("texCoord", None)
        if textures.wiring.channel:
            info["texCoord"] = textures.wiring.channel
        if new.like < 0 and kind == "emission":
            material["emissiveFactor"] = [1.0, 1.0, 1.0]
        extensions = info.get("extensions", {})
        extensions.pop("KHR_texture_transform", None)
        if not extensions:
            info.pop("extensions", None)
    return number


def _part(document: Document, scene: Scene, mesh: int, labels: Numbers, numbers: list[int]) -> Numbers:
    """Give every primitive of a mesh its material, parted by label where there are several; returns the old number of each triangle."""
    index, parts = scene.meshes[mesh].key
    primitives = document.item("meshes", index, "mesh")["primitives"]
    out, order, first = [], [], 0
    own = {part.primitive: part for part in parts}
    for p, primitive in enumerate(primitives):
        if p not in own:
            out.append(primitive)
            continue
        triangles = triangles_of(document, primitive, own[p].count, f"primitive {p}")
        mine = labels[first : first + len(triangles)]
        found = np.unique(mine)
        for label in found:
            one = primitive if len(found) == 1 else copy.deepcopy(primitive)
            if len(found) > 1:
                one["mode"], one["indices"] = 4, _indices(document, triangles[mine == label])
            if label >= 0:
                one["material"] = numbers[label]
            out.append(one)
            order.append(first + np.flatnonzero(mine == label))
        if not len(found):
            out.append(primitive)
        first += len(triangles)
    document.item("meshes", index, "mesh")["primitives"] = out
    return np.concatenate(order) if order else np.zeros(0, np.int64)


def _indices(document: Document, triangles: Numbers) -> int:
    """Number of an accessor of its own for some triangles."""
    view = document.append(np.ascontiguousarray(triangles, "<u4").tobytes(), _INDEX_BUFFER)
    entries = document.json.setdefault("accessors", [])
    entries.append({"bufferView": view, "componentType": _UINT, "count": int(triangles.size), "type": "SCALAR"})
    return len(entries) - 1
