"""Meshes made dirty on purpose, found and put right; trimesh judges what is left."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.formats.clean import KINDS, cleaned, found
from quilt_core.formats.model import Corners, corners_of
from quilt_core.model.scene import Floats, UvChannel

from .test_unwrap import mesh_of


def corners(points: Floats, faces: np.ndarray) -> tuple[Floats, Corners]:
    mesh = mesh_of(points, faces)
    mesh.channels[0] = UvChannel(points[:, :2].copy(), faces.astype(np.int32))
    normal = np.repeat(trimesh.Trimesh(points, faces, process=False).face_normals[:, None], 3, axis=1)
    return mesh.positions, corners_of(mesh, normal, np.arange(len(faces)))


def faces_of(c: Corners) -> np.ndarray:
    return c.position[c.triangles]


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000))
def test_a_dirty_ball_is_a_ball_again(seed: int) -> None:
    rng = np.random.default_rng(seed)
    ball = trimesh.creation.icosphere(2)
    points, faces = np.asarray(ball.vertices), np.asarray(ball.faces).copy()
    turned = rng.choice(len(faces), 20, replace=False)
    faces[turned] = faces[turned][:, ::-1]
    again = faces[rng.choice(np.setdiff1d(np.arange(len(faces)), turned), 7, replace=False)]
    again = np.array([np.roll(f, rng.integers(3)) for f in again])
    flat = np.array([[f[0], f[1], f[0]] for f in faces[:5]])
    # Every face has vertices of its own.
    every = np.concatenate([faces, again, flat])
    order = np.r_[np.arange(len(faces)), len(faces) + np.arange(12)]
    soup = points[every].reshape(-1, 3) + 1e-9 * rng.standard_normal((3 * len(every), 3))
    triangles = np.arange(3 * len(every)).reshape(-1, 3)[order]
    positions, c = corners(soup, triangles)
    f = found(positions, c)
    assert f.counts == {"doubled": 7, "flat": 5, "turned": 20, "merged": 3 * len(every) - len(points), "holes": 0}
    assert set(np.flatnonzero(f.turned)) == set(turned) and f.borders == 0 and f.parts == 1
    done = cleaned(positions, c, KINDS)
    out, counts = done.corners, done.counts
    assert counts == {k: n for k, n in f.counts.items() if n}
    back = trimesh.Trimesh(positions, faces_of(out), process=False)
    back.remove_unreferenced_vertices()
    assert back.is_watertight and back.is_winding_consistent and back.volume > 0
    assert len(back.vertices) == len(points) and len(back.faces) == len(ball.faces)
    # Normals look where their faces look, and materials and UVs went with their corners.
    p = positions[faces_of(out)]
    look = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    assert out.normal is not None and ((out.normal[out.triangles].sum(axis=1) * look).sum(axis=1) > 0).all()
    assert np.abs(out.uvs[0] - positions[out.position, :2]).max() < 1e-7
    assert np.array_equal(out.look, np.arange(len(faces)))


@pytest.mark.parametrize("kind", KINDS)
def test_only_what_is_asked_for_is_done(kind: str) -> None:
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [1, 0, 0], [2, 0, 0], [2, 1, 0.0]])
    faces = np.array([[0, 1, 2], [0, 2, 3], [0, 1, 2], [0, 1, 1], [2, 4, 6], [4, 5, 6]])
    faces[4] = [6, 4, 2]
    faces[4] = faces[4][::-1]
    positions, c = corners(points, faces)
    done = cleaned(positions, c, [kind])
    out, counts = done.corners, done.counts
    assert set(counts) <= {kind}
    same = cleaned(positions, c, [])
    assert not same.counts and np.array_equal(faces_of(same.corners), faces)
    assert len(np.diff(out.faces)) == len(faces) - (counts.get(kind, 0) if kind in ("doubled", "flat") else 0)


def test_borders_and_parts_are_counted_and_a_strip_with_one_side_stays() -> None:
    # An open tube has two borders; two of them are two parts.
    tube = trimesh.creation.cylinder(1, 2, sections=12)
    side = np.asarray(tube.faces)[np.abs(tube.face_normals[:, 2]) < 0.5]
    points = np.concatenate([tube.vertices, np.asarray(tube.vertices) + 5])
    positions, c = corners(points, np.concatenate([side, side + len(tube.vertices)]))
    f = found(positions, c)
    assert (f.borders, f.parts) == (4, 2) and not f.turned.any()
    # A Moebius band: wherever it is begun, some edge runs against itself, so nothing is turned.
    n = 12
    t = np.linspace(0, 2 * np.pi, n, endpoint=False)
    rim = [
        np.column_stack([(2 + s * np.cos(t / 2)) * np.cos(t), (2 + s * np.cos(t / 2)) * np.sin(t), s * np.sin(t / 2)]) for s in (-0.5, 0.5)
    ]
    a = np.arange(n)
    b = (a + 1) % n
    low, high = np.where(a == n - 1, n + b, b), np.where(a == n - 1, b, n + b)
    faces = np.concatenate([np.column_stack([a, low, n + a]), np.column_stack([low, high, n + a])])
    positions, c = corners(np.concatenate(rim), faces)
    assert not found(positions, c).turned.any()


def test_quads_stay_quads() -> None:
    from quilt_core.model.scene import Polygons

    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0], [2, 1, 0.0]])
    quads = [[0, 1, 2, 3], [1, 2, 5, 4], [2, 3, 0, 1]]
    corner = np.array(quads).reshape(-1)
    triangles = np.array([[0, 1, 2], [0, 2, 3]])
    mesh = mesh_of(points, np.concatenate([corner[triangles + 4 * k] for k in range(3)]))
    mesh.polygons = Polygons(np.array([0, 4, 8, 12], np.int32), corner.astype(np.int32), np.concatenate([triangles + 4 * k for k in range(3)]).astype(np.int32), np.repeat(np.arange(3), 2).astype(np.int32))  # fmt: skip
    c = corners_of(mesh, None, np.zeros(6, np.int64))
    f = found(mesh.positions, c)
    assert f.doubled.tolist() == [False, False, True] and f.turned.sum() == 1
    done = cleaned(mesh.positions, c, KINDS)
    out, counts = done.corners, done.counts
    assert counts == {"doubled": 1, "turned": 1} and np.diff(out.faces).tolist() == [4, 4]
    p = mesh.positions[out.position[out.triangles]]
    look = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2]
    assert (look > 0).all() or (look < 0).all()
    assert np.array_equal(out.face_of, [0, 0, 1, 1])


def ball_without(*gone: int) -> tuple[Floats, Corners]:
    ball = trimesh.creation.icosphere(2)
    return corners(np.asarray(ball.vertices), np.delete(np.asarray(ball.faces), gone, axis=0))


def around(point: int, far: int = 1) -> list[int]:
    """Faces at a point of the ball, and at their points."""
    faces = np.asarray(trimesh.creation.icosphere(2).faces)
    points = np.array([point])
    for _ in range(far):
        mine = np.isin(faces, points).any(axis=1)
        points = np.unique(faces[mine])
    return [int(f) for f in np.flatnonzero(mine)]


def test_small_holes_are_found_and_closed() -> None:
    # Single faces, two that meet at a point only (ring through it twice), and all faces around a point.
    faces = np.asarray(trimesh.creation.icosphere(2).faces)
    at = int(faces[40, 0])
    fan = np.flatnonzero((faces == at).any(axis=1))
    far = next(f for f in fan[1:] if len(np.intersect1d(faces[f], faces[fan[0]])) == 1)
    middle = int(next(p for p in range(100, 162) if not np.isin(faces[around(p, 3)], faces[[fan[0], far]]).any()))
    positions, c = ball_without(int(fan[0]), int(far), *around(middle))
    f = found(positions, c)
    rings = sorted(len(h.ring) for h in f.holes)
    assert rings == [3, 3, len(around(middle))] and f.counts["holes"] == 3
    marked = f.faces("holes", c)
    assert 3 + 3 <= marked.sum() <= 6 + len(around(middle))
    done = cleaned(positions, c, ["holes"])
    out, counts = done.corners, done.counts
    assert counts == {"holes": 3}
    back = trimesh.Trimesh(positions, faces_of(out), process=False)
    back.remove_unreferenced_vertices()
    assert back.is_watertight and back.is_winding_consistent and back.volume > 0
    # What closes lies in the plane where its neighbours have their UVs.
    assert np.abs(out.uvs[0] - positions[out.position, :2]).max() < 1e-12
    assert np.diff(out.faces)[-3:].tolist() == [len(h.ring) for h in f.holes]


def test_open_ends_and_halves_are_no_holes() -> None:
    tube = trimesh.creation.cylinder(0.1, 2, sections=12)
    side = np.asarray(tube.faces)[np.abs(tube.face_normals[:, 2]) < 0.5]
    positions, c = corners(np.asarray(tube.vertices), side)
    assert found(positions, c).borders == 2 and not found(positions, c).holes
    ball = trimesh.creation.icosphere(2)
    positions, c = corners(np.asarray(ball.vertices), np.asarray(ball.faces)[ball.triangles_center[:, 2] > 0])
    assert found(positions, c).borders == 1 and not found(positions, c).holes


def test_a_hole_stays_open_where_its_uvs_part_or_its_room_is_taken() -> None:
    positions, c = ball_without(10)
    hole = found(positions, c).holes[0]
    assert cleaned(positions, c, ["holes"], lambda ring: False).open == 1
    seen: list[Floats] = []
    assert cleaned(positions, c, ["holes"], lambda ring: seen.append(ring) is None).counts == {"holes": 1}
    assert np.abs(seen[0] - positions[hole.ring, :2]).max() < 1e-12
    # One face beside it moves away in the plane.
    c.uvs[0][hole.edges[0]] += 3
    done = cleaned(positions, c, ["holes"])
    out, counts = done.corners, done.counts
    assert counts == {} and len(out.faces) == len(c.faces)
