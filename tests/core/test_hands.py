"""What is done to seams and islands by hand, in the core alone: known answers, and what holds for any seams on any surface."""

from __future__ import annotations

import igl
import numpy as np
import pytest
import shapely
import trimesh
from hypothesis import example, given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Mesh, UvChannel
from quilt_core.unwrap.hands import Asked, do, relaxed
from quilt_core.unwrap.ledger import runs_of, sew_free, worth
from quilt_core.unwrap.lines import along_line
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.parting import overlapping_faces, parted
from quilt_core.unwrap.pieces import piece_of
from quilt_core.unwrap.project import projected
from quilt_core.unwrap.seams import cut_along, loop, sew, shortest
from quilt_core.unwrap.skin import Laying, Skin, laying_of, revised, skin_of
from quilt_core.unwrap.strips import straightened
from quilt_core.uv.analysis import analyse

FAST = settings(max_examples=25, deadline=None)


def opened(obj: bytes) -> tuple[Skin, Laying]:
    """The surface of an OBJ's first mesh, and how it lies."""
    scene = formats.read(obj, "a.obj")
    piece = analyse(scene, 0)[0]
    assert piece is not None
    skin = skin_of(scene.meshes[0])
    return skin, laying_of(skin, scene.meshes[0].channels[0], piece.islands.of_triangle)


def laid(points: np.ndarray, faces: np.ndarray, uv: np.ndarray) -> tuple[Skin, Laying]:
    """A surface of triangles in one island; uv (V, 2) of its points."""
    mesh = Mesh("m", np.asarray(points, float), np.asarray(faces, np.int32), np.full(len(faces), -1, np.int32), {})
    mesh.channels[0] = UvChannel(np.asarray(uv, float), np.asarray(faces, np.int32))
    skin = skin_of(mesh)
    return skin, laying_of(skin, mesh.channels[0], np.zeros(len(faces), np.int32))


def quads(columns: int, rows: int) -> tuple[np.ndarray, np.ndarray]:
    """Places (V, 2) and triangles of a grid of unit squares."""
    x, y = np.meshgrid(np.arange(columns + 1.0), np.arange(rows + 1.0))
    at = np.arange((columns + 1) * (rows + 1)).reshape(rows + 1, columns + 1)
    a, b, c, d = (k.reshape(-1) for k in (at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]))
    return np.column_stack([x.reshape(-1), y.reshape(-1)]), np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])])


def cube() -> bytes:
    """A cube of one metre whose six faces lie apart, each 0.3 wide in UV."""
    corners = [(x, y, z) for z in (0, 1) for y in (0, 1) for x in (0, 1)]
    sides = [(1, 3, 4, 2), (5, 6, 8, 7), (1, 2, 6, 5), (3, 7, 8, 4), (1, 5, 7, 3), (2, 4, 8, 6)]
    lines = ["o cube", *(f"v {x} {y} {z}" for x, y, z in corners)]
    for k in range(6):
        u, v = 0.33 * (k % 3), 0.4 * (k // 3)
        lines += [f"vt {u} {v}", f"vt {u + 0.3} {v}", f"vt {u + 0.3} {v + 0.3}", f"vt {u} {v + 0.3}"]
        lines.append("f " + " ".join(f"{sides[k][c]}/{4 * k + c + 1}" for c in range(4)))
    return "\n".join(lines).encode()


def charts(skin: Skin, laying: Laying) -> np.ndarray:
    """The island (F,) of every face by the seams alone."""
    return piece_of(skin.surface, np.arange(len(skin.kept)), laying.seam).cut.chart


def proven(skin: Skin, laying: Laying) -> None:
    """No triangle is turned over against its island, and none of an island's triangles lie over each other (by shapely's unions)."""
    of = charts(skin, laying)
    p = laying.uv
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    signed = 0.5 * (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    for k in np.unique(of):
        mine = signed[of == k]
        assert (mine > 0).all() or (mine < 0).all()
        whole = shapely.area(shapely.union_all(shapely.buffer(shapely.polygons(p[of == k]), 1e-12)))
        assert whole == pytest.approx(np.abs(mine).sum(), rel=1e-5)


def seam_length(skin: Skin, laying: Laying) -> float:
    s = skin.surface
    return float(s.length[laying.seam & (s.twin > np.arange(len(s.twin)))].sum())


@pytest.mark.reference(
    "The faces of a cube sewn where it costs nothing", "arithmetic: a tree of 6 faces has 5 joints, so 7 of 12 edges stay seams"
)
def test_the_faces_of_a_cube_become_one_island_with_seven_seams() -> None:
    skin, laying = opened(cube())
    assert len(runs_of(skin, laying)) == 12 and seam_length(skin, laying) == pytest.approx(12)
    found = worth(skin, laying)
    assert all(r.length == pytest.approx(1) and r.free and r.open > 0.5 for r in found), "each can be sewn, and is seen from outside"
    sewn, touched, count = sew_free(skin, laying, None)
    assert touched.all() and count == 5
    assert charts(skin, sewn).max() == 0 and seam_length(skin, sewn) == pytest.approx(7)
    proven(skin, sewn)
    # The seven that are left cannot be sewn without bending the sides.
    assert not any(r.free for r in worth(skin, revised_laying(skin, sewn, touched)))


def revised_laying(skin: Skin, laying: Laying, touched: np.ndarray) -> Laying:
    """The laying as it is read again from the channel that is made of it."""
    r = revised(skin, laying, touched)
    return laying_of(skin, r.channel, r.island, r.root)


def random_surface(seed: int) -> tuple[Skin, Laying]:
    """A bumpy sheet of six by five squares, laid flat from above."""
    rng = np.random.default_rng(seed)
    at, faces = quads(6, 5)
    return laid(np.column_stack([at, 0.4 * rng.random(len(at))]), faces, at * 0.1)


@FAST
@given(st.integers(0, 10_000), st.lists(st.integers(0, 10_000), min_size=1, max_size=40))
def test_any_cut_keeps_every_corner_and_sewing_it_gives_the_islands_back(seed: int, picked: list[int]) -> None:
    skin, laying = random_surface(seed)
    inner = np.flatnonzero(skin.surface.twin >= 0)
    h = inner[np.unique(np.array(picked) % len(inner))]
    try:
        cut, touched = cut_along(skin, laying, h)
    except QuiltError as e:
        assert "parts nothing" in str(e)
        return
    assert touched.all() and np.array_equal(cut.uv, laying.uv), "nothing moves"
    again = revised_laying(skin, cut, touched)
    assert np.array_equal(again.uv, laying.uv) and np.array_equal(charts(skin, again), charts(skin, cut))
    sewn, _ = sew(skin, again, h, relax=False)
    assert np.array_equal(sewn.seam, laying.seam) and np.abs(sewn.uv - laying.uv).max() < 1e-9
    assert charts(skin, sewn).max() == 0


@FAST
@given(st.integers(0, 10_000), st.lists(st.integers(0, 10_000), min_size=1, max_size=25), st.sampled_from(["angles", "sizes", "both"]))
def test_what_was_cut_anywhere_lies_flat_again_without_fold_or_overlap(seed: int, picked: list[int], way: str) -> None:
    skin, laying = random_surface(seed)
    inner = np.flatnonzero(skin.surface.twin >= 0)
    try:
        cut, touched = cut_along(skin, laying, inner[np.unique(np.array(picked) % len(inner))])
    except QuiltError as e:
        assert "parts nothing" in str(e)
        return
    flat = revised_laying(skin, cut, touched)
    for island in np.unique(flat.island):
        try:
            flat, _ = relaxed(skin, flat, int(island), way)
        except QuiltError as e:
            assert "cannot lie flat" in str(e)  # refused in words, and as it was
    proven(skin, flat)
    assert np.array_equal(flat.seam, laying_of(skin, *_channel(skin, flat)).seam)


def _channel(skin: Skin, laying: Laying) -> tuple[UvChannel, np.ndarray, np.ndarray]:
    r = revised(skin, laying, np.ones(len(skin.kept), bool))
    return r.channel, r.island, r.root


@pytest.mark.reference("Laying flat so that angles are kept", "libigl's least squares conformal map with the same two points held")
def test_angles_are_kept_as_libigl_keeps_them() -> None:
    skin, laying = random_surface(3)
    flat, _ = relaxed(skin, laying, 0, "angles")
    s = skin.surface
    piece = piece_of(s, np.arange(len(s.faces)), laying.seam)
    ours = piece.mean(flat.uv)
    pins = np.array([0, len(s.points) - 1])
    theirs = igl.lscm(s.points, s.faces, pins, ours[np.argsort(piece.cut.point)][pins])[0]
    # Which points are held changes a little what is found: angles are compared, as the mean of what a triangle is off by.
    assert np.abs(angles(theirs[s.faces]) - angles(flat.uv)).mean() < np.radians(1.0)
    # Nobody keeps angles better than the conformal map: the isometric way is further from the surface's own.
    true = angles(s.points[s.faces])
    sizes, _ = relaxed(skin, laying, 0, "sizes")
    assert np.abs(angles(flat.uv) - true).mean() < np.abs(angles(sizes.uv) - true).mean()


def angles(p: np.ndarray) -> np.ndarray:
    a, b = np.roll(p, -1, axis=1) - p, np.roll(p, 1, axis=1) - p
    return np.arccos(np.clip((a * b).sum(axis=2) / np.linalg.norm(a, axis=2) / np.linalg.norm(b, axis=2), -1, 1))


def test_a_held_outline_stays_and_the_inside_gets_better() -> None:
    skin, laying = random_surface(5)
    moved = laying.uv.copy()
    inside = np.isclose(moved, [0.3, 0.2]).all(axis=2)
    moved[inside] += [0.06, 0.05]
    bent = Laying(moved, laying.seam, laying.island)
    flat, _ = relaxed(skin, bent, 0, held=True)
    rim = np.isclose(moved, 0).any(axis=2) | np.isclose(moved[:, :, 0], 0.6) | np.isclose(moved[:, :, 1], 0.5)
    assert np.abs(flat.uv - moved)[rim].max() < 1e-6 and np.abs(flat.uv - moved)[inside].max() > 0.01
    proven(skin, flat)


@pytest.mark.reference("A spiral strip parted where it comes to lie over itself", "arithmetic: 1.4 turns need one cut across")
def test_a_spiral_of_more_than_a_turn_is_parted_in_two_across() -> None:
    n = 56
    angle = np.linspace(0, 2 * np.pi * 1.4, n + 1)
    ring = [np.column_stack([r * np.cos(angle), r * np.sin(angle)]) for r in (1.0, 1.3)]
    at = np.concatenate(ring)
    k = np.arange(n)
    faces = np.concatenate([np.column_stack([k, k + n + 1, k + n + 2]), np.column_stack([k, k + n + 2, k + 1])])
    skin, laying = laid(np.column_stack([at, np.tile(0.2 * angle, 2)]), faces, at)
    assert len(overlapping_faces(laying.uv))
    out, touched, left = parted(skin, laying, np.array([0]))
    assert left == 0 and touched.all() and charts(skin, out).max() == 1
    # One rung of the strip, or one and a diagonal: no more than that is cut.
    assert seam_length(skin, out) < 0.8
    for half in (0, 1):
        assert not len(overlapping_faces(out.uv[charts(skin, out) == half]))


@pytest.mark.reference("A bent strip of quads straightened", "arithmetic: a rectangle of the strip's own lengths")
def test_a_bent_strip_becomes_a_rectangle_of_its_own_lengths() -> None:
    at, faces = quads(12, 2)
    bend = at[:, 0] / 4
    # A band around a cylinder of radius 4, its squares one metre; in UV it is bent and sheared.
    space = np.column_stack([4 * np.cos(bend), 4 * np.sin(bend), at[:, 1]])
    skin, laying = laid(space, faces, np.column_stack([(2 + at[:, 1]) * np.cos(bend), (2 + at[:, 1]) * np.sin(bend)]) * 0.02)
    out, mine = straightened(skin, laying, 0)
    assert mine.all()
    flat = out.uv.reshape(-1, 2)
    width, height = sorted(np.ptp(flat, axis=0))[::-1]
    chord = 12 * 2 * 4 * np.sin(1 / 8)
    assert width / height == pytest.approx(chord / 2, rel=1e-9)
    assert len(np.unique(np.round(flat[:, 0] / width, 6))) * len(np.unique(np.round(flat[:, 1] / width, 6))) == 13 * 3, (
        "straight lines only"
    )
    proven(skin, out)


def test_a_strip_that_is_a_ring_is_refused_until_it_is_cut() -> None:
    solid = trimesh.creation.annulus(1, 1.2, 0.5, sections=24)
    mesh = Mesh("m", np.asarray(solid.vertices), np.asarray(solid.faces, np.int32), np.full(len(solid.faces), -1, np.int32), {})
    skin = skin_of(mesh)
    made = unwrap(mesh, Options()).revised
    laying = laying_of(skin, made.channel, made.island, made.root)
    rings = [k for k in np.unique(laying.island) if (laying.island == k).sum() == 48]
    assert rings
    for k in rings:
        try:
            laying, _ = straightened(skin, laying, int(k))
        except QuiltError as e:
            assert "cut" in str(e).lower() or "grid" in str(e).lower()
    proven(skin, laying)


@FAST
@given(st.integers(0, 10_000), st.sampled_from(["plane", "x", "y", "z", "view", "box", "cylinder", "sphere"]))
def test_projections_of_any_shape_are_parted_where_they_fold(seed: int, way: str) -> None:
    rng = np.random.default_rng(seed)
    solid = [
        trimesh.creation.icosphere(1),
        trimesh.creation.torus(1, 0.4, 10, 8),
        trimesh.creation.box((1, 2, 3)),
        trimesh.creation.cylinder(1, 2, sections=12),
    ][seed % 4]
    points = np.asarray(solid.vertices) + 0.05 * rng.random((len(solid.vertices), 3))
    skin, laying = laid(points, np.asarray(solid.faces), points[:, :2])
    faces = rng.random(len(skin.kept)) < 0.8
    faces[0] = True
    out, edge_on = projected(skin, laying, faces, way, np.array([0.3, 0.5, 0.8]))
    p = out.uv
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    signed = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    assert (signed[faces] > -1e-12).all(), "nothing is mirrored"
    of = charts(skin, out)
    for k in np.unique(of[faces]):
        mine = np.flatnonzero((of == k) & faces & (signed > 1e-9))
        assert not len(overlapping_faces(p[mine]))
    assert np.array_equal(p[~faces], laying.uv[~faces]) and edge_on >= 0


@pytest.mark.reference("A cylinder unrolled by projection", "arithmetic: its side is the circumference wide and as high as the cylinder")
def test_a_projected_cylinder_is_as_wide_as_its_circumference() -> None:
    solid = trimesh.creation.cylinder(1, 2, sections=64)
    skin, laying = laid(solid.vertices, np.asarray(solid.faces), solid.vertices[:, :2])
    out, _ = projected(skin, laying, np.ones(len(skin.kept), bool), "cylinder")
    side = np.abs(skin.surface.normal[:, 2]) < 0.5
    p = out.uv[side].reshape(-1, 2)
    assert sorted(np.ptp(p, axis=0)) == pytest.approx([2, 2 * np.pi], rel=2e-3)


def test_loops_and_ways_follow_the_quads() -> None:
    at, faces = quads(6, 5)
    skin, _ = laid(np.column_stack([at, 0 * at[:, 0]]), faces, at)
    s = skin.surface
    may = np.ones(len(s.twin), bool)
    middle = np.flatnonzero((s.points[s.start] == [2, 2, 0]).all(axis=1) & (s.points[s.end] == [3, 2, 0]).all(axis=1))
    found = loop(s, int(middle[0]), may)
    assert s.length[found].sum() == pytest.approx(6) and np.ptp(s.points[s.start[found]][:, 1]) == 0
    corner = [int(np.flatnonzero((s.points == p).all(axis=1))[0]) for p in ([0, 0, 0], [6, 5, 0])]
    assert s.length[shortest(s, *corner, may)].sum() == pytest.approx(5 * 2**0.5 + 1), "five diagonals and a side"


def test_operations_refuse_in_words_and_leave_everything() -> None:
    skin, laying = opened(cube())
    before = laying.uv.copy()
    border = np.flatnonzero(~laying.seam & (skin.surface.twin >= 0))
    for asked, words in (
        (Asked("cut", edges=border[:1]), "inside polygons"),
        (Asked("cut", edges=np.flatnonzero(laying.seam)[:1]), "seams already"),
        (Asked("sew", edges=border[:1]), "is a seam"),
        (Asked("relax", islands=np.array([99])), ""),
        (Asked("project", islands=np.array([], np.int64)), "Select faces"),
        (Asked("knit"), "no operation"),
    ):
        try:
            done = do(skin, laying, asked)
            assert done.count == 0 and done.refused
        except QuiltError as e:
            assert words in str(e)
        assert np.array_equal(laying.uv, before)


@pytest.mark.reference("A long strip cut across in n", "arithmetic: n - 1 cuts as wide as the strip, n parts of one length")
@pytest.mark.parametrize("parts", [2, 3, 5])
def test_a_strip_is_cut_across_in_equal_parts(parts: int) -> None:
    at, faces = quads(30, 2)
    skin, laying = laid(np.column_stack([at, 0 * at[:, 0]]), faces, at @ [[0.02, 0.01], [-0.01, 0.02]])
    done = do(skin, laying, Asked("across", islands=np.array([0]), parts=parts, relax=False))
    of = charts(skin, done.laying)
    assert of.max() == parts - 1 and seam_length(skin, done.laying) == pytest.approx(2 * (parts - 1))
    assert np.bincount(of).tolist() == [120 // parts] * parts and np.array_equal(done.laying.uv, laying.uv)
    proven(skin, done.laying)


def test_cutting_across_goes_between_polygons_or_is_refused() -> None:
    skin, laying = opened(b"o p\nv 0 0 0\nv 9 0 0\nv 9 1 0\nv 0 1 0\nvt 0 0\nvt .9 0\nvt .9 .1\nvt 0 .1\nf 1/1 2/2 3/3 4/4\n")
    done = do(skin, laying, Asked("across", islands=np.array([0])))
    assert done.count == 0 and "never cut" in done.refused[0]
    done = do(skin, laying, Asked("across", islands=np.array([0]), parts=1))
    assert "2 to 64" in done.refused[0]


@pytest.mark.parametrize("end", [(-3.0, 3.1), (14.0, 3.1), (10.2, 5.5)])
def test_a_line_across_an_island_becomes_edges_near_to_it(end: tuple[float, float]) -> None:
    at, faces = quads(10, 6)
    skin, laying = laid(np.column_stack([at, 0 * at[:, 0]]), faces, at)
    begin = (40.0 if end[0] < 0 else -40.0, 3.1)
    found = along_line(skin, laying, 0, np.array([begin, end]))
    s = skin.surface
    ends = s.points[np.concatenate([s.start[found], s.end[found]])]
    if end[1] == 3.1:
        assert np.allclose(ends[:, 1], 3) and s.length[found].sum() == pytest.approx(20), (
            "straight along the row of edges, both sides of each"
        )
    # Every edge lies near the line, and together they cut the island in two.
    line = shapely.LineString([begin, end])
    assert shapely.distance(shapely.points(ends[:, :2]), line).max() < 1.0
    done = do(skin, laying, Asked("cut", edges=found, relax=False))
    assert charts(skin, done.laying).max() == 1


def test_a_line_that_begins_inside_slits_and_one_beside_is_refused() -> None:
    at, faces = quads(10, 6)
    skin, laying = laid(np.column_stack([at, 0 * at[:, 0]]), faces, at)
    found = along_line(skin, laying, 0, np.array([(5.1, 3.0), (20.0, 3.0)]))
    assert skin.surface.length[found].sum() / 2 == pytest.approx(5)
    for line in ([(-1.0, 7.0), (12.0, 7.0)], [(5.0, 3.0), (5.05, 3.0)]):
        with pytest.raises(QuiltError, match=r"[Dd]raw it"):
            along_line(skin, laying, 0, np.array(line))
    with pytest.raises(QuiltError, match="not there"):
        along_line(skin, laying, 7, np.array([(0.0, 0.0), (1.0, 1.0)]))


@FAST
@given(st.integers(0, 10_000))
def test_points_that_are_held_stay_and_the_rest_gets_better(seed: int) -> None:
    rng = np.random.default_rng(seed)
    at, faces = quads(6, 5)
    skin, bent = laid(np.column_stack([at, 0.4 * np.sin(at[:, 0])]), faces, at + 0.2 * rng.random(at.shape))
    rows = skin.surface.faces
    chosen = rng.choice(len(at), 4, replace=False)
    corners = np.array([np.flatnonzero(rows.reshape(-1) == v)[0] for v in chosen])
    before = bent.uv.reshape(-1, 2)[corners]
    done = do(skin, bent, Asked("relax", islands=np.array([0]), points=corners))
    assert done.count == 1
    assert np.allclose(done.laying.uv.reshape(-1, 2)[corners], before, atol=1e-5)
    # All corners at a held point stay with it: nothing is torn.
    for v, place in zip(chosen, before, strict=True):
        assert np.allclose(done.laying.uv.reshape(-1, 2)[rows.reshape(-1) == v], place, atol=1e-5)
    proven(skin, done.laying)
    free = do(skin, bent, Asked("relax", islands=np.array([0])))
    moved = np.abs(done.laying.uv - free.laying.uv).max()
    assert moved > 1e-4, "it lies otherwise than with nothing held"


@settings(max_examples=10, deadline=None)
@example(9358)
@given(st.integers(0, 10_000))
def test_a_loop_on_triangles_never_crosses_itself(seed: int) -> None:
    solid = trimesh.creation.icosphere(3)
    rng = np.random.default_rng(seed)
    skin, _ = laid(
        np.asarray(solid.vertices) * (1 + 0.3 * rng.random((len(solid.vertices), 1))), np.asarray(solid.faces), solid.vertices[:, :2]
    )
    s = skin.surface
    found = loop(s, int(rng.integers(len(s.twin))), np.ones(len(s.twin), bool))
    ends = np.bincount(np.concatenate([s.start[found], s.end[found]]), minlength=len(s.points))
    # Every point lies between two of its edges; only where it comes back to its own way and ends, between three.
    assert ends.max() <= 3 and (ends == 3).sum() <= 2
