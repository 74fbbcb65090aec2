"""Small files that ask for much: by name, what each is called and holds, and what came along with it. Made up here after the formats' own specifications."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator

Bomb = tuple[str, bytes, dict[str, bytes]]
BOMBS: dict[str, Callable[[], Bomb]] = {}


def bomb(make: Callable[[], Bomb]) -> Callable[[], Bomb]:
    """Keep a bomb under its function's name."""
    BOMBS[make.__name__] = make
    return make


def every() -> Iterator[tuple[str, Bomb]]:
    """All of them, made one by one."""
    for name, make in BOMBS.items():
        yield name, make()


SQUARE = b"v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n"


@bomb
def mtl_with_long_numbers() -> Bomb:
    text = b"newmtl a\nmap_Kd -o " + b" ".join(b"1" * 400 for _ in range(3)) + b" x.png\n"
    return "a.obj", b"mtllib a.mtl\n" + SQUARE + b"usemtl a\nf 1/1 2/2 3/3\n", {"a.mtl": text * 400}


@bomb
def mtl_of_dashes() -> Bomb:
    text = b"newmtl a\nmap_Kd " + b"-o 1 " * 60_000 + b"x.png\n"
    return "a.obj", b"mtllib a.mtl\n" + SQUARE + b"usemtl a\nf 1/1 2/2 3/3\n", {"a.mtl": text}


@bomb
def material_changes() -> Bomb:
    faces = b"".join(b"usemtl m%d\nf 1/1 2/2 3/3\n" % (k % 30_000) for k in range(150_000))
    return "a.obj", SQUARE + faces, {}


@bomb
def group_changes() -> Bomb:
    return "a.obj", SQUARE + b"".join(b"o g%d\nf 1/1 2/2 3/3\n" % k for k in range(20_000)), {}


@bomb
def one_number_of_megabytes() -> Bomb:
    return "a.obj", b"v " + b"1" * 20_000_000 + b" 0 0\n" + SQUARE + b"f 1/1 2/2 3/3\n", {}


@bomb
def index_of_many_digits() -> Bomb:
    return "a.obj", SQUARE + b"f " + b"1" * 4_300 + b"/1 2/2 3/3\n", {}


@bomb
def polygon_of_many_corners() -> Bomb:
    import math

    n = 40_000
    lines = [b"v %f %f 0\nvt %f %f" % (*(p := (math.cos(k * 6.28318 / n), math.sin(k * 6.28318 / n))), *p) for k in range(n)]
    return "a.obj", b"\n".join(lines) + b"\nf " + b" ".join(b"%d/%d" % (k, k) for k in range(1, n + 1)) + b"\n", {}


@bomb
def star_of_many_corners() -> Bomb:
    import math

    n = 30_000
    lines = []
    for k in range(n):
        r = 1.0 if k % 2 else 0.5 + 0.4 * math.sin(k)
        lines.append(b"v %f %f 0\nvt %f %f" % ((x := r * math.cos(k * 6.28318 / n)), (y := r * math.sin(k * 6.28318 / n)), x, y))
    return "a.obj", b"\n".join(lines) + b"\nf " + b" ".join(b"%d/%d" % (k, k) for k in range(1, n + 1)) + b"\n", {}


def gltf(**more: object) -> bytes:
    """A glTF of one triangle with other parts."""
    body = struct.pack("<9f6f", 0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 0, 1, 0, 1, 1)
    import base64

    parts: dict[str, object] = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 1}}]}],
        "buffers": [{"byteLength": len(body), "uri": "data:application/octet-stream;base64," + base64.b64encode(body).decode()}],
        "bufferViews": [{"buffer": 0, "byteOffset": 0, "byteLength": 36}, {"buffer": 0, "byteOffset": 36, "byteLength": 24}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0]},
            {"bufferView": 1, "componentType": 5126, "count": 3, "type": "VEC2"},
        ],
    }  # fmt: skip
    return json.dumps(parts | more).encode()


@bomb
def accessor_without_bytes() -> Bomb:
    accessors = [
        {"componentType": 5126, "count": 150_000_000, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0]},
        {"componentType": 5126, "count": 150_000_000, "type": "VEC2"},
    ]
    return "a.gltf", gltf(accessors=accessors), {}


@bomb
def sparse_accessor_of_millions() -> Bomb:
    plain = json.loads(gltf())
    sparse = {"count": 1, "indices": {"bufferView": 0, "componentType": 5125}, "values": {"bufferView": 0}}
    plain["accessors"][0] |= {"count": 200_000_000, "sparse": sparse}
    del plain["accessors"][0]["bufferView"]
    return "a.gltf", json.dumps(plain).encode(), {}


@bomb
def chain_of_nodes() -> Bomb:
    n = 20_000
    nodes = [{"children": [k + 1], "name": "n"} for k in range(n - 1)] + [{"mesh": 0}]
    return "a.gltf", gltf(nodes=nodes), {}


@bomb
def many_flat_nodes() -> Bomb:
    n = 20_000
    return "a.gltf", gltf(nodes=[{"mesh": 0, "name": "n"} for _ in range(n)], scenes=[{"nodes": list(range(n))}]), {}


@bomb
def many_meshes() -> Bomb:
    n = 3_000
    mesh = {"primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 1}}]}
    return "a.gltf", gltf(nodes=[{"mesh": k} for k in range(n)], meshes=[mesh] * n, scenes=[{"nodes": list(range(n))}]), {}


@bomb
def many_primitives() -> Bomb:
    part = {"attributes": {"POSITION": 0, "TEXCOORD_0": 1}}
    return "a.gltf", gltf(meshes=[{"primitives": [part] * 30_000}]), {}


@bomb
def deep_extras() -> Bomb:
    deep = "[" * 700 + "]" * 700
    return "a.gltf", gltf()[:-1] + b', "extras": ' + deep.encode() + b"}", {}


@bomb
def very_deep_json() -> Bomb:
    return "a.gltf", gltf()[:-1] + b', "extras": ' + b"[" * 400_000 + b"]" * 400_000 + b"}", {}


@bomb
def integer_of_many_digits() -> Bomb:
    return "a.gltf", gltf().replace(b'"count": 3', b'"count": ' + b"3" * 4_400, 1), {}


@bomb
def usd_nested_instances() -> Bomb:
    out = ["#usda 1.0\n(metersPerUnit = 1)\n"]
    mesh = "int[] faceVertexCounts = [3]\nint[] faceVertexIndices = [0, 1, 2]\npoint3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]\n"
    out.append(f'class "c0"\n{{\ndef Mesh "m"\n{{\n{mesh}}}\n}}\n')
    for k in range(1, 21):
        two = "".join(f'def "{n}" (\ninstanceable = true\nprepend references = </c{k - 1}>\n)\n{{\n}}\n' for n in "ab")
        out.append(f'class "c{k}"\n{{\n{two}}}\n')
    out.append('def "top" (\nprepend references = </c20>\n)\n{\n}\n')
    return "a.usda", "".join(out).encode(), {}


@bomb
def usdc_with_other_bytes() -> Bomb:
    """A crate whose table of contents was overwritten here and there."""
    import random
    import tempfile
    from pathlib import Path

    from pxr import Usd, UsdGeom, Vt

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.usdc"
        stage = Usd.Stage.CreateNew(str(path))
        mesh = UsdGeom.Mesh.Define(stage, "/m")
        mesh.CreatePointsAttr([(0, 0, 0)] * 40)
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray([3] * 40))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray(list(range(40)) * 3))
        stage.Save()
        del stage, mesh
        data = bytearray(path.read_bytes())
    chance = random.Random(5)
    for _ in range(12):
        data[chance.randrange(len(data) // 2, len(data))] = chance.choice((0x7F, 0xFF, 0x3F))
    return "a.usdc", bytes(data), {}


@bomb
def ply_of_a_large_count() -> Bomb:
    head = b"ply\nformat binary_little_endian 1.0\nelement vertex 400000000\nproperty float x\nproperty float y\nproperty float z\n"
    return "a.ply", head + b"element face 1\nproperty list uchar int vertex_indices\nend_header\n" + bytes(64), {}


@bomb
def ply_list_of_a_large_count() -> Bomb:
    head = b"ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
    body = struct.pack("<9f", 0, 0, 0, 1, 0, 0, 0, 1, 0) + struct.pack("<I", 4_000_000_000) + bytes(64)
    return "a.ply", head + b"element face 1\nproperty list uint int vertex_indices\nend_header\n" + body, {}


@bomb
def dae_with_entities() -> Bomb:
    lines = ['<!ENTITY a0 "aaaaaaaaaaaaaaaaaaaa">'] + [f'<!ENTITY a{k} "{f"&a{k - 1};" * 10}">' for k in range(1, 10)]
    text = f'<?xml version="1.0"?><!DOCTYPE x [{"".join(lines)}]><COLLADA version="1.4.1"><asset><title>&a9;</title></asset></COLLADA>'
    return "a.dae", text.encode(), {}


@bomb
def dae_chain_of_nodes() -> Bomb:
    n = 20_000
    text = '<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1"><library_visual_scenes><visual_scene id="s">'
    text += (
        "<node>" * n + "</node>" * n + '</visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>'
    )
    return "a.dae", text.encode(), {}


def zeros(megabytes: int) -> bytes:
    """A zip with a mesh, and a file of zeros beside it."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("a.obj", SQUARE + b"f 1/1 2/2 3/3\n")
        with z.open("zeros.bin", "w") as f:
            for _ in range(megabytes):
                f.write(bytes(1 << 20))
    return out.getvalue()


def wide_png(px: int) -> bytes:
    """A black PNG of px by px: few bytes, many pixels."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    packer = zlib.compressobj(9)
    line = bytes(1 + 3 * px)
    rows = b"".join(packer.compress(line) for _ in range(px)) + packer.flush()
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", px, px, 8, 2, 0, 0, 0)) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")
    )
