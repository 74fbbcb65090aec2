"""glTF 2.0 (Khronos specification): accessors, nodes, transforms, channels, and writing."""

from __future__ import annotations

import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.delivery.report import inspect_report
from quilt_core.errors import FileError
from quilt_core.uv.analysis import analyse
from tests.shapes import glb, gltf_plane


def density(data: bytes, map_px: int = 1024) -> list[float]:
    report = inspect_report([formats.read(data, "a.gltf")], 0, map_px)
    return [o["density_px_per_m"]["median"] for o in report["objects"]]


@pytest.mark.reference("Density of a metre that fills a map, in a glTF", "arithmetic")
def test_density_of_a_metre_that_fills_the_map() -> None:
    """Arithmetic: 1 m over 1024 px is 1024 px/m."""
    assert density(gltf_plane([{"mesh": 0}])) == [pytest.approx(1024)]


@pytest.mark.parametrize(
    ("node", "expected"),
    [
        ({"scale": [2, 2, 2]}, 512),
        ({"scale": [4, 1, 1]}, 512),
        ({"scale": [-1, 1, 1]}, 1024),
        ({"rotation": [0, math.sin(0.5), 0, math.cos(0.5)], "translation": [9, 9, 9]}, 1024),
        ({"matrix": [2, 0, 0, 0, 0, 2, 0, 0, 0, 0, 2, 0, 5, 5, 5, 1]}, 512),
    ],
)
def test_density_under_node_transforms(node: dict, expected: float) -> None:
    """Arithmetic: a surface k times as large has 1 / sqrt(k) of the density."""
    assert density(gltf_plane([{"mesh": 0, **node}])) == [pytest.approx(expected)]


@pytest.mark.reference("World transforms down a hierarchy", "glTF 2.0 (Khronos) 3.5.3")
def test_transforms_multiply_down_the_hierarchy_and_each_placing_has_its_own_density() -> None:
    nodes = [
        {"name": "root", "scale": [2, 2, 2], "children": [1, 2]},
        {"name": "a", "mesh": 0},
        {"name": "b", "mesh": 0, "scale": [2, 2, 2]},
    ]
    scene = formats.read(gltf_plane(nodes), "a.gltf")
    assert [o.path for o in scene.objects] == ["root/a", "root/b"] and len(scene.meshes) == 1
    assert density(gltf_plane(nodes)) == [pytest.approx(512), pytest.approx(256)]


def test_a_mirrored_node_shows_its_islands_mirrored() -> None:
    """Specification 3.7.4: a negative determinant reverses the winding that is seen."""
    for scale, flipped in (([1, 1, 1], 0), ([-1, 1, 1], 1)):
        report = inspect_report([formats.read(gltf_plane([{"mesh": 0, "scale": scale}]), "a.gltf")], 0, 1024)
        assert report["faults"]["flipped"] == flipped


@pytest.mark.reference("Accessors of glTF: normalized bytes and shorts, strides", "glTF 2.0 (Khronos) 3.6.2")
@pytest.mark.parametrize("kind", ["float", "ubyte", "ushort"])
def test_normalized_and_strided_uvs(kind: str) -> None:
    """Specification 3.6.2.2: unsigned values are divided by 255 or 65535; v turns from downward to upward."""
    uvs = formats.read(gltf_plane([{"mesh": 0}], kind), "a.gltf").meshes[0].channels[0].uvs
    assert np.allclose(uvs, [[0, 0], [1, 0], [1, 1], [0, 1]])


@pytest.mark.parametrize("kind", ["float", "ubyte", "ushort"])
def test_writing_and_reading_again(kind: str) -> None:
    scene = formats.read(gltf_plane([{"mesh": 0}], kind), "a.gltf")
    wanted = scene.meshes[0].channels[0].uvs * 0.25 + 0.1
    again = formats.read(formats.write(scene, {0: wanted})[""], "a.gltf")
    assert np.allclose(again.meshes[0].channels[0].uvs, wanted, atol=1e-7)
    assert np.array_equal(again.meshes[0].positions, scene.meshes[0].positions)


def test_a_free_channel_is_written_and_the_old_one_stays() -> None:
    scene = formats.read(gltf_plane([{"mesh": 0}]), "a.gltf")
    again = formats.read(formats.write(scene, {0: scene.meshes[0].channels[0].uvs * 0.5}, 1)[""], "a.gltf").meshes[0]
    assert again.channels[0].uvs.max() == 1 and again.channels[1].uvs.max() == pytest.approx(0.5)


@pytest.mark.reference("Materials of glTF: texture transforms", "KHR_texture_transform (Khronos)")
def test_the_texture_transform_counts_and_is_taken_out_again() -> None:
    """KHR_texture_transform with scale 2: what is sampled is twice as large, so twice the density."""
    info = {"index": 0, "extensions": {"KHR_texture_transform": {"scale": [2, 2], "offset": [0.5, 0], "rotation": 0.3}}}
    plain = json.loads(gltf_plane([{"mesh": 0}]))
    plain["meshes"][0]["primitives"][0]["material"] = 0
    plain |= {"materials": [{"pbrMetallicRoughness": {"baseColorTexture": info}}], "textures": [{}]}
    data = json.dumps(plain).encode()
    assert density(data) == [pytest.approx(2048)]
    scene = formats.read(data, "a.gltf")
    wanted = scene.meshes[0].channels[0].uvs * 0.1 + 0.2
    out = formats.write(scene, {0: wanted})[""]
    assert json.loads(out)["materials"] == plain["materials"]
    assert np.allclose(formats.read(out, "a.gltf").meshes[0].channels[0].uvs, wanted, atol=1e-6)


def two_primitives(first: list[int], second: list[int]) -> bytes:
    """Two meshes of one triangle each that share a TEXCOORD accessor of three entries."""
    a = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4") + np.array(first, "<f4")
    b = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4") + np.array(second, "<f4")
    uv = np.array([[0, 0], [1, 0], [0, 1]], "<f4")
    body = a.tobytes() + b.tobytes() + uv.tobytes()
    views = [{"buffer": 0, "byteOffset": o, "byteLength": n} for o, n in ((0, 36), (36, 36), (72, 24))]
    accessors = [
        {"bufferView": i, "componentType": 5126, "count": 3, "type": "VEC3", "min": p.min(0).tolist(), "max": p.max(0).tolist()}
        for i, p in enumerate((a, b))
    ]
    accessors.append({"bufferView": 2, "componentType": 5126, "count": 3, "type": "VEC2"})
    meshes = [{"primitives": [{"attributes": {"POSITION": i, "TEXCOORD_0": 2}}]} for i in (0, 1)]
    document = {
        "asset": {"version": "2.0"}, "scenes": [{"nodes": [0, 1]}], "nodes": [{"mesh": 0}, {"mesh": 1}], "meshes": meshes,
        "accessors": accessors, "bufferViews": views, "buffers": [{"byteLength": len(body)}],
    }  # fmt: skip
    return glb(document, body)


def test_a_shared_accessor_is_parted_only_where_layouts_differ() -> None:
    scene = formats.read(two_primitives([0, 0, 0], [5, 0, 0]), "a.glb")
    uvs = scene.meshes[0].channels[0].uvs
    same = formats.read(formats.write(scene, {0: uvs * 0.5, 1: uvs * 0.5})[""], "a.glb")
    assert len(same.key.json["accessors"]) == 3
    parted = formats.read(formats.write(scene, {0: uvs * 0.5, 1: uvs * 0.25})[""], "a.glb")
    assert np.allclose(parted.meshes[0].channels[0].uvs, uvs * 0.5) and np.allclose(parted.meshes[1].channels[0].uvs, uvs * 0.25)


def test_one_mesh_written_alone_leaves_the_other_readers_of_its_accessor_untouched() -> None:
    scene = formats.read(two_primitives([0, 0, 0], [5, 0, 0]), "a.glb")
    uvs = scene.meshes[0].channels[0].uvs
    again = formats.read(formats.write(scene, {0: uvs * 0.5})[""], "a.glb")
    assert np.allclose(again.meshes[1].channels[0].uvs, uvs)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"extensionsRequired": ["XYZ_made_up"]}, "XYZ_made_up"),
        ({"asset": {"version": "1.0"}}, "not glTF 2.0"),
        ({"nodes": [{"mesh": 4}]}, r"meshes\[4\]"),
        ({"nodes": [{"mesh": 0, "children": [0]}], "scenes": [{"nodes": [0]}]}, "its own ancestor"),
        ({"buffers": [{"byteLength": 99, "uri": "gone.bin"}]}, "'gone.bin' is missing"),
        ({"buffers": [{"byteLength": 9999999, "uri": "data:,"}]}, "bytes"),
        ({"accessors": [{"count": -1}]}, "accessor"),
        ({"meshes": "none"}, "not a list"),
        ({"meshes": [{"primitives": "none"}]}, "mesh 0: its primitives"),
        ({"meshes": [{"primitives": []}, {"primitives": [{"attributes": [3]}]}]}, "mesh 1, primitive 0: its attributes"),
        ({"meshes": [{"primitives": []}, {"primitives": [{"targets": {"POSITION": 0}}]}]}, "mesh 1, primitive 0: its morph targets"),
    ],
)
def test_what_is_wrong_is_named(change: dict, words: str) -> None:
    with pytest.raises(FileError, match=words):
        formats.read(json.dumps(json.loads(gltf_plane([{"mesh": 0}])) | change).encode(), "a.gltf")


def test_external_buffers_never_leave_the_given_files() -> None:
    data = gltf_plane([{"mesh": 0}], buffers=[{"byteLength": 10, "uri": "../../etc/passwd"}])
    with pytest.raises(FileError, match="missing"):
        formats.read(data, "a.gltf", 1.0, {"passwd": b"0123456789"})


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_mutated_files_give_a_scene_or_a_clear_error(data: st.DataObject) -> None:
    good = bytearray(two_primitives([0, 0, 0], [1, 0, 0]))
    for _ in range(data.draw(st.integers(1, 8))):
        good[data.draw(st.integers(0, len(good) - 1))] = data.draw(st.integers(0, 255))
    cut = data.draw(st.integers(0, len(good)))
    try:
        scene = formats.read(bytes(good[:cut] if data.draw(st.booleans()) else good), "a.glb")
        analyse(scene, 0)
    except FileError as e:
        assert str(e).startswith("a.glb: ")
