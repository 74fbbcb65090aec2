"""A glTF with UVs made anew: vertices part with everything that they have, and only where a seam runs."""

from __future__ import annotations

import base64
import json
from typing import Any

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.formats.gltf import accessors
from quilt_core.formats.gltf.container import parse
from quilt_core.model.scene import Scene, UvChannel
from tests.shapes import gltf_plane

KINDS = {"f4": 5126, "u1": 5121, "u2": 5123}


def rich() -> dict[str, Any]:
    """The plane with normals, colours in bytes (three to a vertex), joints, weights, a second channel and a morph target; two primitives share all."""
    document = json.loads(gltf_plane([{"mesh": 0}]))
    blob = base64.b64decode(document["buffers"][0]["uri"].partition(",")[2])

    def accessor(values: np.ndarray, kind: str, shape: str, normalized: bool = False) -> int:
        nonlocal blob
        rows = np.ascontiguousarray(values, f"<{kind}").view(np.uint8).reshape(len(values), -1)
        wide = -(-rows.shape[1] // 4) * 4
        padded = np.zeros((len(rows), wide), np.uint8)
        padded[:, : rows.shape[1]] = rows
        blob += b"\0" * (-len(blob) % 4)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(blob), "byteLength": padded.size, "target": 34962}
        if wide != rows.shape[1]:
            view["byteStride"] = wide
        document["bufferViews"].append(view)
        blob += padded.tobytes()
        entry: dict[str, Any] = {
            "bufferView": len(document["bufferViews"]) - 1,
            "componentType": KINDS[kind],
            "count": len(values),
            "type": shape,
        }
        if normalized:
            entry["normalized"] = True
        document["accessors"].append(entry)
        return len(document["accessors"]) - 1

    primitive = document["meshes"][0]["primitives"][0]
    primitive["attributes"] |= {
        "NORMAL": accessor(np.tile([0, 0, 1], (4, 1)), "f4", "VEC3"),
        "COLOR_0": accessor(np.arange(12).reshape(4, 3) * 20, "u1", "VEC3", True),
        "JOINTS_0": accessor(np.tile([0, 0, 0, 0], (4, 1)), "u1", "VEC4"),
        "WEIGHTS_0": accessor(np.tile([65535, 0, 0, 0], (4, 1)), "u2", "VEC4", True),
        "TEXCOORD_1": accessor(np.array([[0, 1], [1, 1], [1, 0], [0, 0]]) * 0.5, "f4", "VEC2"),
    }
    primitive["targets"] = [{"POSITION": accessor(np.arange(12).reshape(4, 3) * 0.1, "f4", "VEC3")}]
    document["accessors"][-1] |= {"min": [0, 0.1, 0.2], "max": [0.9, 1.0, 1.1]}
    document["meshes"][0]["primitives"].append(json.loads(json.dumps(primitive)))
    document["meshes"][0]["weights"] = [0.0]
    document["buffers"][0] = {"byteLength": len(blob), "uri": "data:application/octet-stream;base64," + base64.b64encode(blob).decode()}
    return document


def corner_values(body: bytes, primitive: int) -> dict[str, np.ndarray]:
    """Every attribute and morph target of a primitive at the corners of its triangles."""
    document = parse(body, "a.gltf", {})
    found = document.json["meshes"][0]["primitives"][primitive]
    index = accessors.raw(document, found["indices"], "").reshape(-1)
    places = dict(found["attributes"]) | {f"target {k}": v for k, v in found["targets"][0].items()}
    counts = {document.json["accessors"][a]["count"] for a in places.values()}
    assert len(counts) == 1, "all attributes of a primitive have as many elements"
    for a in places.values():
        entry = document.json["accessors"][a]
        stride = document.json["bufferViews"][entry["bufferView"]].get("byteStride")
        size = accessors.raw(document, a, "").dtype.itemsize * accessors.raw(document, a, "").shape[1]
        assert (stride or size) % 4 == 0, "elements stand on multiples of four bytes (specification 3.6.2.4)"
    return {name: accessors.raw(document, a, "")[index] for name, a in places.items()}


def apart(scene: Scene) -> UvChannel:
    """Every triangle an island of its own."""
    count = len(scene.meshes[0].triangles)
    uvs = np.concatenate([[(k, 0.0), (k + 0.5, 0.0), (k, 0.5)] for k in range(count)])
    return UvChannel(np.asarray(uvs, float), np.arange(3 * count, dtype=np.int32).reshape(-1, 3))


@pytest.mark.parametrize("channel", [0, 1, 2])
def test_every_attribute_and_target_follows_its_corner(channel: int) -> None:
    body = json.dumps(rich()).encode()
    scene = formats.read(body, "a.gltf")
    new = apart(scene)
    out = formats.revise(scene, {0: new}, channel)[""]
    name = f"TEXCOORD_{channel}"
    for primitive in (0, 1):
        was, now = corner_values(body, primitive), corner_values(out, primitive)
        for key in was:
            if key != name:
                assert np.array_equal(was[key], now[key]) and was[key].dtype == now[key].dtype, key
        uv = new.uvs[new.triangles[2 * primitive : 2 * primitive + 2].reshape(-1)]
        assert now[name] == pytest.approx(np.column_stack([uv[:, 0], 1 - uv[:, 1]]))
    again = formats.read(out, "a.gltf")
    found = again.meshes[0].channels[channel]
    assert np.allclose(found.uvs[found.triangles], new.uvs[new.triangles])
    document = json.loads(out)
    assert document["accessors"][0] == json.loads(body)["accessors"][0], "accessors that others may read stay"


def test_no_vertex_is_parted_without_a_seam() -> None:
    body = json.dumps(rich()).encode()
    scene = formats.read(body, "a.gltf")
    old = scene.meshes[0].channels[0]
    out = formats.revise(scene, {0: UvChannel(old.uvs * 0.5, old.triangles)}, 0)[""]
    was, now = json.loads(body), json.loads(out)
    for a, b in zip(was["meshes"][0]["primitives"], now["meshes"][0]["primitives"], strict=True):
        assert {k: v for k, v in a["attributes"].items() if k != "TEXCOORD_0"} == {
            k: v for k, v in b["attributes"].items() if k != "TEXCOORD_0"
        }
        assert a["indices"] == b["indices"] and a["targets"] == b["targets"]
    assert corner_values(out, 0)["TEXCOORD_0"] == pytest.approx(
        np.column_stack([old.uvs[[0, 1, 2, 0, 2, 3], 0] * 0.5, 1 - old.uvs[[0, 1, 2, 0, 2, 3], 1] * 0.5])
    )


def test_a_strip_becomes_triangles_where_it_must() -> None:
    document = rich()
    primitive = document["meshes"][0]["primitives"].pop()
    document["meshes"][0]["primitives"][0]["mode"] = 5
    primitive["mode"] = 5
    scene = formats.read(json.dumps(document).encode(), "a.gltf")
    new = apart(scene)
    again = formats.read(formats.revise(scene, {0: new}, 0)[""], "a.gltf")
    assert np.array_equal(again.meshes[0].positions[again.meshes[0].triangles], scene.meshes[0].positions[scene.meshes[0].triangles])
    found = again.meshes[0].channels[0]
    assert np.allclose(found.uvs[found.triangles], new.uvs[new.triangles])
