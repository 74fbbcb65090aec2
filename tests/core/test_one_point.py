"""What is one point and one island: rounding parts nothing, and what was laid on its neighbour is an island of its own."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.model.points import points_of
from quilt_core.model.scene import Mesh, UvChannel
from quilt_core.uv.analysis import analyse
from quilt_core.uv.islands import find_islands
from tests.core.test_cli import run


def obj(points: object, uvs: object, faces: list[list[tuple[int, int]]]) -> bytes:
    out = io.StringIO()
    for p in np.asarray(points, float).tolist():
        out.write("v {!r} {!r} {!r}\n".format(*p))
    for t in np.asarray(uvs, float).tolist():
        out.write("vt {!r} {!r}\n".format(*t))
    for face in faces:
        out.write("f " + " ".join(f"{v + 1}/{t + 1}" for v, t in face) + "\n")
    return out.getvalue().encode()


def islands(data: bytes) -> int:
    found = analyse(formats.read(data, "a.obj"), 0)[0]
    assert found is not None
    return found.islands.count


def lathe(steps: int = 24, rings: int = 6) -> bytes:
    """A bowl as programs write it: the last point of each ring is at sin(2 pi), which is not 0."""
    points = [
        (r * np.cos(a), r * np.sin(a), (r / 2) ** 2) for r in np.linspace(0.5, 3, rings) for a in np.linspace(0, 2 * np.pi, steps + 1)
    ]
    faces = [[i * (steps + 1) + k + d for d in (0, 1, steps + 2, steps + 1)] for i in range(rings - 1) for k in range(steps)]
    text = "o bowl\n" + "".join("v {!r} {!r} {!r}\n".format(*map(float, p)) for p in points)
    return (text + "".join("f " + " ".join(str(v + 1) for v in f) + "\n" for f in faces)).encode()


def test_what_was_unwrapped_is_proven_as_it_was_counted(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """`unwrap` joined positions that only rounding keeps apart, `verify` counted them exactly: "smallest gap 0.000 px"."""
    (tmp_path / "bowl.obj").write_bytes(lathe())
    code, found = run(capsys, "unwrap", tmp_path / "bowl.obj", "--out", tmp_path / "out", "--json")
    assert code == 0
    made = found["objects"][0]["now"]["islands"]
    assert islands((tmp_path / "out/bowl.obj").read_bytes()) == made
    assert run(capsys, "verify", tmp_path / "out/bowl.obj", "--padding", "4", "--json")[0] == 0


SQUARE = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0.0000001, 0, 0), (1, 1.0000001, 0), (0, 1, 0)]
CORNERS = [(0.1, 0.1), (0.5, 0.1), (0.5, 0.5), (0.1, 0.5)]


def test_duplicate_vertices_split_no_island() -> None:
    """Two triangles of a square whose shared corners are twice there, apart by the rounding of 32 bits; and by a tenth."""
    faces = [[(0, 0), (1, 1), (2, 2)], [(3, 0), (4, 2), (5, 3)]]
    assert islands(obj(SQUARE, CORNERS, faces)) == 1
    assert islands(obj([*SQUARE[:3], (0.1, 0, 0), (1, 1.1, 0), SQUARE[5]], CORNERS, faces)) == 2


def test_small_triangles_are_not_collapsed_into_points() -> None:
    tiny = np.array([(0, 0, 0), (1e-7, 0, 0), (0, 1e-7, 0), (1, 0, 0), (1, 1, 0)], float)
    assert len(set(points_of(tiny, np.array([[0, 1, 2], [0, 3, 4]])).tolist())) == 5


# Two squares side by side: the left one's UVs, and the right one's as its mirror image on it, with rows of its own or those of the left.
PAIR = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)]
LEFT = [(0, 0), (1, 1), (2, 2), (3, 3)]


def test_a_half_that_was_laid_on_the_other_is_an_island_of_its_own() -> None:
    """`pack --stack`: what it stacked was one island that overlaps itself, since both halves have the mirror edge's corners and UVs."""
    own = obj(PAIR, CORNERS + CORNERS, [LEFT, [(1, 5), (4, 4), (5, 7), (2, 6)]])
    assert islands(own) == 2
    folded = obj(PAIR, CORNERS, [LEFT, [(1, 1), (4, 0), (5, 3), (2, 2)]])
    assert islands(folded) == 1, "rows that are shared cannot be moved apart"
    beside = obj(PAIR, [*CORNERS, (0.9, 0.1), (0.9, 0.5), (0.5, 0.1), (0.5, 0.5)], [LEFT, [(1, 6), (4, 4), (5, 5), (2, 7)]])
    assert islands(beside) == 1, "neighbours with rows of their own are one island"


def test_both_sides_of_a_leaf_are_two_islands() -> None:
    """A sheet of two quads and its back, wound the other way, with rows of its own in the same place."""
    wide = [(0.1, 0.1), (0.5, 0.1), (0.5, 0.5), (0.1, 0.5), (0.9, 0.1), (0.9, 0.5)]
    right = [(1, 1), (4, 4), (5, 5), (2, 2)]
    back = [[(v, t + 6) for v, t in reversed(face)] for face in (LEFT, right)]
    assert islands(obj(PAIR, wide + wide, [LEFT, right, *back])) == 2
    # Every face with rows of its own, as for flat shading: the edge inside has four faces.
    rows = [wide[t] for face in (LEFT, right, *back) for _, t in [(v, t % 6) for v, t in face]]
    faces = [[(v, 4 * n + k) for k, (v, _) in enumerate(face)] for n, face in enumerate((LEFT, right, *back))]
    assert islands(obj(PAIR, rows, faces)) == 2


@given(st.integers(0, 10_000))
@settings(max_examples=60, deadline=None)
def test_rows_of_their_own_part_nothing_that_lies_side_by_side(seed: int) -> None:
    """A grid with random seams (rows moved away): the same islands whether its corners share rows or each has its own."""
    chance = np.random.default_rng(seed)
    n = int(chance.integers(2, 7))
    at = np.array([(x, y) for y in range(n + 1) for x in range(n + 1)], float)
    cells = np.array([(y * (n + 1) + x) for y in range(n) for x in range(n)])
    tri = np.concatenate([np.stack([cells, cells + 1, cells + n + 2], 1), np.stack([cells, cells + n + 2, cells + n + 1], 1)])
    part = chance.integers(0, 3, len(tri))
    values, number = np.unique(np.column_stack([tri.reshape(-1), np.repeat(part, 3)]), axis=0, return_inverse=True)
    uv = at[values[:, 0]] / 10 + values[:, 1:] * [2.0, 0]
    shared = number.reshape(-1, 3)
    mesh = Mesh("grid", np.column_stack([at, np.zeros(len(at))]), tri.astype(np.int32), np.zeros(len(tri), np.int32), {})
    one = find_islands(mesh, UvChannel(uv, shared.astype(np.int32)))
    each = find_islands(mesh, UvChannel(uv[shared].reshape(-1, 2), np.arange(3 * len(tri), dtype=np.int32).reshape(-1, 3)))
    assert one.of_triangle.tolist() == each.of_triangle.tolist()
