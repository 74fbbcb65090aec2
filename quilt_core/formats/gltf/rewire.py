"""glTF: textures of their own for the new pictures, and primitives parted where their triangles have several materials now.

Only what names a picture is changed. Whatever else a material says stays: names, factors, other maps.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from ...model.material import Material, Texture
from ...model.scene import Scene
from ..kinds import kind_of
from ..wiring import NewMaterial, Numbers, Rewired, Wiring
from . import accessors, tangents
from .container import Document, parse, serialise
from .looks import PBR, SLOTS, material_json
from .materials import textures_of, uv_transform
from .prune import materials_used, prune, prune_materials, textures_read
from .read import PrimitiveRows, triangles_of


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`. A GLB takes the pictures in."""
    document = parse(written[""], scene.file, {**beside, **written})
    textures, read, used = _Textures(document, wiring), textures_read(document), materials_used(document)
    numbers = [_material(document, scene, m, textures) for m in wiring.materials]
    order = {}
    for mesh, labels in wiring.of_triangle.items():
        order[mesh] = _part(document, scene, mesh, labels, numbers, wiring)
    prune_materials(document, used)
    dropped = prune(document, read)
    return Rewired({**written, **serialise(document), **textures.beside}, order, dropped)


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
    if new.like < 0:
        shown = {kind: Texture(kind, path, textures.wiring.channel) for kind, path in new.maps.items()}
        record = replace(new.record or Material(""), name=new.name, textures=shown)
        materials.append(material_json(document, record, lambda t: textures.get(t.path), lambda channel: channel))
        return len(materials) - 1
    if new.name == scene.materials[new.like].name:
        number = new.like
    else:
        number = len(materials)
        materials.append({**copy.deepcopy(materials[new.like]), "name": new.name})
    done = set()
    for slot, info in textures_of(materials[number]):
        path = new.maps.get(kind_of(slot))
        if path is not None:
            _show(info, textures.get(path), textures.wiring.channel)
            done.add(kind_of(slot))
    for kind in new.maps.keys() & SLOTS.keys() - done:
        place = materials[number].setdefault("pbrMetallicRoughness", {}) if SLOTS[kind] in PBR else materials[number]
        _show(place.setdefault(SLOTS[kind], {}), textures.get(new.maps[kind]), textures.wiring.channel)
    return number


def _show(info: dict[str, Any], number: int, channel: int) -> None:
    """Let a texture info show another texture, as it lies."""
    info["index"] = number
    info.pop("texCoord", None)
    if channel:
        info["texCoord"] = channel
    extensions = info.get("extensions", {})
    extensions.pop("KHR_texture_transform", None)
    if not extensions:
        info.pop("extensions", None)


def _part(document: Document, scene: Scene, mesh: int, labels: Numbers, numbers: list[int], wiring: Wiring) -> Numbers:
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
                one["mode"], one["indices"] = 4, accessors.append_indices(document, triangles[mine == label])
            if label >= 0:
                _lay(document, scene, mesh, own[p], one, triangles[mine == label], wiring, label)
                one["material"] = numbers[label]
            out.append(one)
            order.append(first + np.flatnonzero(mine == label))
        if not len(found):
            out.append(primitive)
        first += len(triangles)
    document.item("meshes", index, "mesh")["primitives"] = out
    return np.concatenate(order) if order else np.zeros(0, np.int64)


def _lay(
    document: Document,
    scene: Scene,
    mesh: int,
    part: PrimitiveRows,
    primitive: dict[str, Any],
    triangles: Numbers,
    wiring: Wiring,
    label: int,
) -> None:
    """The UVs of a primitive as the new pictures are read, without what its old material did to them; and its tangents along with them."""
    source: Document = scene.key
    given = source.item("meshes", scene.meshes[mesh].key[0], "mesh")["primitives"][part.primitive]
    name, attributes = f"TEXCOORD_{wiring.channel}", primitive["attributes"]
    if name not in attributes:
        return
    matrix = None if wiring.plain else uv_transform(source, given, wiring.channel)
    uv = accessors.floats(document, attributes[name], 2, name)
    if matrix is not None:
        uv = uv @ matrix[:, :2].T + matrix[:, 2]
        attributes[name] = accessors.append(document, uv, "VEC2")
    channel = tangents.tangent_channel(source, given)
    old = scene.meshes[mesh].channels.get(channel)
    if "TANGENT" in given["attributes"] and "normal" in wiring.materials[label].maps and old is not None:
        rows = old.uvs[part.first : part.first + part.count]
        frame = tangents.raw(rows, uv_transform(source, given, channel))
        tangents.follow(document, primitive, given["attributes"], frame, np.column_stack([uv[:, 0], 1.0 - uv[:, 1]]), triangles)
