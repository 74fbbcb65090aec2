"""Surfaces that are matched part by part, by how they hang together, and by the nearest place; judged by numbers that the tests made themselves."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import Delaunay

from quilt_core.model.scene import Floats, UvChannel
from quilt_core.unwrap.copies import copied
from quilt_core.unwrap.match import GRAPH, PART, matched
from quilt_core.unwrap.skin import Laying, Skin, laying_of, skin_of
from quilt_core.unwrap.topology import cut
from quilt_core.uv.areas import signed_areas
from quilt_core.uv.islands import find_islands
from tests.shapes import net as flat_net

from .test_unwrap import mesh_of


def lies(points: Floats, faces: np.ndarray, uv: Floats, rows: np.ndarray | None = None) -> tuple[Skin, Laying]:
    """A surface with UVs by row (faces' rows: as the points, unless given)."""
    mesh = mesh_of(points, faces)
    mesh.channels[0] = UvChannel(uv, (faces if rows is None else rows).astype(np.int32))
    return skin_of(mesh), laying_of(skin_of(mesh), mesh.channels[0], find_islands(mesh, mesh.channels[0]).of_triangle)


def renumbered(points: Floats, faces: np.ndarray, rng: np.random.Generator) -> tuple[Floats, np.ndarray, np.ndarray]:
    """The same surface with other numbers; the old number of every new point."""
    order = rng.permutation(len(points))
    new = np.argsort(order)[faces]
    return points[order], np.array([np.roll(f, rng.integers(3)) for f in new])[rng.permutation(len(new))], order


def cloud(rng: np.random.Generator, count: int) -> tuple[Floats, np.ndarray]:
    """A flat net of irregular triangles, (n, 2) and (F, 3), wound counter-clockwise."""
    xy = rng.random((count, 2))
    rim = np.linspace(0, 1, 8)
    xy = np.concatenate([xy, *([np.column_stack([rim, rim * 0 + s]), np.column_stack([rim[1:-1] * 0 + s, rim[1:-1]])] for s in (0, 1))][0:1] + [
        p for s in (0.0, 1.0) for p in (np.column_stack([rim, rim * 0 + s]), np.column_stack([rim[1:-1] * 0 + s, rim[1:-1]]))
    ])  # fmt: skip
    faces = Delaunay(xy).simplices
    return xy, np.where((signed_areas(xy[faces]) < 0)[:, None], faces[:, ::-1], faces)


def bent(xy: Floats) -> Floats:
    """A sheet that rolls and rises."""
    x, y = xy.T
    return np.column_stack([np.sin(1.5 * x), y, 0.3 * y * y + np.cos(1.5 * x)])


@settings(max_examples=10, deadline=None)
@given(st.integers(0, 10_000))
def test_parts_that_were_moved_by_themselves_are_found(seed: int) -> None:
    rng = np.random.default_rng(seed)
    solids = [trimesh.creation.icosphere(1), trimesh.creation.box((1, 2, 3)), trimesh.creation.cone(1, 2, sections=7)]
    parts = [np.asarray(s.vertices) * (1 + 0.3 * rng.random((len(s.vertices), 1))) for s in solids]
    first = np.cumsum([0, *map(len, parts)])
    faces = np.concatenate([np.asarray(s.faces) + k for s, k in zip(solids, first, strict=False)])
    here = np.concatenate([p + [4 * k, 0, 0] for k, p in enumerate(parts)])
    turns = [trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3] for _ in parts]
    there = np.concatenate([p @ t.T + [0, 5 * k, k] for k, (p, t) in enumerate(zip(parts, turns, strict=True))])
    other, shuffled, order = renumbered(there, faces, rng)
    one, two = skin_of(mesh_of(here, faces)), skin_of(mesh_of(other, shuffled))
    found = matched(one, two)
    assert found.known.all() and (found.way >= PART).any()
    of = one.mesh.triangles[one.kept].reshape(-1)[found.corner]
    assert np.array_equal(of, order[two.mesh.triangles[two.kept]])


@settings(max_examples=10, deadline=None)
@given(st.integers(0, 10_000), st.booleans())
def test_what_is_bent_is_known_by_how_it_hangs_together(seed: int, mirrored: bool) -> None:
    rng = np.random.default_rng(seed)
    xy, faces = cloud(rng, 60)
    flat = np.column_stack([xy, 0.05 * rng.random(len(xy))])
    there = bent(xy) * ([-1.0, 1.0, 1.0] if mirrored else 1.0)
    other, shuffled, order = renumbered(there, faces[:, ::-1] if mirrored else faces, rng)
    skin, laying = lies(flat, faces, xy)
    two = skin_of(mesh_of(other, shuffled))
    found = matched(skin, two)
    assert (found.way == GRAPH).all() and (found.mirrored == mirrored).all()
    done = copied(skin, laying, two, found, onto=True)
    assert done is not None and "bent" in done.words()
    assert np.allclose(done.laying.uv, xy[order[two.mesh.triangles[two.kept]]])


@pytest.mark.parametrize("mirrored", [False, True])
@pytest.mark.parametrize("parted", [False, True])
def test_other_triangles_get_what_the_nearest_surface_has(parted: bool, mirrored: bool) -> None:
    """By arithmetic: of a sheet that is z(x, y), UVs are x and y, so every corner of another net on the same sheet has to have its own x and y."""
    rng = np.random.default_rng(3)
    xy, faces = flat_net(24)
    right = parted & (xy[faces, 0].mean(axis=1) > 0.5)
    uv = np.concatenate([xy, xy + [0.5, 0]])
    skin, laying = lies(bent(xy), faces, uv, faces + len(xy) * right[:, None])
    net, triangles = cloud(rng, 700)
    turn = trimesh.transformations.rotation_matrix(0.8, (1, 2, 3))[:3, :3]
    there = (bent(net) * ([-1.0, 1.0, 1.0] if mirrored else 1.0)) @ turn.T * 2 + [1, 2, 3]
    other, shuffled, order = renumbered(there, triangles[:, ::-1] if mirrored else triangles, rng)
    two = skin_of(mesh_of(other, shuffled))
    done = copied(skin, laying, two, matched(skin, two), onto=True)
    assert done is not None and done.shares["near"] > 0.9 and done.near < 0.02 and "other triangles" in done.words()
    c = cut(two.surface, done.laying.seam)
    assert c.charts == (2 if parted else 1)
    own = net[order[two.mesh.triangles[two.kept]]]
    across = done.laying.island == done.laying.island[np.argmax(own[:, :, 0].mean(axis=1))]
    wanted = own + (np.array([0.5, 0]) * across[:, None, None] if parted else 0)
    # The nets cut corners of the sheet's bow differently, and lie on each other as well as their own points do.
    off = np.abs(done.laying.uv - wanted).max(axis=2)
    assert np.median(off) < 0.01 and off.max() < 0.05
    sign = signed_areas(done.laying.uv) * (-1 if mirrored else 1)
    assert (sign > 0).all()
    if parted:
        # The seam is a way along the new edges near to where the old one was.
        h = np.flatnonzero(done.laying.seam)
        ends = net[order[two.mesh.triangles[two.kept]]].reshape(-1, 2)[h]
        assert np.abs(ends[:, 0] - 0.5).max() < 0.1


def test_another_shape_gets_nothing() -> None:
    rng = np.random.default_rng(1)
    xy, faces = cloud(rng, 80)
    skin, laying = lies(bent(xy), faces, xy)
    ball = trimesh.creation.icosphere(2)
    two = skin_of(mesh_of(np.asarray(ball.vertices), np.asarray(ball.faces)))
    assert copied(skin, laying, two, matched(skin, two)) is None
