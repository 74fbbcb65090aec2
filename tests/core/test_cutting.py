"""The pieces that cutting is made of, each alone: slits, simpler copies and their seams, what is seen from outside, which island became which."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.errors import Cancelled
from quilt_core.model.scene import Mesh, UvChannel
from quilt_core.unwrap.dividing import divided
from quilt_core.unwrap.flatten import flatten
from quilt_core.unwrap.follow import followed
from quilt_core.unwrap.joining import joined
from quilt_core.unwrap.parts import allowed_edges, corners, part_of, seam_cost
from quilt_core.unwrap.scenes import laying_in
from quilt_core.unwrap.seams import sew
from quilt_core.unwrap.seen import directions, openness
from quilt_core.unwrap.shorter import smoothed
from quilt_core.unwrap.simpler import drawn, simpler
from quilt_core.unwrap.slits import between_borders, sewn_where_they_touch, to_corners
from quilt_core.unwrap.topology import Surface, borders, cut, surface_of
from quilt_core.unwrap.trial import Wish, judge, laid, tried
from quilt_core.uv.analysis import analyse
from tests.real_files import path
from tests.shapes import grid_obj

from .test_hands import quads


def surface(solid: trimesh.Trimesh, tip: float = np.inf) -> Surface:
    s = surface_of(np.asarray(solid.vertices, float), np.asarray(solid.faces, np.int64))
    return (
        s
        if np.isinf(tip)
        else Surface(*[getattr(s, k) for k in ("points", "faces", "twin", "normal", "area", "length", "bend")], corners(s, tip))
    )


def wish(s: Surface, stretch: float = 1.25) -> Wish:
    return Wish(stretch, np.zeros(len(s.twin), bool), np.arange(len(s.faces)))


def tube(sections: int = 24, rings: int = 6) -> Surface:
    """The side of a cylinder of radius 1 and height 2, open at both ends."""
    t, z = np.meshgrid(np.arange(sections) * 2 * np.pi / sections, np.linspace(0, 2, rings + 1), indexing="ij")
    points = np.stack([np.cos(t), np.sin(t), z], axis=2).reshape(-1, 3)
    faces = []
    for i in range(sections):
        for j in range(rings):
            a, b = i * (rings + 1) + j, ((i + 1) % sections) * (rings + 1) + j
            faces += [[a, b, b + 1], [a, b + 1, a + 1]]
    return surface_of(points, np.array(faces))


@pytest.mark.reference("A tube slit from end to end", "arithmetic: the slit is as long as the tube, and it then lies flat exactly")
def test_a_tube_is_slit_along_its_shortest_way_and_lies_flat() -> None:
    s = tube()
    seam = np.zeros(len(s.twin), bool)
    _, _, _, before = tried(s, seam, 10, lambda: False, wish(s, 1.05))
    assert not before.good.any()
    assert between_borders(s, np.arange(len(s.faces)), seam, np.ones(len(s.twin), bool), seam_cost(s))
    assert s.length[seam].sum() / 2 == pytest.approx(2.0)
    c, b, f = laid(s, seam, 25, lambda: False)
    assert judge(s, c, b, f, wish(s, 1.05)).good.all() and b.loops.tolist() == [1]
    assert f.greatest.max() == pytest.approx(1, abs=1e-6) and f.least.min() == pytest.approx(1, abs=1e-6)


def test_corners_are_slit_to_the_border_and_nothing_else_is_cut() -> None:
    """Five sides of a box: four corners hide inside, each one edge away from the open side."""
    box = trimesh.creation.box((1, 1, 1))
    open_box = trimesh.Trimesh(box.vertices, box.faces[box.face_normals[:, 2] < 0.5], process=False)
    s = surface(open_box, 0.6)
    assert s.corner is not None and s.corner.sum() == 4
    seam = np.zeros(len(s.twin), bool)
    _, _, _, found = tried(s, seam, 10, lambda: False, wish(s))
    assert found.hides.all() and not found.keeps.any()
    assert to_corners(s, np.arange(len(s.faces)), seam, np.ones(len(s.twin), bool), seam_cost(s))
    assert s.length[seam].sum() / 2 == pytest.approx(4.0), "four upright edges"
    c, _, _, found = tried(s, seam, 10, lambda: False, wish(s, 1.02))
    assert c.charts == 1 and found.good.all() and not found.hides.any()


def test_a_slit_that_gains_nothing_is_sewn_again() -> None:
    at, faces = quads(8, 3)
    s = surface_of(np.column_stack([at, 0 * at[:, 0]]), faces)
    ends = s.points[s.start], s.points[s.end]
    seam = (ends[0][:, 1] == 1) & (ends[1][:, 1] == 1) & (np.maximum(ends[0][:, 0], ends[1][:, 0]) <= 5)
    assert seam.sum() == 10
    c, _, f = laid(s, seam, 5, lambda: False)
    fixed = seam & (ends[0][:, 0] <= 1) & (ends[1][:, 0] <= 1)
    assert sewn_where_they_touch(s, np.arange(len(s.faces)), f.uv[c.rows], seam, fixed)
    assert seam.sum() == 2, "what must be a seam stays one"
    assert not sewn_where_they_touch(s, np.arange(len(s.faces)), f.uv[c.rows], seam, fixed)


@pytest.mark.parametrize("shape", ["sphere", "torus", "knot"])
def test_what_is_divided_lies_flat_and_what_is_joined_still_does(shape: str) -> None:
    solid = {
        "sphere": trimesh.creation.icosphere(2),
        "torus": trimesh.creation.torus(1, 0.4, 20, 12),
        "knot": trimesh.creation.capsule(2, 0.4),
    }[shape]
    s = surface(solid)
    want = wish(s)
    many = divided(s, np.zeros(len(s.twin), bool), want, lambda: False)
    fewer = joined(s, many, want, lambda: False, 0.75, lambda _: None)
    shorter = smoothed(s, fewer, want, lambda: False)
    for seam in (many, fewer, shorter):
        assert np.array_equal(seam[s.twin], seam), "both sides of an edge"
        _, _, _, found = tried(s, seam, 20, lambda: False, want, 0.94)
        assert found.good.all()
    assert cut(s, fewer).charts <= cut(s, many).charts
    cost = seam_cost(s)
    assert cost[shorter].sum() <= cost[fewer].sum() + 1e-9


def test_a_stop_is_heard_while_charts_are_tried() -> None:
    s = surface(trimesh.creation.icosphere(2))
    with pytest.raises(Cancelled):
        divided(s, np.zeros(len(s.twin), bool), wish(s), lambda: True)


@settings(max_examples=15, deadline=None)
@given(st.floats(0.01, 1000), st.integers(0, 1000))
def test_flattening_knows_no_scale_and_no_place(scale: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    at, faces = quads(5, 4)
    points = np.column_stack([at, 0.5 * rng.random(len(at))])
    turn = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3]
    flats = []
    for p in (points, scale * points @ turn.T + rng.random(3)):
        s = surface_of(p, faces)
        seam = np.zeros(len(s.twin), bool)
        c = cut(s, seam)
        flats.append(flatten(s, c, borders(s, c, seam), 40))
    assert np.allclose(flats[0].greatest, flats[1].greatest, atol=2e-3) and np.allclose(flats[0].least, flats[1].least, atol=2e-3)
    assert not flats[1].folded.any()


def test_a_simpler_copy_has_the_pieces_corners_and_borders_of_the_surface() -> None:
    box = trimesh.creation.box((1, 2, 3))
    for _ in range(4):
        box = box.subdivide()
    s = surface(box, 0.6)
    top = box.face_normals[:, 2] > 0.5
    must = np.zeros(len(s.twin), bool)
    inner = np.flatnonzero(s.twin >= 0)
    must[inner] = top[inner // 3] != top[s.twin[inner] // 3]
    small = simpler(s, must, 500)
    t = small.surface
    assert small.cut.charts == 2 and len(t.faces) < 650 and t.corner is not None
    # The four corners at the top lie on a border there; the other four are points that stand for corners of the surface.
    assert t.corner.sum() == 4 and (s.points[small.cut.point[small.row[t.corner]]][:, 2] < 0).all()
    # The top is a piece of its own, and about as large as it was.
    assert t.area[t.normal[:, 2] > 0.5].sum() == pytest.approx(2.0, rel=0.05)
    # Drawn on the surface, the seams of the copy part it as they part the copy.
    seam = np.zeros(len(t.twin), bool)
    h = np.flatnonzero(t.twin >= 0)
    side = np.argmax(np.abs(t.normal), axis=1) * 2 + (
        np.take_along_axis(t.normal, np.argmax(np.abs(t.normal), axis=1)[:, None], 1)[:, 0] > 0
    )
    seam[h] = side[h // 3] != side[t.twin[h] // 3]
    fine = drawn(s, seam_cost(s), np.ones(len(s.twin), bool), small, seam) | must
    c = cut(s, fine)
    assert c.charts == 6 and np.array_equal(fine[s.twin], fine)
    for k in range(6):
        normals = np.unique(np.round(s.normal[c.chart == k], 3), axis=0)
        assert len(normals) == 1, "each of the six sides, along its edges exactly"


@pytest.mark.reference(
    "From where a box inside another is seen", "arithmetic: from nowhere; the outer one's sides from everywhere in front of them"
)
def test_what_lies_inside_is_seen_from_nowhere() -> None:
    outer, inner = trimesh.creation.box((2, 2, 2)), trimesh.creation.box((1, 1, 1))
    s = surface(trimesh.util.concatenate([outer, inner]))
    seen = openness(s)
    assert seen[:12].min() > 0.95 and seen[12:].max() < 0.05
    d = directions(26)
    assert np.linalg.norm(d, axis=1) == pytest.approx(1) and np.abs(d.mean(axis=0)).max() < 0.02


def test_islands_are_followed_by_their_faces() -> None:
    scene = formats.read(grid_obj(4, uv=0.1), "a.obj")
    mesh = scene.meshes[0]
    was = analyse(scene, 0)[0]
    uvs = mesh.channels[0].uvs.copy()
    tri = mesh.channels[0].triangles.copy()
    # The first square is cut along its diagonal, the second moves, the others stay.
    extra = uvs[tri[1]] + [0.5, 0]
    uvs[tri[2:4].reshape(-1)] += [0.0, 0.3]
    tri[1] = len(uvs) + np.arange(3)
    scene.meshes[0].channels[0] = UvChannel(np.concatenate([uvs, extra]), tri)
    now = analyse(scene, 0)[0]
    assert was is not None and now is not None and (was.islands.count, now.islands.count) == (4, 5)
    f = followed(was, now)
    of = now.islands.of_triangle
    assert f.parts[0] == sorted([int(of[0]), int(of[1])]) and f.same[0] == -1
    assert f.same[1] == -1 and f.parts[1] == [int(of[2])], "it holds the same faces, but lies elsewhere"
    assert [int(f.same[k]) for k in (2, 3)] == [int(of[4]), int(of[6])]
    assert f.heir[of[[0, 1, 2, 4, 6]]].tolist() == [0, 0, 1, 2, 3]
    nothing = followed(None, now)
    assert len(nothing.same) == 0 and (nothing.heir == -1).all()


def test_no_polygon_is_ever_cut_and_parts_keep_their_twins() -> None:
    at, faces = quads(4, 4)
    s = surface_of(np.column_stack([at, 0 * at[:, 0]]), faces)
    cell = np.tile(np.arange(16), 2)
    may = allowed_edges(s, cell)
    diagonal = (np.abs(s.points[s.start] - s.points[s.end])[:, :2] == 1).all(axis=1)
    assert diagonal.sum() == 32 and not may[diagonal].any() and may[~diagonal].all()
    part, h = part_of(s, np.flatnonzero(cell < 8))
    inner = np.flatnonzero(part.twin >= 0)
    assert np.array_equal(h[part.twin[inner]], s.twin[h[inner]])
    assert np.allclose(part.points[part.start], s.points[s.start[h]]) and part.area.sum() == pytest.approx(8)


def test_meshes_of_one_triangle_of_slivers_and_of_copies_are_taken() -> None:
    from quilt_core.unwrap.meshes import Options, unwrap

    one = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]])
    cases = {
        "one triangle": (one, [[0, 1, 2]]),
        "the same twice": (one, [[0, 1, 2], [0, 1, 2]]),
        "front and back": (one, [[0, 1, 2], [0, 2, 1]]),
        "a sliver among them": (np.vstack([one, [[0.5, 0, 0]]]), [[0, 3, 2], [3, 1, 2], [0, 1, 3]]),
        "a thousandth wide": (one * [1, 1e-3, 1], [[0, 1, 2]]),
        "huge and far": (one * 1e6 + 1e7, [[0, 1, 2]]),
    }
    for name, (points, faces) in cases.items():
        mesh = Mesh("m", np.asarray(points, float), np.asarray(faces, np.int32), np.full(len(faces), -1, np.int32), {})
        found = unwrap(mesh, Options())
        assert found.unsound == 0, name
        assert np.isfinite(found.channel.uvs).all() and found.under[2] == pytest.approx(1), name
        assert (found.channel.triangles >= 0).all(), name


@pytest.mark.reference("mirrored halves of real files, sewn", "npm @webxr-input-profiles/assets")
@pytest.mark.parametrize("model", ["generic-trigger-squeeze/left.glb", "htc-vive-cosmos/left.glb"])
def test_a_mirrored_half_of_a_real_file_is_flipped_back_and_sewn(model: str) -> None:
    """Of two islands of a maker, one of them mirrored, one is made along a whole seam between them: no triangle of it is turned over, by arithmetic."""
    scene = formats.read(path("webxr", model).read_bytes(), model)
    sewn = 0
    for m, piece in enumerate(analyse(scene, 0)):
        assert piece is not None
        skin, laying = laying_in(scene, m, 0, piece, None)
        s = skin.surface

        def twice(uv: np.ndarray) -> np.ndarray:
            """Signed areas (F,) of triangles, times two."""
            a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
            return np.asarray(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])

        turned = np.bincount(laying.island, twice(laying.uv)) < 0
        h = np.flatnonzero((s.twin >= 0) & laying.seam)
        i, j = laying.island[h // 3], laying.island[s.twin[h] // 3]
        for a, b in sorted({(int(x), int(y)) for x, y in zip(i, j, strict=True) if x < y and turned[x] != turned[y]}):
            along = h[(i == a) & (j == b)]
            if len(along) not in (16, 18):
                continue
            out, touched = sew(skin, laying, along)
            now = twice(out.uv[touched])
            assert (now > 0).all() or (now < 0).all()
            assert len(np.unique(out.island[touched])) == 1 and touched.sum() >= (np.isin(laying.island, (a, b))).sum()
            sewn += 1
    assert sewn >= 2
