"""Parts as a GLB with two UV channels: the first tiles a texture over the world, the second is an unwrapped layout."""

from __future__ import annotations

import json
import struct

import numpy as np

from .shapes import Part


def two_channels(parts: list[Part], tiling_per_metre: float, picture: bytes) -> bytes:
    """The file of some parts. Channel 0 is projected along z or x by each face's side, so that it tiles; channel 1 is the parts' own."""
    binary = bytearray()
    views: list[dict[str, object]] = []
    accessors: list[dict[str, object]] = []

    def add(values: np.ndarray, kind: str, **more: object) -> int:
        views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": values.nbytes})
        component = 5126 if values.dtype == np.float32 else 5125
        accessors.append({"bufferView": len(views) - 1, "componentType": component, "count": len(values), "type": kind, **more})
        binary.extend(values.tobytes())
        return len(accessors) - 1

    meshes, nodes = [], []
    for part in parts:
        position, tiling, layout, index = _arrays(part, tiling_per_metre)
        box = {"min": position.min(axis=0).tolist(), "max": position.max(axis=0).tolist()}
        attributes = {"POSITION": add(position, "VEC3", **box), "TEXCOORD_0": add(tiling, "VEC2"), "TEXCOORD_1": add(layout, "VEC2")}
        primitive = {"attributes": attributes, "indices": add(index, "SCALAR"), "material": 0}
        meshes.append({"name": part.name, "primitives": [primitive]})
        nodes.append({"name": part.name, "mesh": len(meshes) - 1})
    views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": len(picture)})
    binary.extend(picture + b"\0" * (-len(picture) % 4))
    texture = {"baseColorTexture": {"index": 0}, "metallicFactor": 0}
    document = {
        "asset": {"version": "2.0", "generator": "the demo generator of Untold Quilt"},
        "scene": 0, "scenes": [{"nodes": list(range(len(nodes)))}], "nodes": nodes, "meshes": meshes,
        "materials": [{"name": "iron", "pbrMetallicRoughness": texture}], "textures": [{"source": 0}],
        "images": [{"name": "iron", "mimeType": "image/png", "bufferView": len(views) - 1}],
        "accessors": accessors, "bufferViews": views, "buffers": [{"byteLength": len(binary)}],
    }  # fmt: skip
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<III", 0x46546C67, 2, 12 + 8 + len(text) + 8 + len(binary))
    return head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(binary), 0x004E4942) + bytes(binary)


def _arrays(part: Part, per_metre: float) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Positions, UVs that tile, UVs of the unwrapped islands (v downward, as glTF has it), triangle corners."""
    position: list[tuple[float, float, float]] = []
    tiling: list[tuple[float, float]] = []
    layout: list[tuple[float, float]] = []
    index: list[int] = []
    for face in part.faces:
        corners = np.array([p for p, _ in face])
        normal = np.abs(np.cross(corners[1] - corners[0], corners[2] - corners[0]))
        u, v = ((2, 1), (0, 2), (0, 1))[int(np.argmax(normal))]
        first = len(position)
        for p, uv in face:
            position.append(p)
            tiling.append((p[u] * per_metre, 1 - p[v] * per_metre))
            layout.append((0.0, 1.0) if uv is None else (uv[0], 1 - uv[1]))
        for k in range(1, len(face) - 1):
            index += [first, first + k, first + k + 1]
    return np.array(position, "<f4"), np.array(tiling, "<f4"), np.array(layout, "<f4"), np.array(index, "<u4")
