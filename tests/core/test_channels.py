"""UV channels copied, moved, named and left out; glTF read again by pygltflib, USD by usd-core."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pygltflib
import pytest
from pxr import Usd, UsdGeom

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.errors import FileError
from quilt_core.formats import rearrange as write
from quilt_core.formats.channels import LAYOUT, Arrangement, lost, rearranged
from quilt_core.formats.export import add, export
from quilt_core.formats.model import Model
from tests.shapes import PLANE

from .test_usd import SHED, flattened

GLB = two_channels([box(Part("crate"), (0, 0, 0), (1, 1, 1)).uv(0.1), box(Part("lid"), (0, 0, 0), (1, 1, 2)).uv(0.1)], 1.0, png("crane"))


@pytest.mark.reference("Materials of glTF: the channel that a texture reads", "glTF 2.0 (Khronos) 3.9.5, read by pygltflib")
def test_gltf_channels_move_and_the_pictures_follow() -> None:
    """The layout first, the tiling UVs behind it twice: the texture, which read channel 0, reads 1 now."""
    scene = formats.read(GLB, "iron.glb")
    new = {0: scene.meshes[0].channels[1].uvs * 0.5}
    how = Arrangement((LAYOUT, 0, 0))
    body = write(scene, new, how)[""]
    again = formats.read(body, "iron.glb")
    assert sorted(again.meshes[0].channels) == [0, 1, 2]
    assert again.meshes[0].channels[0].uvs == pytest.approx(new[0], abs=1e-6)
    for channel in (1, 2):
        assert np.array_equal(again.meshes[0].channels[channel].uvs, scene.meshes[0].channels[0].uvs)
    assert np.array_equal(again.meshes[1].channels[0].uvs, scene.meshes[1].channels[0].uvs), "what has no new layout keeps its own"
    gltf = pygltflib.GLTF2.load_from_bytes(body)
    assert gltf.materials[0].pbrMetallicRoughness.baseColorTexture.texCoord == 1
    only = formats.read(write(scene, new, Arrangement((LAYOUT,)))[""], "iron.glb")
    assert sorted(only.meshes[0].channels) == [0] and "'iron'" in lost(scene, Arrangement((LAYOUT,)))[0] and not lost(scene, how)


def test_usd_channels_are_named_and_left_out(tmp_path: Path) -> None:
    scene = formats.read(SHED.encode(), "shed.usda")
    new = {0: scene.meshes[0].channels[0].uvs * 0.25}
    body = write(scene, new, Arrangement((1, LAYOUT), ("lightmap", "atlas")))[""]
    (tmp_path / "a.usda").write_bytes(body)
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    source = tmp_path / "b.usda"
    source.write_bytes(SHED.encode())
    before = Usd.Stage.Open(str(source))
    corners = np.array(UsdGeom.Mesh(before.GetPrimAtPath("/Shed/Wall")).GetFaceVertexIndicesAttr().Get())
    assert flattened(stage, "/Shed/Wall", "lightmap") == pytest.approx(flattened(before, "/Shed/Wall", "light")[corners])
    assert flattened(stage, "/Shed/Wall", "atlas") == pytest.approx(flattened(before, "/Shed/Wall", "st") * 0.25)
    left = {p.GetPrimvarName() for p in UsdGeom.PrimvarsAPI(stage.GetPrimAtPath("/Shed/Wall")).GetPrimvarsWithValues()}
    assert left == {"lightmap", "atlas", "wind"}
    assert stage.GetAttributeAtPath("/Looks/Paint/Reader.inputs:varname").Get() == "lightmap", "the shader reads the new name"
    again = formats.read(body, "a.usda")
    assert again.meshes[0].key.names == ["atlas", "lightmap"] or again.meshes[0].key.names == ["lightmap", "atlas"]


def test_formats_of_one_channel_take_the_layout_alone() -> None:
    scene = formats.read(PLANE, "plane.obj")
    uvs = {0: scene.meshes[0].channels[0].uvs * 0.5}
    assert write(scene, uvs, Arrangement((LAYOUT,))) == formats.write(scene, uvs)
    with pytest.raises(FileError, match="OBJ has one UV channel"):
        write(scene, uvs, Arrangement((0, LAYOUT)))


def test_another_format_gets_the_channels_in_the_new_order() -> None:
    scene = formats.read(GLB, "iron.glb")
    laid = rearranged(scene, {0: scene.meshes[0].channels[1].uvs * 0.5}, {0: 1}, Arrangement((LAYOUT, 0)))
    model = Model()
    add(model, laid, {})
    assert model.looks[0].channels == {"base colour": 1}
    again = formats.read(export(model, "usdc", "iron")["iron.usdc"], "iron.usdc")
    assert again.meshes[0].channels[0].uvs.max() == pytest.approx(0.5 * scene.meshes[0].channels[1].uvs.max(), abs=1e-6)
    assert again.meshes[0].channels[1].uvs.max() == pytest.approx(scene.meshes[0].channels[0].uvs.max(), abs=1e-6)
