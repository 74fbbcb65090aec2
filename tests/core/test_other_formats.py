"""Materials and channels on their way to another format: what a format cannot hold is put so that it can, or told; pictures are read again by Pillow, GLBs by
pygltflib, USD by usd-core."""

from __future__ import annotations

import io
import json
import struct
from pathlib import Path

import numpy as np
import pygltflib
import pytest
from PIL import Image
from pxr import Usd, UsdShade

from quilt_core import formats
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from quilt_core.model.material import placed_uvs
from tests.shapes import PLANE

DDS = b"DDS |\x00\x00\x00" + bytes(120)


def picture(mode: str, colour: object, kind: str = "PNG", **more: object) -> bytes:
    out = io.BytesIO()
    Image.new(mode, (4, 4), colour).save(out, kind, **more)  # type: ignore[arg-type]
    return out.getvalue()


def converted(files: dict[str, bytes], main: str, ending: str) -> tuple[dict[str, bytes], list[str]]:
    scene = formats.read(files[main], main, 1.0, files)
    model = Model()
    add(model, scene, {k: v for k, v in files.items() if k != main})
    _, made, notes = checked(model, ending, "out")
    return {k: v for k, (v, _) in made.items()}, notes


def painted(name: str, body: bytes) -> dict[str, bytes]:
    plane = PLANE.replace(b"o plane", b"mtllib a.mtl\no plane\nusemtl cloth")
    return {"a.obj": plane, "a.mtl": f"newmtl cloth\nmap_Kd {name}\n".encode(), name: body}


def image_of(glb: bytes) -> Image.Image:
    g = pygltflib.GLTF2.load_from_bytes(glb)
    view = g.bufferViews[g.images[0].bufferView]
    return Image.open(io.BytesIO(g.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength]))


@pytest.mark.parametrize(
    ("name", "body"),
    [
        ("ink.jpg", picture("CMYK", (200, 20, 60, 0), "JPEG", quality=100)),
        ("old.tga", picture("RGB", (52, 216, 180), "TGA")),
        ("scan.tif", picture("RGB", (52, 216, 180), "TIFF")),
        ("web.webp", picture("RGB", (52, 216, 180), "WEBP", lossless=True)),
    ],
)
def test_pictures_become_what_the_format_holds(name: str, body: bytes) -> None:
    """A CMYK JPEG went into a GLB as it is: glTF 2.0, 5.18.2 holds PNG and JPEG, read as red, green and blue."""
    made, _ = converted(painted(name, body), "a.obj", "glb")
    shown, was = image_of(made["out.glb"]), Image.open(io.BytesIO(body)).convert("RGB")
    assert shown.format == "PNG" and shown.mode == "RGB"
    assert np.abs(np.asarray(shown, int) - np.asarray(was, int)).max() == 0


def test_pictures_that_are_not_read_keep_their_bytes_and_name_or_are_told() -> None:
    """A DDS was dropped from a GLB without a word, and its bytes lay in USD's and COLLADA's under the ending of another kind."""
    made, notes = converted(painted("cloth.dds", DDS), "a.obj", "glb")
    assert pygltflib.GLTF2.load_from_bytes(made["out.glb"]).images == []
    assert len(notes) == 1 and "'cloth'" in notes[0] and "cloth" in notes[0] and notes[0].endswith("it is left out.")
    for ending in ("usdc", "dae", "obj"):
        made, notes = converted(painted("cloth.dds", DDS), "a.obj", ending)
        assert [k for k, v in made.items() if v == DDS] == ["textures/cloth.base_colour.dds"]
        assert any("'cloth'" in n and "goes along as it came" in n for n in notes), notes


def test_a_picture_of_sixteen_bits_that_is_made_anew_is_told() -> None:
    deep = io.BytesIO()
    Image.fromarray(np.full((4, 4), 300, np.uint16)).save(deep, "PNG")
    files = painted("deep.png", picture("RGB", (9, 9, 9))) | {"rough.png": deep.getvalue(), "metal.png": picture("L", 255)}
    files["a.mtl"] += b"map_Pr rough.png\nmap_Pm metal.png\n"
    _, notes = converted(files, "a.obj", "glb")
    assert any("roughness" in n and "16 bits a channel" in n for n in notes), notes


def test_a_roughness_that_nobody_says_is_the_same_everywhere() -> None:
    """The usual values differ (glTF 2.0, 5.22.5: 1; UsdPreviewSurface: 0.5), so that a file which says nothing looked otherwise as USD."""
    files = painted("cloth.png", picture("RGB", (9, 9, 9)))
    glb, _ = converted(files, "a.obj", "glb")
    assert pygltflib.GLTF2.load_from_bytes(glb["out.glb"]).materials[0].pbrMetallicRoughness.roughnessFactor in (None, 1.0)
    usd, _ = converted(files, "a.obj", "usda")
    again = formats.read(usd["out.usda"], "out.usda", 1.0, usd)
    assert again.materials[0].roughness == 1.0


def glb_of(meshes: list[list[int]], info: dict[str, dict[str, object]] | None = None) -> bytes:
    """Planes with the UV channels that are listed; the material of all has pictures with texture transforms, by slot."""
    position = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], "<f4")
    uv, index = position[:, :2].copy(), np.array([0, 1, 2, 0, 2, 3], "<u2")
    shown = picture("RGB", (200, 100, 50))
    parts = [position.tobytes(), uv.tobytes(), index.tobytes(), shown]
    starts = np.cumsum([0] + [len(p) + -len(p) % 4 for p in parts]).tolist()
    slots: dict[str, object] = {
        slot: {"index": 0, "extensions": {"KHR_texture_transform": how}} if how else {"index": 0} for slot, how in (info or {}).items()
    }
    base = {"baseColorTexture": slots.pop("baseColorTexture")} if "baseColorTexture" in slots else {}
    document = {
        "asset": {"version": "2.0"}, "extensionsUsed": ["KHR_texture_transform"], "scene": 0, "scenes": [{"nodes": list(range(len(meshes)))}],
        "nodes": [{"mesh": n, "name": f"plane{n}", "translation": [2 * n, 0, 0]} for n in range(len(meshes))],
        "meshes": [{"name": f"plane{n}", "primitives": [{"attributes": {"POSITION": 0} | {f"TEXCOORD_{c}": 1 for c in mine}, "indices": 2} | ({"material": 0} if info else {})]}
                   for n, mine in enumerate(meshes)],
        "materials": [{"name": "cloth", "pbrMetallicRoughness": base, **slots}], "textures": [{"source": 0}], "images": [{"mimeType": "image/png", "bufferView": 3}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0]},
                      {"bufferView": 1, "componentType": 5126, "count": 4, "type": "VEC2"}, {"bufferView": 2, "componentType": 5123, "count": 6, "type": "SCALAR"}],
        "bufferViews": [{"buffer": 0, "byteOffset": s, "byteLength": len(p)} for s, p in zip(starts, parts, strict=False)], "buffers": [{"byteLength": starts[-1]}],
    }  # fmt: skip
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body = b"".join(p + bytes(-len(p) % 4) for p in parts)
    head = struct.pack("<III", 0x46546C67, 2, 28 + len(text) + len(body))
    return head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(body), 0x004E4942) + body


@pytest.mark.parametrize("ending", ["glb", "dae", "usdc"])
def test_a_mesh_gets_no_channel_because_another_has_one(ending: str) -> None:
    made, _ = converted({"a.glb": glb_of([[0, 1], [0]])}, "a.glb", ending)
    again = formats.read(made[f"out.{ending}"], f"out.{ending}", 1.0, made)
    assert sorted(len(m.channels) for m in again.meshes) == [1, 2]


TWICE = {
    "baseColorTexture": {"rotation": 0.4, "scale": [2.0, 0.7], "offset": [0.1, 0.2]},
    "occlusionTexture": {"rotation": -0.9, "scale": [0.6, 1.9], "offset": [0.3, 0.05]},
}


@pytest.mark.parametrize("ending", ["glb", "usdc"])
def test_pictures_that_are_moved_in_several_ways_all_are(ending: str) -> None:
    """Where every corner reads each picture, by KHR_texture_transform's own formula; the second one was lost without a word."""
    source = {"a.glb": glb_of([[0]], TWICE)}
    made, notes = converted(source, "a.glb", ending)
    again = formats.read(made[f"out.{ending}"], f"out.{ending}", 1.0, made)
    mesh = again.meshes[0]
    place = {tuple(np.round(p, 6)) for p in mesh.positions[:, :2].tolist()}
    assert len(place) == 4
    for kind, how in (("base colour", TWICE["baseColorTexture"]), ("occlusion", TWICE["occlusionTexture"])):
        texture = again.materials[0].maps[kind]
        channel = mesh.channels[texture.channel]
        read = placed_uvs(channel.uvs[channel.triangles.reshape(-1)], texture.placed)
        for (x, y, _), uv in zip(mesh.positions[mesh.triangles.reshape(-1)].tolist(), read.tolist(), strict=True):
            (sx, sy), (ox, oy), r = how["scale"], how["offset"], how["rotation"]  # type: ignore[misc]
            u, v = sx * x, sy * y  # type: ignore[has-type]
            c, s = np.cos(r), np.sin(r)
            # translation * rotation * scale, with v downward; the sample renderer turns by (c, s; -s, c), see `gltf.materials`
            assert uv == pytest.approx([c * u + s * v + ox, 1 - (-s * u + c * v + oy)], abs=2e-6)  # type: ignore[has-type]
    assert any("occlusion map is stretched after it was turned" in n for n in notes)


def test_what_is_added_to_a_colour_is_added_to_its_light() -> None:
    """USD's scale and bias act on light: a reader decodes the picture first (UsdPreviewSurface, UsdUVTexture). It was dropped on the way to GLB (38 of 255)."""
    text = """#usda 1.0
(
    defaultPrim = "A"
    metersPerUnit = 1
)
def Xform "A" {
    def Mesh "M" (prepend apiSchemas = ["MaterialBindingAPI"]) {
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
        texCoord2f[] primvars:st = [(0, 0), (1, 0), (0, 1)] (interpolation = "vertex")
        rel material:binding = </A/Look>
    }
    def Material "Look" {
        token outputs:surface.connect = </A/Look/S.outputs:surface>
        def Shader "S" {
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor.connect = </A/Look/T.outputs:rgb>
            token outputs:surface
        }
        def Shader "T" {
            uniform token info:id = "UsdUVTexture"
            asset inputs:file = @cloth.png@
            float4 inputs:scale = (0.5, 0.5, 0.5, 1)
            float4 inputs:bias = (0.2, 0.1, 0, 0)
            float3 outputs:rgb
        }
    }
}
"""
    made, _ = converted({"a.usda": text.encode(), "cloth.png": picture("RGB", (128, 128, 128))}, "a.usda", "glb")
    light = ((128 / 255 + 0.055) / 1.055) ** 2.4
    expected = [255 * (1.055 * (0.5 * light + b) ** (1 / 2.4) - 0.055) for b in (0.2, 0.1, 0.0)]
    g = pygltflib.GLTF2.load_from_bytes(made["out.glb"])
    factor = g.materials[0].pbrMetallicRoughness.baseColorFactor or [1, 1, 1, 1]
    assert factor[:3] == [1, 1, 1]
    assert np.asarray(image_of(made["out.glb"]))[0, 0].tolist() == pytest.approx(expected, abs=0.51)


def test_usd_core_finds_the_channel_of_a_skewed_picture(tmp_path: Path) -> None:
    made, _ = converted({"a.glb": glb_of([[0]], TWICE)}, "a.glb", "usda")
    for name, body in made.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(body)
    stage = Usd.Stage.Open(str(tmp_path / "out.usda"))
    names = {
        UsdShade.Shader(p).GetInput("varname").Get()
        for p in stage.Traverse()
        if p.GetTypeName() == "Shader" and UsdShade.Shader(p).GetInput("varname")
    }
    assert names == {"st", "st1"}
