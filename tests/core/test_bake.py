"""The test bake against closed forms and plain ray tracing."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from quilt_core.measure.bake import High, LowMesh, _Rays, bake, normals_of, range_of, shading
from quilt_core.measure.curvature import curvature_of
from quilt_core.model.pairs import details, pairs_by_name, partner
from quilt_core.model.scene import Mesh


def part_of(
    positions: np.ndarray, triangles: np.ndarray, uvs: np.ndarray, normals: np.ndarray, owner: int = 0, curve: np.ndarray | None = None
) -> LowMesh:
    n = len(triangles)
    at = normals[triangles] if normals.ndim == 2 else normals
    flat = np.zeros(len(positions)) if curve is None else curve
    points = Mesh("", positions, triangles.astype(np.int32), np.full(n, -1, np.int32), {}).points.astype(np.int64)
    return LowMesh(positions, triangles.astype(np.int64), uvs, np.full(n, owner), np.full(n, owner), np.full(n, owner), at, flat, points)


def high_of(
    part: LowMesh, normals: np.ndarray | None = None, curve: float = 0.0, shift: np.ndarray | tuple[float, ...] = (0, 0, 0)
) -> High:
    """A detailed mesh of the same triangles, moved, with other normals (3,) or curvature; its material is 7."""
    n = part.normals if normals is None else np.tile(normals, (len(part.triangles), 3, 1))
    return High(part.positions + shift, part.triangles, n, np.full(len(part.triangles), 7), np.full(len(part.positions), curve))


def plane(size: float, height: float = 0.0, up: float = 1.0, owner: int = 0, u0: float = 0.0) -> LowMesh:
    """A level square around the origin that fills the tile that begins at u0; its normal points up or down."""
    p = np.array([[-1, 0, 1], [1, 0, 1], [1, 0, -1], [-1, 0, -1]], float) * size / 2 + [0, height, 0]
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float) + [u0, 0]
    tri = np.array([[0, 1, 2], [0, 2, 3]]) if up > 0 else np.array([[0, 2, 1], [0, 3, 2]])
    return part_of(p, tri, uv[tri], np.tile([0.0, up, 0.0], (4, 1)), owner)


def sphere(radius: float, steps: int = 48) -> tuple[Mesh, np.ndarray]:
    """A globe with its UVs along longitude and latitude: (mesh, UVs (T, 3, 2))."""
    u, v = np.meshgrid(np.linspace(0, 1, 2 * steps + 1), np.linspace(0, 1, steps + 1))
    a, b = 2 * np.pi * u, np.pi * (v - 0.5)
    p = radius * np.stack([np.cos(b) * np.cos(a), np.sin(b), -np.cos(b) * np.sin(a)], axis=-1).reshape(-1, 3)
    i = np.arange(steps)[:, None] * (2 * steps + 1) + np.arange(2 * steps)
    quads = np.stack([i, i + 1, i + 2 * steps + 2, i + 2 * steps + 1], axis=-1).reshape(-1, 4)
    tri = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    size = np.linalg.norm(np.cross(p[tri[:, 1]] - p[tri[:, 0]], p[tri[:, 2]] - p[tri[:, 0]]), axis=1)
    tri = tri[size > 1e-9]
    uv = np.stack([u, v], axis=-1).reshape(-1, 2)
    return Mesh("globe", p, tri.astype(np.int32), np.full(len(tri), -1, np.int32), {}), uv[tri]


@pytest.mark.reference("Normals and curvature of a sphere", "closed form")
def test_a_sphere_has_the_normals_and_the_curvature_of_one() -> None:
    """Closed forms: the normal is the place over the radius, the mean curvature one over the radius."""
    mesh, uv = sphere(2.0)
    normal = normals_of(mesh, mesh.positions)
    assert np.abs(normal - mesh.positions / 2).max() < 0.01
    exact = mesh.positions / 2
    assert curvature_of(mesh, mesh.positions, exact) == pytest.approx(0.5, rel=1e-9)
    part = part_of(mesh.positions, mesh.triangles, uv, normal, curve=curvature_of(mesh, mesh.positions, normal))
    found = bake([part], {}, 128, maps=("normal object", "normal tangent", "position", "curvature"))
    inner = slice(12, -12)
    n = found.maps["normal object"][inner] * 2 - 1
    low, span = mesh.positions.min(axis=0), np.ptp(mesh.positions, axis=0)
    assert np.abs(n - (found.maps["position"][inner] * span + low) / 2).max() < 0.02
    assert found.maps["normal tangent"][inner].reshape(-1, 3) == pytest.approx(np.tile([0.5, 0.5, 1.0], (128 * (128 - 24), 1)), abs=1e-6)
    # The whole of a sphere bends alike, so that the ends of the map are where it is.
    assert found.half_range == pytest.approx(0.5, rel=0.03) and found.maps["curvature"][inner].min() > 0.97
    # The seam at longitude 0 is the same place on both sides.
    assert (
        found.seams["position"].mean < 0.02
        and found.seams["position"].count == 48
        and not len(found.seams["normal object"].bad)
        and found.twice == 0
        and len(found.missed) == 0
    )


def pipe(radius: float, around: int, along: int, hollow: bool) -> tuple[Mesh, np.ndarray]:
    """Half a pipe along z, seen from outside or (a groove) from inside, with its exact normals (V, 3)."""
    a, z = np.meshgrid(np.linspace(0, np.pi, around + 1), np.linspace(0, 3, along + 1))
    out = np.stack([np.cos(a), np.sin(a), np.zeros_like(a)], axis=-1).reshape(-1, 3)
    p = radius * out + np.stack([0 * z, 0 * z, z], axis=-1).reshape(-1, 3)
    i = np.arange(along)[:, None] * (around + 1) + np.arange(around)
    quads = np.stack([i, i + 1, i + around + 2, i + around + 1], axis=-1).reshape(-1, 4)
    tri = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    tri = tri[:, ::-1] if hollow else tri
    return Mesh("pipe", p, tri.astype(np.int32), np.full(len(tri), -1, np.int32), {}), -out if hollow else out


@pytest.mark.reference("Curvature of a cylinder and of a groove", "closed form")
@pytest.mark.parametrize(("around", "along"), [(8, 1), (8, 40), (60, 3)])
@pytest.mark.parametrize("radius", [0.02, 3.0])
def test_a_cylinder_and_a_groove_have_half_the_curvature_of_their_radius(radius: float, around: int, along: int) -> None:
    """Closed form: one principal curvature is 1 / r and the other 0, so the mean is 1 / (2 r), however it is cut; below 0 where it is hollow."""
    for hollow in (False, True):
        mesh, normals = pipe(radius, around, along, hollow)
        assert curvature_of(mesh, mesh.positions, normals) == pytest.approx((-0.5 if hollow else 0.5) / radius, rel=1e-9)


def test_maps_of_bends_are_grey_where_it_is_flat_and_dark_in_the_hollow() -> None:
    """A low plane over a detailed one: two thirds of a half range are 5 / 6 of the way to white, or 1 / 6; in the cavity 1 and 1 / 3 (arithmetic)."""
    low, flat = plane(2.0), plane(2.0, 0.01)
    sharp = high_of(plane(2.0, owner=1, u0=5), curve=3.0)
    for curve, bend, cavity in ((2.0, 5 / 6, 1.0), (-2.0, 1 / 6, 1 / 3), (0.0, 0.5, 1.0)):
        found = bake(
            [low, plane(2.0, owner=1, u0=5)], {0: high_of(flat, curve=curve), 1: sharp}, 16, maps=("curvature", "cavity", "material")
        )
        assert found.half_range == 3.0
        assert found.maps["curvature"] == pytest.approx(bend) and found.maps["cavity"] == pytest.approx(cavity)
    plain = bake([plane(2.0, owner=7)], {}, 16, maps=("material",)).maps["material"]
    assert found.maps["material"] == pytest.approx(plain), "the material is that of the detailed mesh"
    level = [plane(2.0)]
    assert bake(level, {}, 16, maps=("curvature",)).maps["curvature"] == pytest.approx(0.5) and range_of(level, {}) > 0


def test_the_range_of_curvature_leaves_out_the_sharpest_rims() -> None:
    """A plate of which 1 % by area bends by 400 / m and half by 2 / m: the ends of the map are 2 / m."""
    p = np.array([[0, 0, 0], [50, 0, 0], [50, 0, 1], [0, 0, 1], [51, 0, 0], [51, 0, 1], [101, 0, 0], [101, 0, 1]], float)
    loose = np.array([[0, 1, 2], [0, 2, 3], [1, 4, 5], [1, 5, 2], [4, 6, 7], [4, 7, 5]])
    positions, curve = p[loose].reshape(-1, 3), np.repeat([2.0, 2.0, 400.0, 400.0, 0.0, 0.0], 3)
    part = part_of(positions, np.arange(18).reshape(-1, 3), np.zeros((6, 3, 2)), np.tile([0, 1.0, 0], (18, 1)), curve=curve)
    assert range_of([part], {}) == 2.0


def test_everything_is_seen_from_the_detailed_mesh() -> None:
    """The detailed mesh lies 0.05 under the low one, which must not darken it; its place is at its own height, as trimesh's rays find it."""
    low = plane(2.0)
    floor = high_of(low, shift=(0, -0.05, 0))
    found = bake([low], {0: floor}, 16, maps=("occlusion", "position"), cage=0.1)
    assert found.maps["occlusion"].min() == 1.0
    rng = np.random.default_rng(3)
    bumpy, _ = sphere(1.0, 24)
    bumpy.positions *= rng.uniform(0.9, 1.1, (len(bumpy.positions), 1))
    high = High(bumpy.positions, bumpy.triangles.astype(np.int64), np.zeros((len(bumpy.triangles), 3, 3)), np.zeros(len(bumpy.triangles), np.int64), np.zeros(len(bumpy.positions)))  # fmt: skip
    roof = plane(2.0, 1.2)
    at = bake([roof], {0: high}, 24, maps=("position",), cage=3.0).maps["position"]
    every = np.concatenate([roof.positions, bumpy.positions])
    at = at * np.ptp(every, axis=0) + every.min(axis=0)
    x = (np.arange(24) + 0.5) / 12 - 1
    starts = np.stack([*np.meshgrid(x, x, indexing="xy")], axis=-1)
    origin = np.stack([starts[..., 0], np.full((24, 24), 4.2), starts[..., 1]], axis=-1).reshape(-1, 3)
    outside = trimesh.Trimesh(bumpy.positions, bumpy.triangles, process=False)
    spots, rays, _ = outside.ray.intersects_location(origin, np.tile([0, -1.0, 0], (576, 1)), multiple_hits=False)
    off = np.abs(at.reshape(-1, 3)[rays] - spots).max(axis=1)
    # A ray that meets an edge exactly may slip between its two triangles in one of the two.
    assert len(rays) > 300 and (off > 1e-5).sum() <= 2


@pytest.mark.parametrize("height", [0.5, 1.0, 3.0])
def test_a_plane_under_a_plane(height: float) -> None:
    """Closed form: a level point sees a parallel disc of radius R at height h under the view factor R^2 / (R^2 + h^2)."""
    angle = np.linspace(0, 2 * np.pi, 97)[:-1]
    rim = np.column_stack([np.cos(angle), np.full(96, height), np.sin(angle)])
    fan = np.column_stack([np.full(96, 96), np.arange(96), (np.arange(96) + 1) % 96])
    disc = part_of(np.vstack([rim, [[0, height, 0]]]), fan, np.zeros((96, 3, 2)) + 5, np.tile([0, -1.0, 0], (97, 1)), 1)
    found = bake([plane(0.02), disc], {}, 8, maps=("occlusion",), rays=1024, reach=100.0)
    assert found.maps["occlusion"].mean() == pytest.approx(1 - 1 / (1 + height**2), abs=0.01)
    near = bake([plane(0.02), disc], {}, 8, maps=("occlusion",), rays=64, reach=0.4 * height)
    assert near.maps["occlusion"].min() == 1.0, "beyond reach nothing darkens"


def test_the_bottom_of_an_open_box() -> None:
    """Closed form: the view factor from a level point to a parallel rectangle a x b at height c with a corner above it is
    (A / sqrt(1 + A^2) atan(B / sqrt(1 + A^2)) + B / sqrt(1 + B^2) atan(A / sqrt(1 + B^2))) / (2 pi), A = a / c, B = b / c; four of them make the lid."""
    c, half = 1.5, 1.0
    walls = []
    for k in range(4):
        s, t = np.sin(k * np.pi / 2), np.cos(k * np.pi / 2)
        p = np.array([[half, 0, -half], [half, 0, half], [half, c, half], [half, c, -half]]) @ np.array([[t, 0, s], [0, 1, 0], [-s, 0, t]])
        walls.append(part_of(p, np.array([[0, 1, 2], [0, 2, 3]]), np.zeros((2, 3, 2)) + 5, np.zeros((4, 3)), k + 1))
    a = half / c
    root = np.sqrt(1 + a * a)
    wanted = 4 * 2 * a / root * np.arctan(a / root) / (2 * np.pi)
    found = bake([plane(0.02), *walls], {}, 8, maps=("occlusion",), rays=1024, reach=100.0)
    assert found.maps["occlusion"].mean() == pytest.approx(wanted, abs=0.01)


def test_normals_of_the_file_are_turned_with_the_object() -> None:
    """A roof stretched to twice its width: (1, 1, 0) / sqrt 2 becomes (1, 2, 0) / sqrt 5, since normals go with the inverse (arithmetic)."""
    roof = Mesh("roof", np.array([[0, 1, 0], [1, 0, 0], [0, 1, 1.0]]), np.array([[0, 1, 2]], np.int32), np.zeros(1, np.int32), {})
    given = np.full((1, 3, 3), [0.5**0.5, 0.5**0.5, 0.0])
    smooth = normals_of(roof, roof.positions * [2, 1, 1])
    found = shading(given, smooth, roof.triangles, np.diag([2.0, 1.0, 1.0, 1.0]))
    assert found[0] == pytest.approx(np.tile([1 / 5**0.5, 2 / 5**0.5, 0], (3, 1)))
    assert np.abs(found[0] @ (roof.positions * [2, 1, 1])[[1, 2]].T - found[0] @ (roof.positions * [2, 1, 1])[[0, 0]].T).max() < 1e-12
    assert shading(None, smooth, roof.triangles, np.eye(4)) == pytest.approx(smooth[roof.triangles])
    assert shading(given * 0, smooth, roof.triangles, np.eye(4)) == pytest.approx(smooth[roof.triangles]), "no length, no normal"


def test_a_detailed_mesh_gives_its_normals_along_rays() -> None:
    """A flat detailed mesh whose normals lean by 0.3 toward +x: u runs along x here, so the tangent-space normal leans toward +u; v runs along -z."""
    low = plane(2.0)
    lean = np.array([0.3, np.sqrt(1 - 0.13), -0.2])
    detail = plane(2.0, 0.01)
    high = high_of(detail, lean)
    found = bake([low], {0: high}, 32, maps=("normal tangent", "normal object"))
    assert found.maps["normal tangent"].reshape(-1, 3) * 2 - 1 == pytest.approx(np.tile([0.3, 0.2, lean[1]], (1024, 1)), abs=1e-5)
    assert found.maps["normal object"].reshape(-1, 3) * 2 - 1 == pytest.approx(np.tile(lean, (1024, 1)), abs=1e-5)
    half = high_of(part_of(detail.positions * [0.5, 1, 1] + [0.5, 0, 0], detail.triangles, detail.uvs, detail.normals), lean)
    missing = bake([low], {0: half}, 32, maps=("normal tangent",))
    assert len(missing.missed) == 512 and missing.missed[:, 0].max() < 0.5
    far = high_of(detail, lean, shift=(0, 5, 0))
    assert len(bake([low], {0: far}, 32, maps=("normal tangent",), cage=0.1).missed) == 1024


def test_texels_that_two_islands_write_are_counted() -> None:
    assert bake([plane(1), plane(1, 1, owner=1)], {}, 16, maps=("object",)).twice > 200
    apart = bake([plane(1), plane(1, 1, owner=1, u0=1.0)], {}, 16, maps=("object", "material"))
    assert apart.twice == 0 and len(np.unique(apart.maps["object"].reshape(-1, 3), axis=0)) == 1


@pytest.mark.reference("Ray hits of the test bake", "plain arithmetic")
def test_rays_against_plain_arithmetic() -> None:
    """The nearest hit of random rays by solving for each triangle (Moeller and Trumbore 1997, from memory)."""
    rng = np.random.default_rng(1)
    corners = rng.uniform(-1, 1, (60, 3, 3))
    origin, way = rng.uniform(-2, 2, (300, 3)), rng.normal(size=(300, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    best = np.full(300, np.inf)
    for k in range(300):
        h = np.cross(way[k], e2)
        det = (e1 * h).sum(axis=1)
        s = origin[k] - corners[:, 0]
        u = (s * h).sum(axis=1) / det
        q = np.cross(s, e1)
        v, t = (way[k] * q).sum(axis=1) / det, (e2 * q).sum(axis=1) / det
        good = (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 1e-6)
        best[k] = t[good].min(initial=np.inf)
    tri, far, _ = _Rays(corners).hit(origin, way)
    assert ((tri >= 0) == np.isfinite(best)).mean() > 0.99
    both = (tri >= 0) & np.isfinite(best)
    assert both.sum() > 30 and np.abs(far[both] - best[both]).max() < 1e-3


def test_seams_are_judged_by_a_limit() -> None:
    """Two squares meet at one edge and lie apart on the map. What they are baked from leans by 0.2 along x on one side and by -0.2 on the other, which is
    0.2 of the range of -1 to 1. Where the low mesh itself bends so, it is a hard edge, and no seam makes the maps differ."""
    p = np.array([[-1, 0, 1], [0, 0, 1], [0, 0, -1], [-1, 0, -1], [0, 0, 1], [1, 0, 1], [1, 0, -1], [0, 0, -1]], float)
    tri = np.array([[0, 1, 2], [0, 2, 3], [4, 5, 6], [4, 6, 7]])
    uv = np.array([[0, 0], [0.4, 0], [0.4, 1], [0, 1], [0.6, 0], [1, 0], [1, 1], [0.6, 1]], float)
    tilted = np.array([[0.2 if k < 4 else -0.2, 0.96**0.5, 0.0] for k in range(8)])
    part, high = part_of(p, tri, uv[tri], np.tile([0, 1.0, 0], (8, 1))), high_of(part_of(p, tri, uv[tri], tilted))
    normal = {
        limit: bake([part], {0: high}, 64, maps=("normal object",), seam_limit=limit).seams["normal object"] for limit in (0.05, 0.25)
    }
    assert normal[0.05].count == 1 and normal[0.05].greatest == pytest.approx(0.2) and len(normal[0.25].bad) == 0
    assert normal[0.05].bad[0] == pytest.approx([0.4, 0.5], abs=1.5 / 64)
    assert bake([part_of(p, tri, uv[tri], tilted)], {}, 64, maps=("normal object",)).seams["normal object"].count == 0


@pytest.mark.parametrize("px", [24, 64, 200])
def test_what_bends_fast_is_no_fault_of_its_seam(px: int) -> None:
    """A globe whose map has a few texels around it: from one side of its seam to the other the normals turn by up to 15 degrees, as from any texel to the
    next."""
    mesh, uv = sphere(1.0)
    part = part_of(mesh.positions, mesh.triangles, uv, mesh.positions.copy(), curve=np.ones(len(mesh.positions)))
    seams = bake([part], {}, px, maps=("normal object", "position", "curvature")).seams
    assert seams["normal object"].count > 40 and all(len(s.bad) == 0 for s in seams.values())


def test_detailed_meshes_without_uvs_need_none() -> None:
    names = [["crate_low", "lid"], ["crate_HIGH", "lid_high", "tub_low", "tub_high"]]
    assert pairs_by_name(names) == {(0, 0): (1, 0), (1, 2): (1, 3)}
    assert details(names, [[False, True], [True, True, False, False]]) == {(1, 0): (0, 0)}, "one with UVs is packed like any other"


def test_partners_by_name() -> None:
    """Common practice, no source: _low and _high."""
    assert partner("Crate_LOW") == ("crate", False) and partner("crate_high") == ("crate", True) and partner("crate") is None
