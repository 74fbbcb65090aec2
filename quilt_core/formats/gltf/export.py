"""GLB: nodes by path, meshes shared by their objects, a primitive for each material, pictures inside. Standard: Khronos glTF 2.0."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..model import Corners, Look, Model, distinct
from .container import Document, serialise
from .rewire import PBR, SLOTS

_FLOAT, _UINT, _VERTICES, _INDICES = 5126, 5125, 34962, 34963


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
        textures = _textures(document, model) if channels else {}
        root["materials"] = [_material(look, textures, channels) for look in model.looks]
    root["meshes"] = [_mesh(document, label, positions, corners, channels) for label, positions, corners in model.meshes]
    _nodes(root, model)
    return {f"{name}.glb": serialise(document)[""]}


def _textures(document: Document, model: Model) -> dict[str, int]:
    """Number of the texture of every picture; WebP and others that glTF does not hold are left out."""
    out: dict[str, int] = {}
    for path, body in model.shown.items():
        mime = "image/png" if body.startswith(b"\x89PNG") else "image/jpeg" if body.startswith(b"\xff\xd8") else ""
        if not mime:
            continue
        images, textures = document.json.setdefault("images", []), document.json.setdefault("textures", [])
        images.append({"name": path.rsplit("/", 1)[-1].rsplit(".", 1)[0], "mimeType": mime, "bufferView": document.append(body)})
        textures.append({"source": len(images) - 1})
        out[path] = len(textures) - 1
    return out


def _material(look: Look, textures: dict[str, int], channels: list[int]) -> dict[str, Any]:
    shading: dict[str, Any] = {} if "metal and roughness" in look.maps else {"metallicFactor": 0.0}
    if look.colour is not None:
        shading["baseColorFactor"] = [*(float(x) for x in look.colour), 1.0]
    out: dict[str, Any] = {"name": look.name, "pbrMetallicRoughness": shading}
    for kind, path in look.maps.items():
        slot = SLOTS.get(kind)
        if slot is None or path not in textures:
            continue
        number = channels.index(look.reads.get(kind, 0)) if look.reads.get(kind, 0) in channels else 0
        (shading if slot in PBR else out)[slot] = {"index": textures[path]} | ({"texCoord": number} if number else {})
        if kind == "emission":
            out["emissiveFactor"] = [1.0, 1.0, 1.0]
    return out


def _mesh(document: Document, label: str, positions: np.ndarray, corners: Corners, channels: list[int]) -> dict[str, Any]:
    """A mesh; UV channels follow each other without gaps, as the specification wants them."""
    uvs = [np.nan_to_num(corners.uvs.get(c, np.zeros((len(corners.position), 2)))) for c in channels]
    primitives = []
    looks = corners.look[corners.face_of]
    for look in np.unique(looks):
        use = corners.triangles[looks == look].reshape(-1)
        at, row = distinct(corners.position[use], *(uv[use] for uv in uvs), None if corners.normal is None else corners.normal[use])
        rows = use[at]
        attributes = {"POSITION": _accessor(document, positions[corners.position[rows]], "VEC3", True)}
        if corners.normal is not None:
            normal = corners.normal[rows]
            length = np.linalg.norm(normal, axis=1, keepdims=True)
            normal = np.where(length > 1e-12, normal / np.maximum(length, 1e-30), [0.0, 0.0, 1.0])
            attributes["NORMAL"] = _accessor(document, normal, "VEC3")
        for n, uv in enumerate(uvs):
            attributes[f"TEXCOORD_{n}"] = _accessor(document, np.column_stack([uv[rows, 0], 1.0 - uv[rows, 1]]), "VEC2")
        view = document.append(row.astype("<u4").tobytes(), _INDICES)
        entries = document.json["accessors"]
        entries.append({"bufferView": view, "componentType": _UINT, "count": len(row), "type": "SCALAR"})
        primitives.append({"attributes": attributes, "indices": len(entries) - 1} | ({"material": int(look)} if look >= 0 else {}))
    return {"name": label, "primitives": primitives}


def _accessor(document: Document, values: np.ndarray, shape: str, limits: bool = False) -> int:
    """Number of an accessor for rows of floats."""
    data = np.ascontiguousarray(values, "<f4")
    entry = {"bufferView": document.append(data.tobytes(), _VERTICES), "componentType": _FLOAT, "count": len(data), "type": shape}
    if limits:
        entry |= {"min": data.min(axis=0).tolist(), "max": data.max(axis=0).tolist()}
    entries = document.json.setdefault("accessors", [])
    entries.append(entry)
    return len(entries) - 1


def _nodes(root: dict[str, Any], model: Model) -> None:
    """Nodes by the paths of the objects; groups stand at the origin, and each object where it is in the world."""
    groups: dict[str, int] = {}

    def group(path: str) -> list[int]:
        """The children of a group."""
        if not path:
            return root["scenes"][0]["nodes"]  # type: ignore[no-any-return]
        if path not in groups:
            above, _, own = path.rpartition("/")
            place = group(above)
            groups[path] = len(root["nodes"])
            root["nodes"].append({"name": own, "children": []})
            place.append(groups[path])
        return root["nodes"][groups[path]].setdefault("children", [])  # type: ignore[no-any-return]

    for item in model.items:
        node: dict[str, Any] = {"name": item.name, "mesh": item.mesh}
        if not np.allclose(item.world, np.eye(4), atol=0):
            node["matrix"] = item.world.T.reshape(-1).tolist()
        place = group(item.path.rpartition("/")[0])
        root["nodes"].append(node)
        place.append(len(root["nodes"]) - 1)
