"""PLY in and out, checked with trimesh (a general-purpose mesh library) and with real files of assimp's test models."""

from __future__ import annotations

import io

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.delivery.report import analyse_all, pieces_of
from quilt_core.errors import FileError
from tests.real_files import path

CORNERS = b"""ply
format ascii 1.0
comment made by hand
comment TextureFile crate.png
comment TextureFile lid.png
element vertex 5
property float x
property float y
property float z
property uchar red
element face 2
property list uchar int vertex_indices
property list uchar float texcoord
property int texnumber
end_header
0 0 0 9
1 0 0 9
1 1 0 9
0 1 0 9
0.5 2 0 7
4 0 1 2 3 8 0 0 .5 0 .5 .5 0 .5 0
3 3 2 4 6 .6 .6 .9 .6 .7 .9 1
"""


def test_uvs_at_the_corners_of_faces() -> None:
    scene = formats.read(CORNERS, "crate.ply", 0.01)
    mesh = scene.meshes[0]
    assert [m.images for m in scene.materials] == [{"TextureFile": "crate.png"}, {"TextureFile": "lid.png"}]
    assert mesh.materials.tolist() == [0, 0, 1] and scene.references == ["crate.png", "lid.png"]
    assert mesh.polygons is not None and np.diff(mesh.polygons.faces).tolist() == [4, 3]
    assert scene.objects[0].world[0, 0] == 0.01
    assert [p.islands.count for p in pieces_of(analyse_all([scene], 0))] == [2], "the seam between the faces parts them"
    moved = mesh.channels[0].uvs * 0.5 + 0.25
    written = formats.write(scene, {0: moved})[""]
    again = formats.read(written, "crate.ply").meshes[0]
    wanted = moved[mesh.channels[0].triangles]
    assert np.abs(again.channels[0].uvs[again.channels[0].triangles] - wanted).max() < 1e-7
    assert b"comment made by hand" in written and b"\n0.5 2 0 7" in written and b"property int texnumber" in written


@pytest.mark.reference("PLY that is written, a real file", "trimesh")
def test_a_real_file_keeps_all_but_its_uvs_and_trimesh_reads_them() -> None:
    data = path("assimp", "PLY/cube_uv.ply").read_bytes()
    scene = formats.read(data, "cube_uv.ply")
    mesh = scene.meshes[0]
    before = trimesh.load(io.BytesIO(data), file_type="ply", process=False)
    assert mesh.positions == pytest.approx(before.vertices) and len(mesh.triangles) == len(before.faces)
    written = formats.write(scene, {0: mesh.channels[0].uvs * 0.5})[""]
    after = trimesh.load(io.BytesIO(written), file_type="ply", process=False)
    found = after.metadata["_ply_raw"]["vertex"]["data"]
    assert np.column_stack([found["s"], found["t"]]).reshape(-1, 2) == pytest.approx(mesh.channels[0].uvs * 0.5, abs=1e-6)
    assert after.vertices == pytest.approx(before.vertices) and found["nx"] == pytest.approx(
        before.metadata["_ply_raw"]["vertex"]["data"]["nx"]
    )


def test_a_binary_file_stays_binary() -> None:
    box = trimesh.creation.box()
    box.visual = trimesh.visual.TextureVisuals(uv=np.random.default_rng(0).random((8, 2)))
    data = trimesh.exchange.ply.export_ply(box, encoding="binary")
    scene = formats.read(data, "box.ply")
    written = formats.write(scene, {0: scene.meshes[0].channels[0].uvs * 0.5})[""]
    assert written.startswith(b"ply\nformat binary_little_endian 1.0") and len(written) == len(data)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"plx", "not a PLY file"),
        (CORNERS.replace(b"vertex 5", b"vertex 50000000000"), "50000000000 of 'vertex'"),
        (CORNERS.replace(b"vertex 5", b"vertex -5"), "-5 of 'vertex'"),
        (CORNERS.replace(b"4 0 1 2 3 8", b"4 0 1 2 9 8"), "face 1: it names vertex 9 of 5"),
        (CORNERS.replace(b"0.5 2 0 7", b"nan 2 0 7"), "vertex 5: a position is not a number"),
        (CORNERS.replace(b"3 3 2 4 6 .6 .6 .9 .6 .7 .9 1", b"3 3 2 4 4 .6 .6 .9 .6 1"), "face 2: 'texcoord' has 4 numbers for 3 corners"),
        (CORNERS.replace(b"0 0 .5 0", b"inf 0 .5 0"), "a UV is not a number"),
        (CORNERS[:-30], "cannot be read as PLY"),
        (CORNERS.replace(b"float x", b"float w"), "have no x, y and z"),
    ],
)
def test_bad_files_say_what_and_where(data: bytes, words: str) -> None:
    with pytest.raises(FileError, match=words.replace("'", ".")):
        formats.read(data, "bad.ply")


@settings(max_examples=150, deadline=None, derandomize=True)  # a wider search was run by hand
@given(st.data())
def test_damaged_files_end_in_an_error_of_ours_or_in_a_scene(data: st.DataObject) -> None:
    body = bytearray(CORNERS)
    for _ in range(data.draw(st.integers(1, 4))):
        body[data.draw(st.integers(0, len(body) - 1))] = data.draw(st.integers(0, 255))
    try:
        formats.read(bytes(body), "damaged.ply")
    except FileError as e:
        assert "damaged.ply" in str(e)


def test_real_broken_files_are_refused() -> None:
    for name in ("Wuson", "pond.0", "issue623", "points"):
        with pytest.raises(FileError):
            formats.read(path("assimp", f"PLY/{name}.ply").read_bytes(), f"{name}.ply")
