"""Draco in glTF: what DracoPy's own encoder wrote is read, delivered plain, and damaged data is told."""

from __future__ import annotations

import io
import json

import DracoPy
import numpy as np
import pygltflib
import pytest
import trimesh

from quilt_core import formats
from quilt_core.errors import FileError
from tests.shapes import glb


def sheet(n: int = 5) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A bumpy square: points, UVs, faces."""
    u, v = (c.ravel() for c in np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1, n)))
    points = np.column_stack([u, v, 0.1 * np.sin(4 * u)]).astype(np.float32)
    at = np.arange(n * n).reshape(n, n)
    quads = np.stack([at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]], axis=-1).reshape(-1, 4)
    return points, np.column_stack([u, v]).astype(np.float32), np.concatenate([quads[:, :3], quads[:, [0, 2, 3]]]).astype(np.uint32)


def compressed(points: np.ndarray, uvs: np.ndarray, faces: np.ndarray, cut: int = 0) -> bytes:
    body = DracoPy.encode(points, faces, tex_coord=uvs.astype(np.float64), quantization_bits=16)
    ids = {a["attribute_type"]: a["unique_id"] for a in DracoPy.decode(body).attributes}
    attributes = {"POSITION": ids[0], "TEXCOORD_0": ids[3]}
    extension = {"KHR_draco_mesh_compression": {"bufferView": 0, "attributes": attributes}}
    document = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0, "name": "sheet"}],
        "extensionsUsed": ["KHR_draco_mesh_compression"], "extensionsRequired": ["KHR_draco_mesh_compression"],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 1}, "indices": 2, "extensions": extension}]}],
        "accessors": [
            {"componentType": 5126, "count": len(points), "type": "VEC3", "min": points.min(axis=0).tolist(), "max": points.max(axis=0).tolist()},
            {"componentType": 5126, "count": len(points), "type": "VEC2"},
            {"componentType": 5125, "count": int(faces.size), "type": "SCALAR"},
        ],
        "bufferViews": [{"buffer": 0, "byteOffset": 0, "byteLength": len(body) - cut}], "buffers": [{"byteLength": len(body) - cut}],
    }  # fmt: skip
    return glb(document, body[: len(body) - cut])


@pytest.mark.reference("Draco-compressed glTF", "KHR_draco_mesh_compression (Khronos); DracoPy encodes")
def test_a_compressed_mesh_is_read_and_leaves_plain() -> None:
    """DracoPy wrote it; trimesh and pygltflib read what leaves. The encoder keeps UVs to some 2^-11 here."""
    points, uvs, faces = sheet()
    scene = formats.read(compressed(points, uvs, faces), "sheet.glb")
    (mesh,) = scene.meshes
    assert len(mesh.triangles) == len(faces) and scene.warnings == ["its meshes were compressed with Draco; what leaves is not compressed"]
    at = np.abs(mesh.positions[:, None, :2] - points[None, :, :2]).sum(axis=2).argmin(axis=1)
    found = mesh.channels[0].uvs
    assert np.abs(found - np.column_stack([uvs[at, 0], 1 - uvs[at, 1]])).max() < 1e-3
    out = formats.write(scene, {0: 0.5 * found}, 0)[""]
    again = formats.read(out, "sheet.glb")
    assert np.abs(again.meshes[0].channels[0].uvs - 0.5 * found).max() < 1e-6 and not again.warnings
    assert len(trimesh.load(io.BytesIO(out), file_type="glb", force="mesh").faces) == len(faces)
    document = pygltflib.GLTF2.load_from_bytes(out)
    assert not document.extensionsUsed and not document.extensionsRequired and not document.meshes[0].primitives[0].extensions


@pytest.mark.parametrize("cut", [1, 20, 60])
def test_damaged_draco_data_is_told(cut: int) -> None:
    with pytest.raises(FileError, match="Draco"):
        formats.read(compressed(*sheet(), cut=cut), "sheet.glb")


def test_an_accessor_that_does_not_fit_is_told() -> None:
    data = compressed(*sheet())
    size = int.from_bytes(data[12:16], "little")
    document = json.loads(data[20 : 20 + size])
    document["accessors"][1]["type"] = "VEC3"
    with pytest.raises(FileError, match="does not fit"):
        formats.read(glb(document, data[28 + size :]), "sheet.glb")
