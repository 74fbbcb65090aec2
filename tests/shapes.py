"""Small meshes for the tests, with figures that arithmetic gives."""

from __future__ import annotations

import base64
import json
import struct

import numpy as np

from quilt_core.formats.wiring import OneEach
from quilt_core.model.scene import Scene

PLANE = b"""# a plane of one metre
o plane
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
f 1/1 2/2 3/3 4/4
"""


def net(n: int) -> tuple[np.ndarray, np.ndarray]:
    """A unit square of n by n quads: its points ((n + 1)^2, 2), row by row, and two triangles for each quad (2 n^2, 3), wound counter-clockwise."""
    x, y = (a.reshape(-1) for a in np.meshgrid(np.linspace(0, 1, n + 1), np.linspace(0, 1, n + 1)))
    a = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).reshape(-1)
    return np.column_stack([x, y]), np.concatenate([np.column_stack([a, a + 1, a + n + 2]), np.column_stack([a, a + n + 2, a + n + 1])])


def grid_obj(count: int, size: float = 1.0, uv: float = 0.01) -> bytes:
    """`count` loose squares of `size` metres, each an island of its own; all lie on one another in UV."""
    lines = ["o squares"]
    for k in range(count):
        x = 2 * size * k
        lines += [f"v {x} 0 0", f"v {x + size} 0 0", f"v {x + size} {size} 0", f"v {x} {size} 0"]
        lines += ["vt 0 0", f"vt {uv} 0", f"vt {uv} {uv}", f"vt 0 {uv}"]
        lines.append("f " + " ".join(f"{4 * k + c}/{4 * k + c}" for c in (1, 2, 3, 4)))
    return "\n".join(lines).encode() + b"\n"


def gltf_plane(nodes: list[dict], uv_type: str = "float", **changes: object) -> bytes:
    """A glTF of the 1 m plane (its UVs fill the tile) placed by `nodes`; `uv_type` float, ubyte or ushort."""
    position = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], "<f4")
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]])  # v downward
    kinds = {"float": ("<f4", 5126, 1), "ubyte": ("u1", 5121, 255), "ushort": ("<u2", 5123, 65535)}
    dtype, component, top = kinds[uv_type]
    uv_rows = np.zeros((4, 4 if uv_type == "ubyte" else 2), dtype)  # ubyte pairs are padded to 4 bytes
    uv_rows[:, :2] = uv * top
    index = np.array([0, 1, 2, 0, 2, 3], "<u2")
    parts = [position.tobytes(), uv_rows.tobytes(), index.tobytes()]
    data = b"".join(parts)
    starts = np.cumsum([0] + [len(p) for p in parts]).tolist()
    uv_view = {"buffer": 0, "byteOffset": starts[1], "byteLength": len(parts[1])}
    if uv_type == "ubyte":
        uv_view["byteStride"] = 4
    document = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [i for i in range(len(nodes)) if not any(i in n.get("children", []) for n in nodes)]}],
        "nodes": nodes,
        "meshes": [{"name": "plane", "primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 1}, "indices": 2}]}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0]},
            {
                "bufferView": 1,
                "componentType": component,
                "count": 4,
                "type": "VEC2",
                **({} if uv_type == "float" else {"normalized": True}),
            },
            {"bufferView": 2, "componentType": 5123, "count": 6, "type": "SCALAR"},
        ],
        "bufferViews": [
            {"buffer": 0, "byteOffset": 0, "byteLength": len(parts[0])},
            uv_view,
            {"buffer": 0, "byteOffset": starts[2], "byteLength": len(parts[2])},
        ],
        "buffers": [{"byteLength": len(data), "uri": "data:application/octet-stream;base64," + base64.b64encode(data).decode()}],
        **changes,
    }
    return json.dumps(document).encode()


def glb(document: dict, binary: bytes) -> bytes:
    """A GLB of a document and its buffer."""
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    total = 12 + 8 + len(text) + 8 + len(binary)
    head = struct.pack("<III", 0x46546C67, 2, total)
    return head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(binary), 0x004E4942) + binary


_FACES = ((0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3))


def kit() -> bytes:
    """Four things: a sheet that is good, one that is mirrored, one whose middle is folded over, and a box without UVs."""
    lines: list[str] = []
    v = vt = 0
    for name, shift in (("good", 0), ("mirrored", 3), ("folded", 6)):
        lines.append(f"o {name}")
        for y in range(3):
            for x in range(3):
                u = x / 10 if name != "mirrored" else 0.2 - x / 10
                if name == "folded" and (x, y) == (1, 1):
                    u = 0.35
                lines += [f"v {x + shift} {y} 0", f"vt {u} {y / 10}"]
        for y in range(2):
            for x in range(2):
                a = y * 3 + x
                lines.append("f " + " ".join(f"{v + k + 1}/{vt + k + 1}" for k in (a, a + 1, a + 4, a + 3)))
        v, vt = v + 9, vt + 9
    lines += ["o bare", *(f"v {x + 9} {y} {z}" for x in (0, 1) for y in (0, 1) for z in (0, 1))]
    lines += ["f " + " ".join(str(v + k + 1) for k in q) for q in _FACES]
    return "\n".join(lines).encode() + b"\n"


def one_material(scene: Scene) -> OneEach:
    """One material for all, whatever the old ones are."""
    return OneEach([0] * len(scene.materials), 0, {}, lambda name, _: name)
