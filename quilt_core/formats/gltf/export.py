"""GLB: nodes by path, meshes shared by their objects, a primitive for each material, pictures inside. Standard: Khronos glTF 2.0."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...model.material import Texture
from ..model import Corners, Model, distinct
from . import accessors
from .container import Document, serialise
from .looks import material_json, sampler_of


def export(model: Model, name: str, ending: str) -> dict[str, bytes]:
    """See `formats.export`."""
    root: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": "Untold Quilt"},
        "scene": 0,
        "scenes": [{"name": name, "nodes": []}],
        "nodes": [],
    }
    document = Document(f"{name}.glb", root, [], [], True)
    channels = model.channels
    if model.looks:
        # A material with a picture needs UVs wherever it is used; without any nothing could show it.
        textures = _Textures(document, model.pictures if channels else {})

        def number(channel: int) -> int:
            return channels.index(channel) if channel in channels else 0

        root["materials"] = [material_json(document, look, textures.number, number) for look in model.looks]
    root["meshes"] = [_mesh(document, label, positions, corners, model.channels_of(corners)) for label, positions, corners in model.meshes]
    for mesh, extras in model.extras.items():
        root["meshes"][mesh]["extras"] = extras
    _nodes(root, model)
    return {f"{name}.glb": serialise(document)[""]}


class _Textures:
    """The textures of the pictures that materials ask for; WebP and others that glTF does not hold are left out."""

    def __init__(self, document: Document, pictures: Mapping[str, bytes]) -> None:
        self.document, self.pictures = document, pictures
        self.images: dict[str, int] = {}

    def number(self, texture: Texture) -> int | None:
        """The number of a texture, made when it is first asked for."""
        image = self._image(texture.path)
        if image is None:
            return None
        entry: dict[str, Any] = {"source": image}
        sampler = sampler_of(self.document, texture.wrap)
        if sampler is not None:
            entry["sampler"] = sampler
        textures = self.document.json.setdefault("textures", [])
        if entry not in textures:
            textures.append(entry)
        return int(textures.index(entry))

    def _image(self, path: str) -> int | None:
        if path not in self.images:
            body = self.pictures.get(path, b"")
            mime = "image/png" if body.startswith(b"\x89PNG") else "image/jpeg" if body.startswith(b"\xff\xd8") else ""
            if not mime:
                return None
            images = self.document.json.setdefault("images", [])
            name = path.rsplit("/", 1)[-1].rsplit(".", 1)[0]
            images.append({"name": name, "mimeType": mime, "bufferView": self.document.append(body)})
            self.images[path] = len(images) - 1
        return self.images[path]


def _mesh(document: Document, label: str, positions: np.ndarray, corners: Corners, channels: list[int]) -> dict[str, Any]:
    """A mesh; UV channels follow each other without gaps, as the specification wants them."""
    uvs = [np.nan_to_num(corners.uvs.get(c, np.zeros((len(corners.position), 2)))) for c in channels]
    primitives = []
    looks = corners.look[corners.face_of]
    for look in np.unique(looks):
        use = corners.triangles[looks == look].reshape(-1)
        more = [v[use] for v in (corners.normal, corners.colour) if v is not None]
        at, row = distinct(corners.position[use], *(uv[use] for uv in uvs), *more)
        rows = use[at]
        attributes = {"POSITION": accessors.append(document, positions[corners.position[rows]], "VEC3", True)}
        if corners.normal is not None:
            normal = corners.normal[rows]
            length = np.linalg.norm(normal, axis=1, keepdims=True)
            normal = np.where(length > 1e-12, normal / np.maximum(length, 1e-30), [0.0, 0.0, 1.0])
            attributes["NORMAL"] = accessors.append(document, normal, "VEC3")
        if corners.colour is not None:
            attributes["COLOR_0"] = accessors.append(document, np.clip(corners.colour[rows], 0, 1), "VEC4")
        for n, uv in enumerate(uvs):
            attributes[f"TEXCOORD_{n}"] = accessors.append(document, np.column_stack([uv[rows, 0], 1.0 - uv[rows, 1]]), "VEC2")
        numbers = accessors.append_indices(document, row)
        primitives.append({"attributes": attributes, "indices": numbers} | ({"material": int(look)} if look >= 0 else {}))
    return {"name": label, "primitives": primitives}


def _nodes(root: dict[str, Any], model: Model) -> None:
    """The hierarchy, and the meshes at their nodes."""
    meshes = {item.node: item.mesh for item in model.items}
    for n, (node, local) in enumerate(zip(model.nodes, model.locals, strict=True)):
        entry: dict[str, Any] = {"name": node.name}
        if n in meshes:
            entry["mesh"] = meshes[n]
        if not np.allclose(local, np.eye(4), atol=0):
            entry["matrix"] = local.T.reshape(-1).tolist()
        if node.extras is not None:
            entry["extras"] = node.extras
        root["nodes"].append(entry)
        above = root["scenes"][0]["nodes"] if node.parent < 0 else root["nodes"][node.parent].setdefault("children", [])
        above.append(n)
