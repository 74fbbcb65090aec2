"""Meshes compressed with Draco, laid open: the document then reads as if it had never been compressed, and is written so.

Standard: Khronos' KHR_draco_mesh_compression. Decoding is the work of the DracoPy package.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from .container import Document

NAME = "KHR_draco_mesh_compression"
_ARRAY, _INDICES, _UINT = 34962, 34963, 5125
_TYPES: dict[int, str] = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_MOST = 50_000_000  # vertices of all primitives: a guard against a bomb


def lay_open(document: Document) -> bool:
    """Decode every compressed primitive into accessors of its own; returns whether there was one.

    Raises
    ------
    FileError : data that cannot be decoded, or does not fit its accessors
    """
    found = False
    for index, mesh in enumerate(document.list("meshes")):
        for number, primitive in enumerate(mesh.get("primitives", [])):
            extension = (primitive.get("extensions") or {}).get(NAME)
            if isinstance(extension, dict):
                found = True
                _decode(document, primitive, extension, f"mesh {index}, primitive {number}")
                del primitive["extensions"][NAME]
                if not primitive["extensions"]:
                    del primitive["extensions"]
    for key in ("extensionsRequired", "extensionsUsed"):
        names = [n for n in document.json.get(key, []) if n != NAME]
        if names:
            document.json[key] = names
        else:
            document.json.pop(key, None)
    return found


def _decode(document: Document, primitive: dict[str, Any], extension: dict[str, Any], where: str) -> None:
    import DracoPy

    view = document.item("bufferViews", extension.get("bufferView"), where)
    buffer, start, length = view.get("buffer", -1), view.get("byteOffset", 0), view.get("byteLength", 0)
    document.item("buffers", buffer, where)
    body = bytes(document.buffers[buffer][start : start + length])
    try:
        mesh = DracoPy.decode(body)
        faces = np.ascontiguousarray(mesh.faces, "<u4")
        of = {name: mesh.get_attribute_by_unique_id(int(i))["data"] for name, i in extension.get("attributes", {}).items()}
    except Exception as e:  # the decoder raises its own kinds, and what its bindings meet in damaged data
        raise document.fail(
            f"its Draco data cannot be decoded ({type(e).__name__})", where, "Export it again, or without compression."
        ) from e
    count = len(mesh.points)
    if count > _MOST or (len(faces) and int(faces.max()) >= count):
        raise document.fail("its Draco data names vertices that it does not have", where, "Export it without compression.")
    for name, values in of.items():
        if name in primitive.get("attributes", {}):
            _fill(document, primitive["attributes"][name], np.asarray(values), count, where)
    accessor = document.item("accessors", primitive.get("indices"), where) if "indices" in primitive else None
    entry = {"bufferView": document.append(faces.tobytes(), _INDICES), "componentType": _UINT, "count": int(faces.size), "type": "SCALAR"}
    if accessor is not None:
        accessor.clear()
        accessor.update(entry)
    else:
        document.json["accessors"].append(entry)
        primitive["indices"] = len(document.json["accessors"]) - 1
    primitive["mode"] = 4  # what the decoder gives are triangles, strips too


def _fill(document: Document, number: int, values: np.ndarray, count: int, where: str) -> None:
    """Give an accessor the decoded values in its own type."""
    accessor = document.item("accessors", number, where)
    kind = accessor.get("componentType")
    width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}.get(str(accessor.get("type")), 0)
    if kind not in _TYPES or values.reshape(count, -1).shape[1] != width:
        raise document.fail("its Draco data does not fit its accessors", where, "Export it without compression.")
    size = np.dtype(_TYPES[kind]).itemsize * width
    stride = size + (-size % 4)  # elements of vertex attributes stand at multiples of four (specification 3.6.2.4)
    rows = np.zeros((count, stride), np.uint8)
    rows[:, :size] = np.ascontiguousarray(values.reshape(count, width).astype(_TYPES[kind])).view(np.uint8).reshape(count, size)
    accessor["bufferView"] = document.append(rows.tobytes(), _ARRAY)
    accessor["count"] = count
    if "min" in accessor and count:  # the bounds are those of what is stored now
        flat = values.reshape(count, width).astype(_TYPES[kind])
        accessor["min"], accessor["max"] = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
    accessor.pop("byteOffset", None)
    if stride != size:
        document.json["bufferViews"][-1]["byteStride"] = stride
