"""Objects of one shape are found whatever was done to them, and get each other's UVs."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.model.scene import UvChannel
from quilt_core.unwrap.copies import copied, same_shape
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.skin import Laying, Skin, laying_of, revised, skin_of
from quilt_core.uv.analysis import analyse
from quilt_core.uv.islands import find_islands

from .test_hands import proven
from .test_unwrap import mesh_of


def lump(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """A ball with no symmetry at all."""
    rng = np.random.default_rng(seed)
    solid = trimesh.creation.icosphere(2)
    return np.asarray(solid.vertices) * (1 + 0.4 * rng.random((len(solid.vertices), 1))) * [1.0, 1.3, 0.8], np.asarray(solid.faces)


def laid(points: np.ndarray, faces: np.ndarray) -> tuple[Skin, Laying]:
    mesh = mesh_of(points, faces)
    skin = skin_of(mesh)
    made = unwrap(mesh, Options()).revised
    return skin, laying_of(skin, made.channel, made.island, made.root)


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 10_000), st.booleans())
def test_a_copy_is_found_in_any_order_and_place_and_lies_as_the_other_does(seed: int, mirrored: bool) -> None:
    rng = np.random.default_rng(seed)
    points, faces = lump(seed)
    skin, laying = laid(points, faces)
    turn = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3]
    other = (points * ([-1.0, 1.0, 1.0] if mirrored else 1.0)) @ turn.T * (0.1 + 3 * rng.random()) + 5 * rng.random(3)
    # Other numbers for the points, another order of the faces, and of the corners of each.
    order = rng.permutation(len(points))
    where = np.argsort(order)
    wound = faces[:, ::-1] if mirrored else faces
    shuffled = np.array([np.roll(where[f], rng.integers(3)) for f in wound])[rng.permutation(len(faces))]
    target = skin_of(mesh_of(other[order], shuffled))
    same = same_shape(skin, target)
    assert same is not None and (same.mirrored == mirrored).all() and same.away < 1e-9
    # Judged by the numbers of the points alone: each corner has the UV that its point has in the face of the same three points.
    done = copied(skin, laying, target, same)
    assert done is not None and done.shares["whole"] == pytest.approx(1) and not done.words()
    out = done.laying
    known = {
        frozenset(int(v) for v in f): {int(v): laying.uv[k, c] for c, v in enumerate(f)}
        for k, f in enumerate(skin.mesh.triangles[skin.kept])
    }
    wide = laying.uv[..., 0].min() + laying.uv[..., 0].max()
    for k, f in enumerate(target.mesh.triangles[target.kept]):
        was = known[frozenset(int(order[v]) for v in f)]
        for c, v in enumerate(f):
            u, w = was[int(order[v])]
            assert np.allclose(out.uv[k, c], (wide - u if mirrored else u, w))
    assert np.array_equal(out.seam[target.surface.twin], out.seam) and out.seam.sum() == laying.seam.sum()
    made = revised(target, out, np.ones(len(target.kept), bool))
    assert len(np.unique(made.island)) == len(np.unique(laying.island))
    proven(target, out)


def test_quads_parted_along_their_other_diagonal_are_the_same_shape() -> None:
    """Of a block of quads, mirrored, every quad's diagonal is the other one; each corner keeps the UV that its point has in its side, by arithmetic."""
    quads = np.array([[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]])
    points = np.array([[x, y, z] for x in (0.0, 1) for y in (0.0, 2) for z in (0.0, 3)])
    # Narrower towards the top and leaning: flat sides, and nothing that it is its own image by.
    points[1::2, :2] = 0.5 * points[1::2, :2] + [0.1, 0.7]

    def fan(q: np.ndarray) -> np.ndarray:
        return np.concatenate([q[:, [0, 1, 2]], q[:, [0, 2, 3]]])

    mesh = mesh_of(points, fan(quads))
    square = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])
    uv = np.concatenate([square + [1.5 * k, 0] for k in range(6)])
    rows = fan(np.arange(24).reshape(6, 4))
    mesh.channels[0] = UvChannel(uv, rows.astype(np.int32))
    skin = skin_of(mesh)
    laying = laying_of(skin, mesh.channels[0], find_islands(mesh, mesh.channels[0]).of_triangle)
    turned = np.roll(quads[:, ::-1], 1, axis=1)
    other = skin_of(mesh_of(points * [-1, 1, 1] + [7, 0, 0], fan(np.roll(turned, 1, axis=1))))
    same = same_shape(skin, other)
    assert same is not None and not same.known.all()
    done = copied(skin, laying, other, same, onto=True)
    assert done is not None and not done.words() and done.anew == 0
    known = {(k // 4, int(v)): uv[k] for k, v in enumerate(quads.reshape(-1))}
    sides = {frozenset(q.tolist()): k for k, q in enumerate(quads)}
    for f, triangle in enumerate(other.mesh.triangles[other.kept].tolist()):
        (side,) = [k for q, k in sides.items() if set(triangle) <= q]
        for c, v in enumerate(triangle):
            assert done.laying.uv[f, c] == pytest.approx(known[side, v], abs=1e-9)


@pytest.mark.parametrize("what", ["another shape", "a moved point", "another triangle"])
def test_what_is_not_the_same_is_not_said_to_be(what: str) -> None:
    points, faces = lump(1)
    one = skin_of(mesh_of(points, faces))
    if what == "another shape":
        points, faces = lump(2)
    elif what == "a moved point":
        points = points.copy()
        points[7] *= 1.01
    else:
        # Two triangles at one edge get the other diagonal.
        pair = trimesh.Trimesh(points, faces, process=False).face_adjacency[0]
        shared = list(set(faces[pair[0]]) & set(faces[pair[1]]))
        a, b = (next(v for v in faces[f] if v not in shared) for f in pair)
        faces = faces.copy()
        faces[pair[0]], faces[pair[1]] = (a, shared[0], b), (b, shared[1], a)
    assert same_shape(one, skin_of(mesh_of(points, faces))) is None


def test_of_a_shape_that_is_its_own_image_a_turn_is_taken_before_a_mirror() -> None:
    box = trimesh.creation.box((1, 2, 3))
    one, two = (skin_of(mesh_of(np.asarray(box.vertices) + at, box.faces)) for at in (0.0, 4.0))
    same = same_shape(one, two)
    assert same is not None and not same.mirrored.any() and np.array_equal(same.corner.reshape(-1), np.arange(36))


def bent(mirror: bool) -> bytes:
    """A sheet of 5 x 4 bent quads, all unlike, and as its mirror image in x: wound the other way, so that its faces begin at other corners and are cut along
    the other diagonals. In both the UVs come from the place; two of the islands hang together by a corner."""
    chance = np.random.default_rng(3)
    points = [(x + chance.uniform(-0.2, 0.2), y + chance.uniform(-0.2, 0.2), chance.uniform(0, 0.5)) for y in range(5) for x in range(6)]
    lines = ["o sheet"] + [f"v {-p[0] if mirror else p[0]!r} {p[1]!r} {p[2]!r}" for p in points]
    quads = [[y * 6 + x, y * 6 + x + 1, y * 6 + x + 7, y * 6 + x + 6] for y in range(4) for x in range(5)]
    for k, (q, (x, y)) in enumerate(zip(quads, [(x, y) for y in range(4) for x in range(5)], strict=True)):
        part = 0 if (x < 2) == (y < 2) else 1
        lines += [f"vt {0.05 * points[i][0] + 0.5 * part!r} {0.05 * points[i][1]!r}" for i in q]
        face = [f"{i + 1}/{4 * k + c + 1}" for c, i in enumerate(q)]
        lines.append("f " + " ".join(face[::-1] if mirror else face))
    return ("\n".join(lines) + "\n").encode()


def test_a_mirror_image_gets_the_islands_of_its_pattern() -> None:
    """It was of no shape, since its quads are cut along other diagonals; by hand it got 68 islands where its pattern has 67."""
    scenes = [formats.read(bent(m), "a.obj") for m in (False, True)]
    skins = [skin_of(s.meshes[0]) for s in scenes]
    piece = analyse(scenes[0], 0)[0]
    assert piece is not None and piece.islands.count == 2
    lies = laying_of(skins[0], scenes[0].meshes[0].channels[0], piece.islands.of_triangle)
    same = same_shape(*skins)
    assert same is not None and same.mirrored.all() and same.known.all() and same.away < 1e-9
    done = copied(skins[0], lies, skins[1], same, onto=True)
    assert done is not None and done.words() == ""
    made = done.revised(skins[1])
    assert int(made.island.max()) + 1 == 2
    # Corner by corner, by the place of each: the UVs of the pattern.
    was, now = scenes[0].meshes[0], scenes[1].meshes[0]
    by_place = {
        (*np.round(was.positions[v], 9), k): uv
        for v, uv, k in zip(
            was.triangles.reshape(-1),
            was.channels[0].uvs[was.channels[0].triangles.reshape(-1)].tolist(),
            np.repeat(piece.islands.of_triangle, 3),
            strict=True,
        )
    }
    for v, uv, k in zip(
        now.triangles.reshape(-1), made.channel.uvs[made.channel.triangles.reshape(-1)].tolist(), np.repeat(made.island, 3), strict=True
    ):
        place = (*np.round(now.positions[v] * [-1, 1, 1], 9),)
        assert uv in [by_place.get((*place, j)) for j in (0, 1)], k
