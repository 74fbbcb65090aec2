"""The test bake against closed forms and plain ray tracing."""

from __future__ import annotations

import numpy as np
import pytest

from quilt_core.measure.bake import High, LowMesh, _Rays, bake, curvature_of, normals_of, partner, shading
from quilt_core.model.scene import Mesh


def part_of(positions: np.ndarray, triangles: np.ndarray, uvs: np.ndarray, normals: np.ndarray, owner: int = 0) -> LowMesh:
    n = len(triangles)
    at = normals[triangles] if normals.ndim == 2 else normals
    return LowMesh(positions, triangles.astype(np.int64), uvs, np.full(n, owner), np.full(n, owner), np.full(n, owner), at)


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
    part = part_of(mesh.positions, mesh.triangles, uv, normal)
    found = bake(
        [part],
        {},
        128,
        maps=("normal object", "normal tangent", "position", "curvature"),
        curve=[curvature_of(mesh, mesh.positions, normal)],
    )
    inner = slice(12, -12)
    n = found.maps["normal object"][inner] * 2 - 1
    low, span = mesh.positions.min(axis=0), np.ptp(mesh.positions, axis=0)
    assert np.abs(n - (found.maps["position"][inner] * span + low) / 2).max() < 0.02
    assert found.maps["normal tangent"][inner].reshape(-1, 3) == pytest.approx(np.tile([0.5, 0.5, 1.0], (128 * (128 - 24), 1)), abs=1e-6)
    size = float(np.linalg.norm(span))
    assert found.maps["curvature"][inner] == pytest.approx(0.5 + 0.5 * size / 40, rel=0.03)
    # The seam at longitude 0 is the same place on both sides.
    assert found.seams["position"][0] < 0.02 and found.twice == 0 and len(found.missed) == 0


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
    high = High(detail.positions, detail.triangles, np.tile(lean, (len(detail.triangles), 3, 1)))
    found = bake([low], {0: high}, 32, maps=("normal tangent", "normal object"))
    assert found.maps["normal tangent"].reshape(-1, 3) * 2 - 1 == pytest.approx(np.tile([0.3, 0.2, lean[1]], (1024, 1)), abs=1e-5)
    assert found.maps["normal object"].reshape(-1, 3) * 2 - 1 == pytest.approx(np.tile(lean, (1024, 1)), abs=1e-5)
    half = High(detail.positions * [0.5, 1, 1] + [0.5, 0, 0], detail.triangles, high.normals)
    missing = bake([low], {0: half}, 32, maps=("normal tangent",))
    assert len(missing.missed) == 512 and missing.missed[:, 0].max() < 0.5
    far = High(detail.positions + [0, 5, 0], detail.triangles, high.normals)
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


def test_partners_by_name() -> None:
    """Common practice, no source: _low and _high."""
    assert partner("Crate_LOW") == ("crate", False) and partner("crate_high") == ("crate", True) and partner("crate") is None
