"""OBJ: what the readers of the trade accept, and that writing changes nothing but UVs."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.errors import FileError
from quilt_core.formats.obj.scan import scan
from quilt_core.uv.analysis import analyse, transform_rows
from tests.shapes import PLANE, grid_obj


def read(data: bytes) -> formats.Scene:
    return formats.read(data, "a.obj")


@pytest.mark.parametrize("newline", [b"\n", b"\r\n", b"\r"])
def test_any_line_end(newline: bytes) -> None:
    scene = read(PLANE.replace(b"\n", newline))
    assert len(scene.meshes[0].triangles) == 2
    assert scene.objects[0].name == "plane"


def test_negative_indices_mean_the_last_ones() -> None:
    relative = PLANE.replace(b"f 1/1 2/2 3/3 4/4", b"f -4/-4 -3/-3 -2/-2 -1/-1")
    a, b = read(PLANE).meshes[0], read(relative).meshes[0]
    assert np.array_equal(a.positions, b.positions) and np.array_equal(a.triangles, b.triangles)


def test_a_concave_polygon_keeps_its_area() -> None:
    """An L of three unit squares: the arithmetic area is 3, a fan from its first corner would give more."""
    corners = [(2, 1), (1, 1), (1, 2), (0, 2), (0, 0), (2, 0)]
    text = "\n".join([f"v {x} {y} 0" for x, y in corners] + ["f 1 2 3 4 5 6"]).encode()
    mesh = read(text).meshes[0]
    p = mesh.positions[mesh.triangles]
    areas = 0.5 * np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2]
    assert areas.sum() == pytest.approx(3) and (areas * np.sign(areas.sum()) >= 0).all()


def test_groups_are_objects_only_without_o_lines() -> None:
    squares = b"v 0 0 0\nv 1 0 0\nv 0 1 0\ng one\nf 1 2 3\ng two\nf 3 2 1\ng one\nf 2 3 1\n"
    assert [o.name for o in read(squares).objects] == ["one", "two"]
    assert [o.name for o in read(b"o all\n" + squares).objects] == ["all"]


def test_faces_without_uvs_are_told_apart() -> None:
    text = PLANE + b"v 5 0 0\nf 1 2 5\n"
    channel = read(text).meshes[0].channels[0]
    assert (channel.triangles < 0).all(axis=1).tolist() == [False, False, True]


@pytest.mark.reference("Numbers in OBJ files", "Python's float")
@given(st.floats(allow_nan=False, allow_infinity=False, width=64))
def test_numbers_are_read_like_python_reads_them(x: float) -> None:
    """Python's float() is the reference: it rounds correctly."""
    for text in (repr(x), f"{x:.6f}", f"{x:e}", f"{x:+.17g}"):
        assert scan(f"v {text} 0 0\n".encode()).v[0, 0] == float(text)


@pytest.mark.parametrize(
    ("bad", "place"),
    [(b"f 1/1 2/2 9/3", "line 11"), (b"f 1/1 2/2 x/3", "line 11"), (b"f 1/1 2/2 0", "line 11"), (b"f 1/1 2/2 3/77", "line 11")],
)
def test_an_error_names_the_line(bad: bytes, place: str) -> None:
    with pytest.raises(FileError, match=place):
        read(PLANE.replace(b"f 1/1 2/2 3/3 4/4", bad))


@pytest.mark.parametrize("value", [b"nan", b"inf", b"1e999", b"--3", b"abc"])
def test_a_coordinate_must_be_a_finite_number(value: bytes) -> None:
    with pytest.raises(FileError, match="line 3"):
        read(PLANE.replace(b"v 0 0 0", b"v " + value + b" 0 0"))


def test_writing_the_same_uvs_changes_no_byte() -> None:
    scene = read(PLANE)
    assert formats.write(scene, {0: scene.meshes[0].channels[0].uvs}) == {"": PLANE}


def test_writing_touches_only_vt_lines() -> None:
    text = PLANE.replace(b"f 1/1", b"s 1 # smooth\nvn 0 0 1\nf 1/1").replace(b"\n", b"\r\n")
    scene = read(text)
    new = formats.write(scene, {0: scene.meshes[0].channels[0].uvs * 0.5})[""]
    kept = [a for a in text.split(b"\r\n") if not a.startswith(b"vt")]
    assert [a for a in new.split(b"\r\n") if not a.startswith(b"vt")] == kept
    assert read(new).meshes[0].channels[0].uvs.max() == 0.5


@pytest.mark.parametrize("relative", [False, True])
def test_a_shared_vt_is_parted_when_its_islands_part(relative: bool) -> None:
    """Two loose triangles use the same three vt lines; only one of them moves."""
    text = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 5 0 0\nv 6 0 0\nv 5 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nf 1/1 2/2 3/3\nf 4/1 5/2 6/3\n"
    if relative:
        text = text.replace(b"f 4/1 5/2 6/3", b"f -3/-3 -2/-2 -1/-1")
    scene = read(text)
    piece = analyse(scene, 0)[0]
    assert piece is not None and piece.islands.count == 2
    table = np.array([[0, 1, 1, 0, 0], [0, 1, 0.5, 3, 3]], float)
    wanted = transform_rows(piece.uvs, piece.islands.of_row, table)
    again = read(formats.write(scene, {0: wanted})[""])
    rows, old = again.meshes[0].channels[0], scene.meshes[0].channels[0]
    assert np.allclose(rows.uvs[rows.triangles], wanted[old.triangles], atol=1e-9)


def test_utf16_comes_back_as_utf16() -> None:
    data = b"\xfe\xff" + PLANE.decode().encode("utf-16-be")
    scene = read(data)
    assert formats.write(scene, {0: scene.meshes[0].channels[0].uvs})[""] == data


@settings(max_examples=150, deadline=None)
@given(st.binary(max_size=400), st.integers(0, len(PLANE)), st.booleans())
def test_any_bytes_give_a_scene_or_a_clear_error(noise: bytes, at: int, mixed: bool) -> None:
    data = PLANE[:at] + noise + PLANE[at:] if mixed else noise
    try:
        scene = read(data)
    except FileError as e:
        assert str(e).startswith("a.obj: ")
    else:
        formats.write(scene, {i: m.channels[0].uvs for i, m in enumerate(scene.meshes) if 0 in m.channels})


def test_many_objects_share_one_vt_table() -> None:
    scene = read(grid_obj(3) + b"o other\nf 1/1 2/2 3/3\n")
    assert [o.name for o in scene.objects] == ["squares", "other"]
    assert len(scene.meshes[1].channels[0].uvs) == 3
