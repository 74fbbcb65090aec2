"""Old paint of whole files: what each material shows afterwards, by reading the files with other libraries."""

from __future__ import annotations

import io
import json
import struct

import numpy as np
import pygltflib
import pytest
from PIL import Image

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.formats import rewire
from quilt_core.formats.pictures import pictures
from quilt_core.model.scene import Scene
from quilt_core.model.tiles import Grid
from quilt_core.textures.paint import Coat, Laid, Old, Sheet, paint, wiring

PLAIN = {
    "name": "plain", "doubleSided": True, "emissiveFactor": [0.1, 0.2, 0.3], "extras": {"note": "by hand"},
    "pbrMetallicRoughness": {"baseColorFactor": [0.8, 0.2, 0.1, 1.0], "metallicFactor": 0.5, "roughnessFactor": 0.895},
}  # fmt: skip


def glb() -> bytes:
    """Two boxes: one whose material has a picture for everything, one whose material has factors only."""
    data = two_channels([box(Part(n), (k, 0, 0), (k + 1, 1, 1)).uv(0.1) for k, n in enumerate(("painted", "plain"))], 1.0, png("wheel"))
    length = struct.unpack("<I", data[12:16])[0]
    document = json.loads(data[20 : 20 + length])
    picture = {"index": 0}
    document["materials"] = [
        {"name": "painted", "pbrMetallicRoughness": {"baseColorTexture": picture, "metallicRoughnessTexture": picture}, "emissiveTexture": picture,
         "emissiveFactor": [1, 1, 1], "normalTexture": picture, "occlusionTexture": picture},
        PLAIN,
    ]  # fmt: skip
    document["meshes"][1]["primitives"][0]["material"] = 1
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + length :]
    return struct.pack("<III", 0x46546C67, 2, 20 + len(text) + len(rest)) + struct.pack("<II", len(text), 0x4E4F534A) + text + rest


def coat(scene: Scene) -> Coat:
    """Everything on one sheet, where it lies in the second channel."""
    meshes = {}
    for m, mesh in enumerate(scene.meshes):
        uv = mesh.channels[1].uvs[mesh.channels[1].triangles]
        # The two lie beside each other.
        meshes[m] = Laid(0.45 * uv + [0.5 * m, 0.0], np.zeros(len(uv), np.int64))
    maps = [{kind: Old(kind, lambda body=body: body) for kind, body in found.items()} for found in pictures(scene, {})]  # type: ignore[misc]
    return Coat(scene, meshes, maps)


def test_a_material_without_pictures_keeps_its_factors_beside_one_with() -> None:
    data = glb()
    scene = formats.read(data, "two.glb")
    mine = coat(scene)
    found = paint([mine], [Sheet(0, "S", Grid(64))])
    assert set(found.maps[0, 1001]) == {"base colour", "metal and roughness", "emission", "normal", "occlusion"}
    out = rewire(scene, {"": data}, {}, wiring(found, mine, {0: "S"}, False, 1)).files
    before, after = (pygltflib.GLTF2.load_from_bytes(x) for x in (data, out[""]))
    assert [m.name for m in after.materials] == ["painted", "plain"]
    # All that the plain one is, field by field as another library reads it, is what it was.
    assert after.materials[1].to_dict() == before.materials[1].to_dict()
    assert [m.primitives[0].material for m in after.meshes] == [0, 1]
    painted = after.materials[0]
    names = [after.images[after.textures[t.index].source].name for t in (
        painted.pbrMetallicRoughness.baseColorTexture, painted.pbrMetallicRoughness.metallicRoughnessTexture, painted.normalTexture,
        painted.occlusionTexture, painted.emissiveTexture)]  # fmt: skip
    assert names == [f"S.{k}.1001" for k in ("base_colour", "metal_and_roughness", "normal", "occlusion", "emission")]


@pytest.mark.parametrize("kinds", [{"base colour"}, {"normal"}, set()])
def test_of_the_kinds_on_a_tile_a_material_shows_those_that_it_had(kinds: set[str]) -> None:
    data = glb()
    scene = formats.read(data, "two.glb")
    mine = coat(scene)
    some = Coat(scene, mine.meshes, [mine.maps[0], {k: mine.maps[0][k] for k in kinds}])
    found = paint([some], [Sheet(0, "S", Grid(64))])
    wired = wiring(found, some, {0: "S"}, False, 1)
    shown = {m.name: set(m.maps) for m in wired.materials}
    assert shown["painted"] == set(found.maps[0, 1001]) and shown.get("plain", set()) == kinds
    assert (wired.of_triangle[1] < 0).all() == (not kinds)


def glass(mode: str, size: int = 64) -> tuple[bytes, np.ndarray]:
    """One square whose picture is red where it is seen and green where it is not, in stripes; and the picture, (h, w, 4) of 255."""
    picture = np.zeros((size, size, 4), np.uint8)
    picture[:, :, 1] = 255
    picture[:, (np.arange(size) // 4) % 2 == 0] = (255, 0, 0, 200)
    body = io.BytesIO()
    Image.fromarray(picture, "RGBA").save(body, "PNG")
    position = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], "<f4")
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], "<f4")
    index = np.array([0, 1, 2, 0, 2, 3], "<u4")
    data = position.tobytes() + uv.tobytes() + index.tobytes()
    g = pygltflib.GLTF2(
        scene=0, scenes=[pygltflib.Scene(nodes=[0])], nodes=[pygltflib.Node(mesh=0)],
        meshes=[pygltflib.Mesh(primitives=[pygltflib.Primitive(attributes=pygltflib.Attributes(POSITION=0, TEXCOORD_0=1), indices=2, material=0)])],
        accessors=[
            pygltflib.Accessor(bufferView=0, componentType=5126, count=4, type="VEC3", min=[0, 0, 0], max=[1, 1, 0]),
            pygltflib.Accessor(bufferView=1, componentType=5126, count=4, type="VEC2"),
            pygltflib.Accessor(bufferView=2, componentType=5125, count=6, type="SCALAR"),
        ],
        bufferViews=[pygltflib.BufferView(buffer=0, byteOffset=o, byteLength=n) for o, n in ((0, 48), (48, 32), (80, 24), (104, len(body.getvalue())))],
        buffers=[pygltflib.Buffer(byteLength=104 + len(body.getvalue()))],
        images=[pygltflib.Image(bufferView=3, mimeType="image/png")], textures=[pygltflib.Texture(source=0)],
        materials=[pygltflib.Material(
            name="glass", alphaMode=mode, alphaCutoff=0.3 if mode == "MASK" else None,
            pbrMetallicRoughness=pygltflib.PbrMetallicRoughness(baseColorTexture=pygltflib.TextureInfo(index=0)))],
    )  # fmt: skip
    g.set_binary_blob(data + body.getvalue())
    return b"".join(g.save_to_bytes()), picture


def delivered(data: bytes, px: int) -> tuple[Image.Image, pygltflib.GLTF2]:
    """The base colour map that a file leaves with, on a tile of its own that it fills, and the file."""
    scene = formats.read(data, "glass.glb")
    uv = scene.meshes[0].channels[0].uvs[scene.meshes[0].channels[0].triangles]
    maps = [{kind: Old(kind, lambda body=body: body) for kind, body in found.items()} for found in pictures(scene, {})]  # type: ignore[misc]
    mine = Coat(scene, {0: Laid(uv, np.zeros(len(uv), np.int64))}, maps)
    found = paint([mine], [Sheet(0, "S", Grid(px))])
    wired = wiring(found, mine, {0: "S"}, False, 0)
    after = pygltflib.GLTF2.load_from_bytes(rewire(scene, {"": data}, {}, wired).files[""])
    return Image.open(io.BytesIO(found.pictures[found.maps[0, 1001]["base colour"]])), after


@pytest.mark.parametrize("mode", ["BLEND", "MASK"])
def test_what_is_seen_through_stays_so_and_hidden_colours_stay_hidden(mode: str) -> None:
    data, picture = glass(mode)
    same, after = delivered(data, 64)
    assert same.mode == "RGBA"
    assert np.abs(np.asarray(same).astype(int)[:, :, 3] - picture[:, :, 3]).max() <= 1
    seen = picture[:, :, 3] > 0
    assert np.abs(np.asarray(same).astype(int) - picture)[seen].max() <= 1
    assert after.materials[0].alphaMode == mode and after.materials[0].alphaCutoff == (0.3 if mode == "MASK" else None)
    # At an eighth of the size every texel covers a stripe of each kind (the mean of 200 and 0, by arithmetic): half is seen, and all of that is red.
    small = np.asarray(delivered(data, 8)[0]).astype(int)
    assert np.abs(small[:, :, 3] - 100).max() <= 2
    assert small[:, :, 0].min() >= 253 and small[:, :, 1].max() <= 2


def test_the_fourth_channel_of_an_opaque_material_says_nothing() -> None:
    data, _ = glass("OPAQUE")
    small, after = delivered(data, 8)
    assert small.mode == "RGB" and (after.materials[0].alphaMode or "OPAQUE") == "OPAQUE"
    # Both colours count by half, in linear light (IEC 61966-2-1: half the light is stored as 188).
    assert np.abs(np.asarray(small).astype(int)[:, :, :2] - 188).max() <= 2
