"""Unwrapping: known answers, no fold and no overlap on anything, polygons whole, and files that hold the new UVs with all else as it was."""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path

import collada
import numpy as np
import pygltflib
import pytest
import shapely
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Usd, UsdGeom

from bench.mend import stretch
from quilt_core import formats
from quilt_core.errors import Cancelled, QuiltError
from quilt_core.faults.findings import find
from quilt_core.measure.proof import flipped
from quilt_core.model.scene import Mesh, MeshObject, Scene, UvChannel
from quilt_core.unwrap.charts import charts_of
from quilt_core.unwrap.flatten import flatten
from quilt_core.unwrap.meshes import Options, Unwrapped, unwrap
from quilt_core.unwrap.project import projected
from quilt_core.unwrap.skin import bare_laying, revised, skin_of
from quilt_core.unwrap.topology import borders, cut, surface_of
from quilt_core.unwrap.trial import Wish
from quilt_core.uv.analysis import analyse
from tests.real_files import path
from tests.shapes import PLANE

from .test_collada import HUT
from .test_ply import CORNERS
from .test_usd import SHED


def mesh_of(points: np.ndarray, faces: np.ndarray) -> Mesh:
    return Mesh("m", np.asarray(points, float), np.asarray(faces, np.int32), np.full(len(faces), -1, np.int32), {})


def areas(uv: np.ndarray) -> np.ndarray:
    """Areas of triangles (T, 3, 2)."""
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    return 0.5 * np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])


def proven(mesh: Mesh, found: Unwrapped) -> Scene:
    """The mesh with its new UVs, after the faults that the program itself finds are none: no fold, no overlap within an island or between two."""
    mesh.channels[0] = found.channel
    scene = Scene("a", "obj", [mesh], [MeshObject("m", "m", 0, np.eye(4))], [])
    piece = analyse(scene, 0)[0]
    assert piece is not None
    f = find([piece])
    assert not f.turned.any() and not len(f.overlap_pairs) and f.own.max() < 1e-9 * max(1.0, found.area)
    assert found.unsound == 0
    # The proof once more, by shapely: the triangles cover as much as they have together.
    uv = found.channel.uvs[found.channel.triangles]
    sizes = areas(uv)
    triangles = shapely.polygons(uv[sizes > 1e-14 * sizes.max()])
    assert shapely.area(shapely.union_all(shapely.buffer(triangles, 0))) == pytest.approx(sizes.sum(), rel=1e-6)
    return scene


@pytest.mark.reference("Unwrapped cylinders, cones and boxes lie flat without stretch", "closed forms: developable surfaces")
@pytest.mark.parametrize(
    ("shape", "most"),
    [
        (trimesh.creation.cylinder(1, 3, sections=48), 3),
        (trimesh.creation.cone(1, 2, sections=48), 2),
        (trimesh.creation.box((1, 2, 3)), 6),
    ],
)
def test_what_can_lie_flat_lies_flat(shape: trimesh.Trimesh, most: int) -> None:
    found = unwrap(mesh_of(shape.vertices, shape.faces), Options(stretch=1.05))
    proven(mesh_of(shape.vertices, shape.faces), found)
    assert found.charts <= most and found.under[0] > 0.999 and found.l2 == pytest.approx(1, abs=2e-3)
    uv = found.channel.uvs[found.channel.triangles]
    area = areas(uv).sum()
    assert area == pytest.approx(shape.area, rel=5e-3), "at the scale of the surface"


@pytest.mark.parametrize("stretch", [1.1, 1.25, 1.6])
@pytest.mark.parametrize("shape", ["sphere", "torus", "knot"])
def test_round_things_keep_to_the_stretch(shape: str, stretch: float) -> None:
    solid = {
        "sphere": trimesh.creation.icosphere(3),
        "torus": trimesh.creation.torus(1, 0.4, 24, 16),
        "knot": trimesh.creation.capsule(1, 0.3),
    }[shape]
    mesh = mesh_of(solid.vertices, solid.faces)
    found = unwrap(mesh, Options(stretch=stretch))
    proven(mesh, found)
    ratio = stretch**2  # both singular values may be off by the stretch
    assert found.worst < 4 * ratio and found.under[2] > (0.9 if stretch < 1.5 else 0.6)
    if stretch < 1.2:
        assert found.under[0] > 0.5


@pytest.mark.parametrize("name", ["pico-neo2/left.glb", "samsung-odyssey/left.glb"])
def test_real_controllers_come_out_clean(name: str) -> None:
    scene = formats.read(path("webxr", name).read_bytes(), "left.glb")
    made = {n: unwrap(m, Options()) for n, m in enumerate(scene.meshes)}
    body = formats.revise(scene, {n: u.channel for n, u in made.items()}, 0)[""]
    again = formats.read(body, "left.glb")
    area = sum(u.area for u in made.values())
    assert sum(u.under[2] * u.area for u in made.values()) / area > 0.985
    for n, (was, now) in enumerate(zip(scene.meshes, again.meshes, strict=True)):
        assert np.array_equal(now.positions[now.triangles], was.positions[was.triangles]) and np.array_equal(now.materials, was.materials)
        assert np.abs(
            now.channels[0].uvs[now.channels[0].triangles] - made[n].channel.uvs[made[n].channel.triangles]
        ).max() < 1e-5 * np.sqrt(area)
        assert formats.normals(again, n) is not None and np.array_equal(formats.normals(again, n), formats.normals(scene, n))
    old, new = pygltflib.GLTF2.load_from_bytes(scene.source), pygltflib.GLTF2.load_from_bytes(body)
    for a, b in zip(old.meshes, new.meshes, strict=True):
        for p, q in zip(a.primitives, b.primitives, strict=True):
            counts = {new.accessors[k].count for k in vars(q.attributes).values() if isinstance(k, int)}
            assert len(counts) == 1 and counts.pop() >= old.accessors[p.attributes.POSITION].count, "all attributes were parted alike"
    piece = [p for p in analyse(again, 0) if p is not None]
    found = find(piece)
    assert not found.turned.any() and found.own.max() < 1e-9


def halves(mesh: Mesh) -> UvChannel:
    """A channel with a seam along the first polygon's border: every polygon is an island of its own, in a row."""
    faces = np.arange(len(mesh.triangles)) if mesh.polygons is None else mesh.polygons.face_of
    corner = np.arange(mesh.triangles.size).reshape(-1, 3) if mesh.polygons is None else mesh.polygons.triangles
    owner = np.zeros(corner.max() + 1, np.int64)
    owner[corner] = faces[:, None]
    angle = np.arange(len(owner)) * 2.4
    uvs = np.column_stack([2.0 * owner + np.cos(angle), np.sin(angle)]) * 0.05
    return UvChannel(uvs, corner.astype(np.int32))


FILES = {
    "obj": (PLANE + b"v 5 0 0\nv 6 0 0\nv 6 1 0\nf 5 6 7\nf 1/1 2/2 6\n", "a.obj", 0),
    "ply": (CORNERS, "crate.ply", 0),
    "usd": (SHED.encode(), "shed.usda", 1),
    "dae": (HUT.encode(), "hut.dae", 1),
    "bare ply": (b"ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\nelement face 2\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n1 1 0\n0 1 0\n3 0 1 2\n3 0 2 3\n", "bare.ply", 0),
    "bare dae": (HUT.replace('<input semantic="TEXCOORD" source="#t" offset="1" set="0"/>', "").replace('<input semantic="TEXCOORD" source="#t" offset="0" set="0"/>', "").replace('<input semantic="TEXCOORD" source="#d" offset="2" set="3"/>', '<input semantic="COLOR" source="#d" offset="2"/>').encode(), "hut.dae", 0),
}  # fmt: skip


@pytest.mark.parametrize("kind", FILES)
def test_every_format_takes_uvs_with_other_seams(kind: str) -> None:
    data, name, channel = FILES[kind]
    scene = formats.read(data, name, 1.0, {})
    wanted = {n: halves(m) for n, m in enumerate(scene.meshes)}
    body = formats.revise(scene, wanted, channel)[""]
    again = formats.read(body, name, 1.0, {})
    for n, (was, now) in enumerate(zip(scene.meshes, again.meshes, strict=True)):
        assert np.array_equal(now.positions[now.triangles], was.positions[was.triangles])
        number = channel if channel in now.channels else max(now.channels)
        new = now.channels[number]
        assert np.abs(new.uvs[new.triangles] - wanted[n].uvs[wanted[n].triangles]).max() < 1e-6
        for c, old in was.channels.items():
            if c not in (channel, number):
                has = (old.triangles >= 0).all(axis=1)
                kept = now.channels[c]
                assert np.abs(kept.uvs[kept.triangles[has]] - old.uvs[old.triangles[has]]).max() < 1e-6, "other channels stay"
    if name.endswith(".dae"):
        document = collada.Collada(io.BytesIO(body))
        assert len(document.geometries) == 1 and len(document.geometries[0].primitives) == 2


def test_usd_core_reads_the_new_primvar(tmp_path: Path) -> None:
    scene = formats.read(SHED.encode(), "shed.usda", 1.0, {})
    wanted = {n: halves(m) for n, m in enumerate(scene.meshes)}
    (tmp_path / "a.usda").write_bytes(formats.revise(scene, wanted, 0)[""])
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    meshes = [p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh) and p.GetName() in {m.name for m in scene.meshes}]
    names = {m.name: m.channel_names[0] if m.channel_names else "st" for m in scene.meshes}
    for prim in meshes:
        st_ = UsdGeom.PrimvarsAPI(prim).GetPrimvar(names[prim.GetName()])
        counts = np.array(UsdGeom.Mesh(prim).GetFaceVertexCountsAttr().Get())
        assert st_.GetInterpolation() == "faceVarying" and len(st_.ComputeFlattened()) == counts.sum()


def test_lines_of_an_obj_that_are_no_uvs_stay() -> None:
    text = PLANE.replace(b"f 1/1", b"s off\nvn 0 0 1\nf 1/1").replace(b"f 1/1 2/2 3/3 4/4", b"f 1/1/1 2/2/1 3/3/1 4/4/1 # roof")
    scene = formats.read(text, "a.obj")
    body = formats.revise(scene, {0: halves(scene.meshes[0])}, 0)[""]
    plain = [line for line in body.splitlines() if not line.startswith(b"vt ")]
    assert plain == [line for line in text.splitlines() if not line.startswith((b"vt ", b"f "))] + [plain[-1]]
    assert plain[-1].endswith(b"# roof") and plain[-1].count(b"/1 ") == 4


@settings(deadline=None, max_examples=25)
@given(st.integers(0, 10_000), st.integers(3, 40), st.integers(1, 80))
def test_any_heap_of_triangles_is_laid_without_folds(seed: int, points: int, faces: int) -> None:
    """Crossing, doubled, degenerate, non-manifold: whatever has a face with an area gets UVs in which nothing folds or overlaps."""
    random = np.random.default_rng(seed)
    mesh = mesh_of(np.round(random.uniform(size=(points, 3)), int(random.integers(1, 4))), random.integers(0, points, (faces, 3)))
    try:
        found = unwrap(mesh, Options())
    except QuiltError as e:
        assert "no face with an area" in str(e)
        return
    assert found.unsound == 0 and np.isfinite(found.channel.uvs).all() and (found.channel.triangles >= 0).all()
    proven(mesh, found)


def test_polygons_stay_whole_and_asked_seams_are_made() -> None:
    lines = [f"v {x} {y} {0.3 * np.sin(x) * np.cos(y)}" for y in range(9) for x in range(9)]
    lines += [
        f"{'usemtl b' + chr(10) if x == 4 and y == 0 else ''}f {k} {k + 1} {k + 10} {k + 9}"
        for y in range(8)
        for x in range(8)
        if (k := 1 + x + 9 * y)
    ]
    scene = formats.read("\n".join(["usemtl a", *lines]).encode(), "a.obj")
    mesh = scene.meshes[0]
    one = unwrap(mesh, Options())
    assert one.charts == 1
    rows = np.full(len(mesh.polygons.corners), -1)
    for t, corners in zip(one.channel.triangles, mesh.polygons.triangles, strict=True):
        assert all(rows[c] in (-1, r) for c, r in zip(corners, t, strict=True)), "a corner of a polygon has one row"
        rows[corners] = t
    box = trimesh.creation.box((1, 1, 1)).subdivide()
    solid = mesh_of(box.vertices, box.faces)
    assert unwrap(solid, Options(hard_edges=60)).charts == 6
    solid.materials[:] = (np.arange(len(box.faces)) % 2).astype(np.int32)
    borders_ = unwrap(solid, Options(material_borders=True))
    assert borders_.charts > 6
    assert unwrap(mesh, Options(material_borders=True)).charts >= 2


def test_flat_sides_stay_flat_where_that_is_wished() -> None:
    """A coarse box: within a stretch of 1.25 three sides could share a corner that lies inside their chart; kept flat, every side is a rectangle."""
    solid = trimesh.creation.box((1, 1.5, 2))
    mesh = mesh_of(solid.vertices, solid.faces)
    found = unwrap(mesh, Options())
    proven(mesh, found)
    assert found.under[0] == pytest.approx(1) and found.worst == pytest.approx(1, abs=1e-6) and found.charts <= 3


def test_flat_sides_are_hardly_stretched_where_that_is_wished() -> None:
    # A plate with a rounded edge: its top and bottom are flat, and could be bent within the stretch.
    solid = trimesh.creation.cylinder(1, 0.2, sections=48)
    for _ in range(2):
        solid = solid.subdivide()
    points = np.asarray(solid.vertices) * (1 + 0.3 * (np.abs(solid.vertices[:, [2]]) < 0.09))
    mesh = mesh_of(points, solid.faces)
    found = unwrap(mesh, Options(stretch=1.6))
    proven(mesh, found)
    s = Scene("a", "obj", [mesh], [MeshObject("m", "m", 0, np.eye(4))], [])
    ratio, area = stretch(s, 0, found.channel)
    level = np.abs(points[mesh.triangles][:, :, 2]).min(axis=1) > 0.0999
    assert level.sum() > 100 and area[level & (ratio > 1.1)].sum() < 0.05 * area[level].sum()


def test_long_needles_are_not_parted_like_a_comb() -> None:
    # The sides of a tube are needles from end to end; each of them is nearer to one end than its neighbours.
    solid = trimesh.creation.capsule(2, 0.4)
    mesh = mesh_of(solid.vertices, solid.faces)
    found = unwrap(mesh, Options())
    proven(mesh, found)
    assert found.seam < 5 * np.sqrt(found.area) and found.charts <= 4


def test_a_stop_ends_it_and_wrong_options_are_told() -> None:
    ball = trimesh.creation.icosphere(2)
    with pytest.raises(Cancelled):
        unwrap(mesh_of(ball.vertices, ball.faces), Options(), stop=lambda: True)
    for wrong in ({"stretch": 0.9}, {"stretch": float("nan")}, {"hard_edges": 0.0}):
        with pytest.raises(QuiltError):
            Options(**wrong)
    with pytest.raises(QuiltError, match="no face with an area"):
        unwrap(mesh_of(np.zeros((3, 3)), np.array([[0, 1, 2]])), Options())


@pytest.mark.reference("Topology of cut surfaces: loops and genus", "Euler's formula")
def test_loops_and_genus_of_cut_surfaces() -> None:
    torus, tube = trimesh.creation.torus(1, 0.4, 12, 8), trimesh.creation.cylinder(1, 2, sections=12)
    s = surface_of(torus.vertices, torus.faces)
    none = np.zeros(len(s.twin), bool)
    c = cut(s, none)
    b = borders(s, c, none)
    assert (c.charts, b.loops.tolist(), b.genus.tolist()) == (1, [0], [1])
    side = np.abs(tube.face_normals[:, 2]) < 0.5
    s = surface_of(tube.vertices, tube.faces[side])
    c = cut(s, np.zeros(len(s.twin), bool))
    b = borders(s, c, np.zeros(len(s.twin), bool))
    assert (c.charts, b.loops.tolist(), b.genus.tolist()) == (1, [2], [0])
    seam, _ = charts_of(s, Wish(1.1, np.zeros(len(s.twin), bool), np.arange(len(s.faces))))
    flat = flatten(s, cut(s, seam), borders(s, cut(s, seam), seam))
    assert flat.greatest.max() == pytest.approx(1, abs=1e-3) and flat.least.min() == pytest.approx(1, abs=1e-3)


def divided_box() -> trimesh.Trimesh:
    solid = trimesh.creation.box((1, 2, 3))
    for _ in range(3):
        solid = solid.subdivide()
    return solid


def two_that_touch() -> trimesh.Trimesh:
    """Two boxes that have an edge in common: four faces meet there."""
    one = divided_box()
    two = one.copy()
    two.apply_translation([1, 2, 0])
    both = trimesh.util.concatenate([one, two])
    both.merge_vertices()
    return both


def twisted_band() -> trimesh.Trimesh:
    """A band with half a turn in it: it has one side."""
    n, m = 120, 6
    t, w = np.meshgrid(np.linspace(0, 2 * np.pi, n, endpoint=False), np.linspace(-0.3, 0.3, m), indexing="ij")
    points = np.stack([(1 + w * np.cos(t / 2)) * np.cos(t), (1 + w * np.cos(t / 2)) * np.sin(t), w * np.sin(t / 2)], axis=2).reshape(-1, 3)
    faces = []
    for i in range(n):
        for j in range(m - 1):
            a, b = i * m + j, i * m + j + 1
            c, d = ((i + 1) * m + j, (i + 1) * m + j + 1) if i < n - 1 else (m - 1 - j, m - 2 - j)
            faces += [[a, c, d], [a, d, b]]
    return trimesh.Trimesh(points, faces, process=False)


@pytest.mark.parametrize("shape", ["sphere", "torus", "box", "touching", "band", "soup"])
def test_large_surfaces_are_decided_on_a_simpler_copy(shape: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same code as for a hundred thousand triangles, on what takes a second: nothing folds, and what is flat lies flat."""
    monkeypatch.setattr("quilt_core.unwrap.charts._LARGE", 400)
    monkeypatch.setattr("quilt_core.unwrap.charts._COPY", 300)
    rng = np.random.default_rng(1)
    solid = {
        "sphere": lambda: trimesh.creation.icosphere(4),
        "torus": lambda: trimesh.creation.torus(1, 0.4, 48, 24),
        "box": divided_box,
        "touching": two_that_touch,
        "band": twisted_band,
        "soup": lambda: trimesh.Trimesh(rng.random((300, 3)), rng.integers(0, 300, (900, 3)), process=False),
    }[shape]()
    faces = solid.faces[(solid.faces != np.roll(solid.faces, 1, axis=1)).all(axis=1)]
    mesh = mesh_of(solid.vertices, faces)
    found = unwrap(mesh, Options())
    proven(mesh, found)
    assert found.under[2] > 0.95
    if shape in ("box", "touching"):
        boxes = 1 if shape == "box" else 2
        # Where four faces meet, it is a matter of pairing what is a side.
        assert found.under[0] > (0.999 if shape == "box" else 0.95), "flat sides stay flat"
        assert found.charts <= 6 * boxes and found.seam < boxes * 24 - 1, "fewer seams than all edges of a box have"


def test_a_copy_keeps_materials_and_hard_edges_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("quilt_core.unwrap.charts._LARGE", 400)
    solid = trimesh.creation.icosphere(4)
    mesh = mesh_of(solid.vertices, solid.faces)
    top = solid.triangles_center[:, 2] > 0
    mesh = replace(mesh, materials=top.astype(np.int32))
    found = unwrap(mesh, Options(material_borders=True))
    proven(mesh, found)
    island = found.revised.island
    for k in np.unique(island):
        assert len(np.unique(top[island == k])) == 1, "no island has two materials"


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 10_000))
def test_small_holes_keep_their_shape_where_that_is_asked_for(seed: int) -> None:
    """Fans of faces are taken out of a dome. Trimesh's outline of what is open tells the rings; arithmetic tells how far each is stretched in the plane."""
    ball = trimesh.creation.icosphere(3)
    points, faces = np.asarray(ball.vertices), np.asarray(ball.faces)[ball.triangles_center[:, 2] > -0.2]
    used, gone = np.zeros(len(points), bool), np.zeros(len(faces), bool)
    for p in np.random.default_rng(seed).choice(len(points), 40, replace=False):
        fan = (faces == p).any(axis=1)
        if fan.sum() > 4 and not used[faces[fan]].any():
            used[faces[fan]] = True
            gone |= fan
    mesh = mesh_of(points, faces[~gone])
    out = unwrap(mesh, Options(close_holes=True))
    proven(mesh, out)
    # The new row of each point, where all faces at it share one; NaN where a seam passes.
    uv = out.channel.uvs[out.channel.triangles]
    place = np.full((len(points), 2), np.nan)
    for p in range(len(points)):
        mine = uv[mesh.triangles == p]
        if len(mine) and np.ptp(mine, axis=0).max() < 1e-12:
            place[p] = mine[0]
    whole = 0
    for fan in np.flatnonzero(used & ~np.isin(np.arange(len(points)), faces[~gone])):
        at = faces[gone][(faces[gone] == fan).any(axis=1)]
        ring = np.unique(at[at != fan])
        if np.isnan(place[ring]).any():
            continue
        whole += 1
        flat = points[ring] - points[ring].mean(axis=0)
        plane = flat @ np.linalg.svd(flat)[2][:2].T
        there = place[ring] - place[ring].mean(axis=0)
        fitted = np.linalg.lstsq(plane, there, rcond=None)[0]
        most, least = np.linalg.svd(fitted, compute_uv=False)
        # The allowed stretch is 1.25 of the mean each way.
        assert most / least < 1.25**2
        assert np.abs(plane @ fitted - there).max() < 0.15 * np.abs(there).max()
    assert whole >= 3


@pytest.mark.parametrize("copies", [3, 40, 600])
def test_edges_in_which_very_many_faces_meet_are_paired_flat(copies: int) -> None:
    """A box that lies many times in one place: every half-edge has one that runs the other way round, and the diagonals of its sides bend by nothing."""
    points = np.array([[x, y, z] for x in (0.0, 1.0) for y in (0.0, 1.0) for z in (0.0, 1.0)])
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    box = np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])
    s = surface_of(points, np.tile(box, (copies, 1)))
    start, end = s.faces.reshape(-1), np.roll(s.faces, -1, axis=1).reshape(-1)
    h = np.arange(len(s.twin))
    assert (s.twin >= 0).all() and (s.twin[s.twin] == h).all() and (start[s.twin] == end).all()
    diagonal = s.length > 1.2
    assert np.allclose(s.bend[diagonal], 0) and np.allclose(np.abs(s.bend[~diagonal]), np.pi / 2)


@pytest.mark.parametrize("way", ["unwrap", "project"])
def test_new_uvs_of_an_object_that_is_placed_by_a_mirroring_read_the_right_way_round(way: str) -> None:
    """`verify` called them mirrored. glTF 2.0, 3.7.4: a node whose determinant is negative turns the winding, so its front is seen from the other side."""
    ball = trimesh.creation.icosphere(2)
    scene = trimesh.Scene()
    scene.add_geometry(ball, node_name="ball", geom_name="ball", transform=np.diag([-1.0, 1, 1, 1]))
    read = formats.read(scene.export(file_type="glb"), "ball.glb")
    mesh, placing = read.meshes[0], read.objects[0].world[:3, :3]
    if way == "unwrap":
        channel = unwrap(mesh, Options(), placing).channel
    else:
        skin = skin_of(mesh, placing)
        channel = revised(
            skin, projected(skin, bare_laying(skin), np.ones(len(skin.kept), bool), "box")[0], np.ones(len(skin.kept), bool)
        ).channel
    mesh.channels[0] = channel
    piece = analyse(read, 0)[0]
    assert piece is not None and piece.islands.count > 1 and not flipped(piece).any()
