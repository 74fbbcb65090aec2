"""What an attack on the running program found, one by one: each ended in an error that was not ours, and ends in words or in a sound scene now."""

from __future__ import annotations

import json

import numpy as np
import pytest
import shapely

from quilt_core import formats
from quilt_core.arrange.sheet import pack_sheet
from quilt_core.delivery import report
from quilt_core.errors import FileError, QuiltError
from quilt_core.formats.polygons import triangulate
from quilt_core.pack.recipe import Recipe
from tests.shapes import PLANE, gltf_plane

from .bombs import SQUARE, gltf


def with_mtl(text: bytes) -> formats.Both:
    return formats.Both({"a.mtl": text}, {})


@pytest.mark.parametrize(
    "line",
    [
        b"Kd 0.5",
        b"Kd .",
        b"Kd . . .",
        b"Kd 1.2.3 0 0",
        b"Kd",
        b"Ns -",
        b"d e",
        b"Kd nan inf 1e999",
        b"map_Kd",
        b"map_Kd -o",
        b"map_Kd -s 1 2",
    ],
)
def test_an_odd_statement_of_a_library_spoils_nothing(line: bytes) -> None:
    body = b"mtllib a.mtl\n" + PLANE.replace(b"\nf ", b"\nusemtl wood\nf ", 1)
    scene = formats.read(body, "a.obj", 1.0, with_mtl(b"newmtl wood\n" + line + b"\n"))
    assert len(scene.meshes[0].triangles) == 2 and [m.name for m in scene.materials] == ["wood"]
    assert scene.materials[0].colour is None or np.isfinite(scene.materials[0].colour).all()


@pytest.mark.parametrize("value", [False, -1, 99, "0", None, 1.5, [0]])
def test_a_texture_of_an_odd_source_is_left_out_or_told(value: object) -> None:
    material = {"name": "a", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}
    meshes = [{"primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 1}, "material": 0}]}]
    data = gltf(materials=[material], textures=[{"source": value}], images=[{"uri": "w.png"}], meshes=meshes)
    try:
        assert formats.read(data, "a.gltf").objects
    except FileError as e:
        assert "a.gltf" in str(e)


@pytest.mark.parametrize("place", ["1e19", "1e38", "3.4e38", "-1e30", "nan", "inf"])
@pytest.mark.parametrize("what", ["v", "vt"])
def test_numbers_too_large_to_compute_with_are_told_with_their_place(what: str, place: str) -> None:
    body = SQUARE.replace(b"v 1 1 0", f"v {place} 1 0".encode()) if what == "v" else SQUARE.replace(b"vt 1 1", f"vt {place} 1".encode())
    with pytest.raises(FileError, match=r"a\.obj"):
        formats.read(body + b"f 1/1 2/2 3/3 4/4\n", "a.obj")


def test_a_placing_too_far_out_is_told() -> None:
    with pytest.raises(FileError, match=r"its place is 1e\+15"):
        formats.read(gltf_plane([{"mesh": 0, "translation": [1e15, 0, 0], "name": "far"}]), "a.gltf")


def test_meshes_of_nothing_but_lines_and_points_are_measured_and_told() -> None:
    body = SQUARE + b"f 1/1 1/1 1/1\nf 1/1 2/2 1/1\nf 2/2 2/2 3/3\n"
    scene = formats.read(body, "a.obj")
    figures = report.inspect_report([scene], 0, 256)
    assert figures["faults"]["zero_area"] == 3
    pieces = report.pieces_of(report.analyse_all([scene], 0))
    with pytest.raises(QuiltError, match="no area in the UV plane"):
        pack_sheet(pieces, Recipe(256, 1.0, 1.0, seconds=0.2, passes=1))


@pytest.mark.parametrize("name", ["\ud800", "a\x1b[2Jb", "x" * 5_000, "a\nb"])
def test_names_come_in_as_they_can_be_shown(name: str) -> None:
    data = gltf(nodes=[{"mesh": 0, "name": name}])
    scene = formats.read(data, "a.gltf")
    (o,) = scene.objects
    assert o.name.isprintable() and len(o.name) < 1_100 and o.name.encode()
    uvs = {0: scene.meshes[0].channels[0].uvs * 0.5}
    assert json.loads(formats.write(scene, uvs, 0)[""])["nodes"][0]["name"] == name, "the file keeps its own"


@pytest.mark.parametrize("px", [1e-320, 1e-9, 5e-324])
def test_a_gap_that_is_none_is_refused_in_words(px: float) -> None:
    with pytest.raises(ValueError, match=r"at least 0\.001 px"):
        Recipe(256, px, 1.0)
    with pytest.raises(ValueError, match=r"at least 0\.001 px"):
        Recipe(256, 1.0, px)
    assert Recipe(256, 0.0, 0.0).padding_px == 0


@pytest.mark.parametrize("shape", ["round", "star", "comb", "spiral"])
@pytest.mark.parametrize("corners", [400, 3_000])
def test_faces_of_many_corners_are_cut_as_their_area_says(shape: str, corners: int) -> None:
    """Against shapely's area; and no triangle is turned over."""
    k = np.arange(corners)
    angle = k * 2 * np.pi / corners
    if shape == "comb":
        flat = np.concatenate([np.column_stack([k, np.where(k % 2, 1.0, 0.1)])[::-1], [[0, -1], [corners - 1, -1]]])
    elif shape == "spiral":
        turn = k[: corners // 2] * 0.05
        out = np.column_stack([np.cos(turn), np.sin(turn)]) * (1 + turn)[:, None]
        flat = np.concatenate([out, (out * ((1.5 + turn) / (1 + turn))[:, None])[::-1]])[::-1]
    else:
        radius = 1.0 if shape == "round" else np.where(k % 2, 1.0, 0.5 + 0.4 * np.sin(k))
        flat = np.column_stack([np.cos(angle), np.sin(angle)]) * np.broadcast_to(radius, corners)[:, None]
    points = np.column_stack([flat, np.zeros(len(flat))])
    triangles, face_of = triangulate(points, np.array([0, len(points)]))
    assert len(triangles) == len(points) - 2 and not face_of.any()
    q = flat[triangles]
    a, b = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    doubled = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    polygon = shapely.Polygon(flat)
    assert polygon.is_valid
    sign = 1 if shapely.is_ccw(polygon.exterior) else -1
    assert (doubled * sign >= -1e-12).all() and doubled.sum() * sign / 2 == pytest.approx(polygon.area)
