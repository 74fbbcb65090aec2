"""Halves that mirror each other are found and cut alike, whatever lies on the plane and however it is triangulated."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.unwrap.charts import charts_of
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.mirror import mirror_of, mirrored_seams
from quilt_core.unwrap.skin import skin_of
from quilt_core.unwrap.topology import Surface
from quilt_core.unwrap.trial import Wish

from .test_unwrap import mesh_of, proven


def bumpy(detail: int = 2) -> trimesh.Trimesh:
    """A lump whose two halves, left and right of x = 0, are mirror images and otherwise without order."""
    solid = trimesh.creation.icosphere(detail)
    x, y, z = np.abs(solid.vertices[:, 0]), solid.vertices[:, 1], solid.vertices[:, 2]
    size = 1 + 0.2 * np.sin(3 * x + 5 * y) + 0.15 * np.cos(7 * z + 2 * x)
    return trimesh.Trimesh(solid.vertices * size[:, None], solid.faces, process=False)


def surface(points: np.ndarray, faces: np.ndarray) -> tuple[Surface, np.ndarray]:
    skin = skin_of(mesh_of(points, faces))
    return skin.surface, skin.cell


def image(points: np.ndarray, normal: np.ndarray, offset: float) -> np.ndarray:
    return points - 2 * (points @ normal - offset)[:, None] * normal


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 10_000))
def test_the_plane_is_found_wherever_the_mesh_stands(seed: int) -> None:
    rng = np.random.default_rng(seed)
    turn, shift = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3], 10 * rng.random(3) - 5
    solid = bumpy()
    s, cell = surface(solid.vertices @ turn.T + shift, solid.faces)
    found = mirror_of(s, cell)
    assert found is not None and abs(abs(found.normal @ turn[:, 0]) - 1) < 1e-6
    # Judged by the points alone: the middle of a face's image is that of the face that is said to mirror it.
    middle = s.points[s.faces].mean(axis=1)
    assert (found.face >= 0).all()
    assert np.allclose(image(middle, found.normal, found.offset), middle[found.face], atol=1e-6)
    h = np.flatnonzero(found.half >= 0)
    assert np.allclose(image(s.points[s.start[h]], found.normal, found.offset), s.points[s.end[found.half[h]]], atol=1e-6)
    assert (found.first | found.first[found.face]).all(), "a face or its image is decided"


def test_other_diagonals_do_not_hide_a_mirror() -> None:
    # A grid of squares bent over x = 0; every square has the same diagonal, so that its image has the other one.
    x, y = np.meshgrid(np.linspace(-1, 1, 9), np.linspace(0, 1, 6), indexing="ij")
    points = np.stack([x, y, np.abs(x) ** 2 + 0.2 * np.sin(6 * y)], axis=2).reshape(-1, 3)
    at = np.arange(54).reshape(9, 6)
    a, b, c, d = at[:-1, :-1].ravel(), at[1:, :-1].ravel(), at[1:, 1:].ravel(), at[:-1, 1:].ravel()
    faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    s, cell = surface(points, faces)
    found = mirror_of(s, cell)
    assert found is not None and (found.face >= 0).all()
    assert len(np.unique(found.cell)) == 40, "two triangles count as one square"
    assert s.area[found.first].sum() == pytest.approx(0.5 * s.area.sum())


@pytest.mark.parametrize("shape", ["lump without order", "two unlike halves"])
def test_what_has_no_mirror_image_is_not_said_to_have_one(shape: str) -> None:
    solid = trimesh.creation.icosphere(2)
    points = np.asarray(solid.vertices).copy()
    rng = np.random.default_rng(3)
    moved = np.ones(len(points), bool) if shape == "lump without order" else points[:, 0] > 0
    points[moved] *= 1 + 0.3 * rng.random((int(moved.sum()), 1))
    assert mirror_of(*surface(points, np.asarray(solid.faces))) is None


def test_a_part_without_an_image_does_not_hide_the_mirror_of_the_rest() -> None:
    solid = trimesh.util.concatenate([bumpy(), trimesh.creation.box((0.3, 0.4, 0.5)).apply_translation((3, 0.2, 0.1))])
    s, cell = surface(solid.vertices, solid.faces)
    found = mirror_of(s, cell)
    assert found is not None and abs(found.normal[0]) == pytest.approx(1)
    box = s.points[s.faces].mean(axis=1)[:, 0] > 2
    assert (found.face[box] < 0).all() and (found.face[~box] >= 0).all() and found.first[box].all()


def test_seams_of_one_half_are_drawn_on_the_other_and_between_them() -> None:
    solid = bumpy(1)
    s, cell = surface(solid.vertices, solid.faces)
    m = mirror_of(s, cell)
    assert m is not None
    side = m.first & (m.face != np.arange(len(s.faces)))
    inner = np.flatnonzero((s.twin >= 0) & side[np.arange(len(s.twin)) // 3] & side[s.twin // 3])
    seam = np.zeros(len(s.twin), bool)
    seam[[inner[0], s.twin[inner[0]]]] = True
    out = mirrored_seams(s, m, seam)
    assert np.array_equal(out[s.twin], out) and out[m.half[inner[0]]]
    between = m.first[np.arange(len(s.twin)) // 3] != m.first[s.twin // 3]
    # The rest is the edge and its image, each with two sides.
    assert out[between].all() and out[~between].sum() == 4


def test_mirrored_halves_are_cut_alike() -> None:
    solid = bumpy(3)
    s, cell = surface(solid.vertices, solid.faces)
    wish = Wish(1.25, np.zeros(len(s.twin), bool), cell, alike=True)
    seam, _ = charts_of(s, wish)
    # Faces that the plane goes through belong to one side or the other; all else is the same on both.
    apart = np.abs(s.points[s.faces][:, :, 0]).min(axis=1) > 1e-9
    apart &= np.abs(np.sign(s.points[s.faces][:, :, 0]).sum(axis=1)) == 3
    h = np.flatnonzero(seam & np.repeat(apart, 3) & apart[s.twin // 3])

    def edges(points: np.ndarray) -> set[frozenset[tuple[float, ...]]]:
        at = np.round(points, 6) + 0.0
        return {frozenset((tuple(at[i]), tuple(at[j]))) for i, j in zip(s.start[h], s.end[h], strict=True)}

    assert edges(s.points) == edges(s.points * [-1, 1, 1]) and len(h) > 20


def test_halves_joined_across_the_plane_lie_flat_and_free() -> None:
    mesh = mesh_of(*(lambda b: (b.vertices, b.faces))(bumpy(3)))
    found = unwrap(mesh, Options())
    proven(mesh, found)
    assert found.under[2] > 0.985


def test_a_ring_is_whole_again_after_its_halves_were_cut() -> None:
    # A flat washer with a rim: its faces lie flat without any stretch, and no ring needs to be in two pieces.
    solid = trimesh.creation.annulus(1, 1.2, 0.5, sections=24)
    for alike in (True, False):
        mesh = mesh_of(solid.vertices, solid.faces)
        found = unwrap(mesh, Options(alike=alike))
        assert found.charts == 4 and found.worst == pytest.approx(1, abs=1e-3)
        proven(mesh, found)
