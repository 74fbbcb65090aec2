"""The test bake: a small stand-in for the baker outside, to see what goes wrong before it does.

Every texel whose middle a triangle covers gets what the surface has there: which object and material it is, its position, its normals, how open it
lies (ambient occlusion), how it bends and where it is hollow. Of a low mesh with a detailed one all but the object comes from that, along rays.
Rays are traced by Embree.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.colours import number_colour
from ..model.normals import turned_normals
from ..model.scene import Floats, Mesh
from .curvature import half_range
from .map_seams import SEAM_LIMIT, Seams, judged, sides_of
from .texels import cover, dilated, owners

MAPS = ("object", "material", "position", "normal object", "normal tangent", "occlusion", "curvature", "cavity")


@dataclass(frozen=True)
class LowMesh:
    """A placed mesh that is baked: world positions (V, 3), triangles (T, 3), UVs (T, 3, 2) as they lie on the sheet, for each triangle its island,
    object and material number (T,), normals (T, 3, 3) at its corners, mean curvature (V,) in 1 / m, and which point each vertex is at (V,)."""

    positions: Floats
    triangles: NDArray[np.int64]
    uvs: Floats
    island: NDArray[np.int64]
    owner: NDArray[np.int64]
    material: NDArray[np.int64]
    normals: Floats
    curve: Floats
    points: NDArray[np.int64]


@dataclass(frozen=True)
class High:
    """A detailed mesh that is baked from: world positions (V, 3), triangles (T, 3), normals (T, 3, 3) at their corners, material number (T,) and mean
    curvature (V,) in 1 / m."""

    positions: Floats
    triangles: NDArray[np.int64]
    normals: Floats
    material: NDArray[np.int64]
    curve: Floats


@dataclass
class Baked:
    """Maps (px, px, 3) of 0 to 1 by name, and what went wrong: texels that two islands cover, rays that hit nothing (places (k, 2) in UV), and the
    seams of each map that runs on over them. `half_range`: the curvature in 1 / m that black (minus it) and white stand for."""

    maps: dict[str, Floats]
    covered: NDArray[np.bool_]
    twice: int
    missed: Floats
    half_range: float
    seams: dict[str, Seams] = field(default_factory=dict)


def normals_of(mesh: Mesh, positions: Floats) -> Floats:
    """Smooth normals (V, 3) of a mesh with its positions in the world: of all faces at a place, weighted by their angle there (Thuermer and
    Wuethrich 1998, from memory).

    Parameters
    ----------
    positions : (V, 3) metres, in the world

    Returns
    -------
    (V, 3) of unit length
    """
    place = mesh.points
    tri = mesh.triangles
    p = positions[tri]
    face = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    size = np.linalg.norm(face, axis=1, keepdims=True)
    face = face / np.where(size > 0, size, 1)
    total = np.zeros((int(place.max(initial=-1)) + 1, 3))
    for k in range(3):
        a, b = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        la, lb = np.linalg.norm(a, axis=1), np.linalg.norm(b, axis=1)
        cos = (a * b).sum(axis=1) / np.where(la * lb > 0, la * lb, 1)
        angle = np.where(la * lb > 0, np.arccos(np.clip(cos, -1, 1)), 0.0)
        np.add.at(total, place[tri[:, k]], face * angle[:, None])
    length = np.linalg.norm(total, axis=1, keepdims=True)
    return (total / np.where(length > 0, length, 1))[place]


def shading(given: Floats | None, smooth: Floats, triangles: NDArray[np.integer], world: Floats) -> Floats:
    """Unit normals (T, 3, 3) in the world at the corners of triangles: those of the file, turned by its placing (4, 4), so that its hard edges stay
    hard; the smooth ones (V, 3) where it has none.

    Parameters
    ----------
    given : (T, 3, 3) normals of the file in its own space, or None; smooth : (V, 3); triangles : (T, 3)
    world : (4, 4)

    Returns
    -------
    (T, 3, 3) of unit length
    """
    out = smooth[triangles]
    turned = None if given is None else turned_normals(given, world)
    return out if turned is None else np.where(turned.any(axis=2, keepdims=True), turned, out)


class _Rays:
    """Triangles of the whole scene for tracing."""

    def __init__(self, corners: Floats) -> None:
        from embreex import rtcore_scene
        from embreex.mesh_construction import TriangleMesh

        self.scene: Any = rtcore_scene.EmbreeScene()
        if len(corners):
            TriangleMesh(self.scene, np.ascontiguousarray(corners, np.float32))
        self.empty = not len(corners)

    def hit(self, origin: Floats, direction: Floats) -> tuple[NDArray[np.int64], Floats, Floats]:
        """Triangle (k,), -1 for none, distance (k,), and barycentric weights (k, 2) of the nearest hit of each ray."""
        if self.empty or not len(origin):
            return np.full(len(origin), -1), np.full(len(origin), np.inf), np.zeros((len(origin), 2))
        found = self.scene.run(origin.astype(np.float32), direction.astype(np.float32), query="INTERSECT", output=True)
        return found["primID"].astype(np.int64), found["tfar"].astype(float), np.column_stack([found["u"], found["v"]])


def range_of(parts: list[LowMesh], high: dict[int, High]) -> float:
    """The curvature in 1 / m that the ends of a map stand for (see `half_range`): of the surfaces that are baked from."""
    surfaces: list[LowMesh | High] = [p for p in parts if not len(p.owner) or int(p.owner[0]) not in high]
    surfaces += high.values()
    corners = [s.positions[s.triangles] for s in surfaces]
    if not corners:
        return 1.0
    p = np.concatenate(corners)
    areas = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) / 2
    size = float(np.linalg.norm(np.ptp(p.reshape(-1, 3), axis=0))) or 1.0 if len(p) else 1.0
    return half_range(np.concatenate([s.curve[s.triangles].mean(axis=1) for s in surfaces]), areas, size)


def bake(
    parts: list[LowMesh], high: dict[int, High], px: int, corner: tuple[int, int] = (0, 0), maps: tuple[str, ...] = MAPS, rays: int = 32,
    reach: float | None = None, cage: float | None = None, seam_limit: float = SEAM_LIMIT, ends: float | None = None, seed: int = 0,
) -> Baked:  # fmt: skip
    """Bake one tile.

    Parameters
    ----------
    parts : what lies on the tile; other parts throw shadows all the same
    high : by owner number of the low mesh the detailed mesh that it is baked from; such a low mesh throws no shadow
    rays : for each texel of the occlusion map; reach : metres within which something darkens (a third of the scene's size)
    cage : metres from which rays start outside the low mesh, and to which they go inside (a fiftieth of the scene's size)
    seam_limit : 0 to 1, what the two sides of a seam may differ by in a map
    ends : the curvature in 1 / m that the ends of a map stand for; None for `range_of` these
    """
    whole = _joined(parts)
    pick, weights = cover(whole.uvs, px, corner)
    covered = pick >= 0
    t, w = pick[covered], weights[covered]
    size = float(np.linalg.norm(np.ptp(whole.positions, axis=0))) if len(whole.positions) else 1.0
    ends = range_of(parts, high) if ends is None else ends
    shown, missed = _seen(whole, high, t, w, cage if cage is not None else size / 50)
    scene = [whole.positions[whole.triangles[~np.isin(whole.owner, list(high))]], *(h.positions[h.triangles] for h in high.values())]
    rows, columns = np.nonzero(covered)
    middles = np.column_stack([(columns + 0.5) / px + corner[0], 1 - (rows + 0.5) / px + corner[1]])

    def values(name: str) -> Floats:
        if name in ("object", "material"):
            return _colours(whole.owner[t] if name == "object" else shown.material)
        if name == "position":
            every = np.concatenate([whole.positions, *(h.positions for h in high.values())])
            low = every.min(axis=0)
            return np.asarray((shown.at - low) / np.maximum(np.ptp(every, axis=0), 1e-30))
        if name == "normal object":
            return shown.normal * 0.5 + 0.5
        if name == "normal tangent":
            local = np.column_stack([(shown.normal * v).sum(axis=1) for v in shown.frame])
            return np.asarray(local / np.maximum(np.linalg.norm(local, axis=1, keepdims=True), 1e-12) * 0.5 + 0.5)
        if name == "occlusion":
            return _open(_Rays(np.concatenate(scene)), shown.at, shown.normal, rays, reach if reach is not None else size / 3, size, seed)
        if name == "curvature":
            return np.clip(0.5 + shown.curve / (2 * ends), 0, 1)
        return np.clip(1 + shown.curve / ends, 0, 1)

    out: dict[str, Floats] = {}
    for name in maps:
        found = values(name)
        out[name] = np.zeros((px, px, 3))
        out[name][covered] = found if found.ndim == 2 else found[:, None]
    owner, r, c = dilated(np.where(covered, 0, -1).astype(np.int32))
    if (owner >= 0).any():
        out = {k: v[r, c] for k, v in out.items()}
    rows3 = np.arange(3 * len(whole.uvs)).reshape(-1, 3)
    _, twice = owners(whole.uvs.reshape(-1, 2), rows3, np.concatenate([np.zeros(0, np.int64), *(p.island for p in parts)]), px, corner)
    sides = [sides_of(p.triangles, p.points, p.uvs, p.normals, px) for p in parts]
    return Baked(out, covered, int(twice.sum()), middles[missed], ends, judged(sides, out, px, corner, seam_limit))


@dataclass(frozen=True)
class _Whole:
    positions: Floats
    triangles: NDArray[np.int64]
    uvs: Floats
    normals: Floats
    owner: NDArray[np.int64]
    material: NDArray[np.int64]
    curve: Floats


@dataclass
class _Seen:
    """What the surface that is baked from has at points (k,) of the low mesh: place, normal, curvature and material; and the low mesh's own frame
    there (where u and v point, and its normal)."""

    at: Floats
    normal: Floats
    curve: Floats
    material: NDArray[np.int64]
    frame: tuple[Floats, Floats, Floats]


def _joined(parts: list[LowMesh]) -> _Whole:
    starts = np.cumsum([0] + [len(p.positions) for p in parts])
    empty3, empty = np.zeros((0, 3)), np.zeros(0, np.int64)
    return _Whole(
        np.concatenate([empty3, *(p.positions for p in parts)]),
        np.concatenate([np.zeros((0, 3), np.int64), *(p.triangles + s for p, s in zip(parts, starts[:-1], strict=True))]),
        np.concatenate([np.zeros((0, 3, 2)), *(p.uvs for p in parts)]), np.concatenate([np.zeros((0, 3, 3)), *(p.normals for p in parts)]),
        np.concatenate([empty, *(p.owner for p in parts)]), np.concatenate([empty, *(p.material for p in parts)]),
        np.concatenate([np.zeros(0), *(p.curve for p in parts)]),
    )  # fmt: skip


def _surface(whole: _Whole, t: NDArray[np.int64], w: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Position, unit normal, and where u and v point (tangent, across), each (k, 3), at points of triangles."""
    tri = whole.triangles[t]
    at = (whole.positions[tri] * w[:, :, None]).sum(axis=1)
    normal = (whole.normals[t] * w[:, :, None]).sum(axis=1)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    p, uv = whole.positions[tri], whole.uvs[t]
    e0, e1 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    d0, d1 = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    det = d0[:, 0] * d1[:, 1] - d0[:, 1] * d1[:, 0]
    inverse = (1 / np.where(np.abs(det) > 1e-30, det, 1.0))[:, None]
    u = (e0 * d1[:, 1:2] - e1 * d0[:, 1:2]) * inverse
    v = (e1 * d0[:, 0:1] - e0 * d1[:, 0:1]) * inverse
    tangent = u - normal * (u * normal).sum(axis=1, keepdims=True)
    tangent /= np.maximum(np.linalg.norm(tangent, axis=1, keepdims=True), 1e-12)
    across = np.cross(normal, tangent)
    across *= np.where((across * v).sum(axis=1, keepdims=True) < 0, -1.0, 1.0)
    return at, normal, tangent, across


def _seen(whole: _Whole, high: dict[int, High], t: NDArray[np.int64], w: Floats, cage: float) -> tuple[_Seen, NDArray[np.int64]]:
    """What is baked at points (k,) of triangles: of the detailed mesh along the low mesh's normal, the low mesh's own where there is none. And the
    points whose ray hit nothing."""
    at, normal, tangent, across = _surface(whole, t, w)
    out = _Seen(
        at.copy(), normal.copy(), (whole.curve[whole.triangles[t]] * w).sum(axis=1), whole.material[t].copy(), (tangent, across, normal)
    )
    missed: list[NDArray[np.int64]] = [np.zeros(0, np.int64)]
    for owner, mesh in high.items():
        mine = np.flatnonzero(whole.owner[t] == owner)
        rays = _Rays(mesh.positions[mesh.triangles])
        tri, far, uv = rays.hit(at[mine] + normal[mine] * cage, -normal[mine])
        good = (tri >= 0) & (far <= 2 * cage)
        hit, share = mine[good], np.column_stack([1 - uv.sum(axis=1), uv])[good]
        corners = mesh.triangles[tri[good]]
        found = (mesh.normals[tri[good]] * share[:, :, None]).sum(axis=1)
        out.normal[hit] = found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-12)
        out.at[hit] = (mesh.positions[corners] * share[:, :, None]).sum(axis=1)
        out.curve[hit] = (mesh.curve[corners] * share).sum(axis=1)
        out.material[hit] = mesh.material[tri[good]]
        missed.append(mine[~good])
    return out, np.concatenate(missed)


def _open(rays: _Rays, at: Floats, normal: Floats, count: int, reach: float, size: float, seed: int) -> Floats:
    """How open (k,) each point lies: the share of rays over its hemisphere, as many as the cosine says, that meet nothing within reach.

    The rays are a spiral of golden angles (Fibonacci points lifted to the hemisphere), turned at random for each point.
    """
    k = np.arange(count)
    radius, angle = np.sqrt((k + 0.5) / count), k * math.pi * (3 - math.sqrt(5))
    height = np.sqrt(1 - radius**2)
    turn = np.random.default_rng(seed).uniform(0, 2 * math.pi, len(at))
    helper = np.where(np.abs(normal[:, :1]) > 0.9, np.array([[0.0, 1.0, 0.0]]), np.array([[1.0, 0.0, 0.0]]))
    a = np.cross(normal, helper)
    a /= np.maximum(np.linalg.norm(a, axis=1, keepdims=True), 1e-12)
    b = np.cross(normal, a)
    origin = at + normal * (1e-5 * size)
    out = np.zeros(len(at))
    for n in range(count):
        c, s = (radius[n] * f(angle[n] + turn) for f in (np.cos, np.sin))
        direction = a * c[:, None] + b * s[:, None] + normal * height[n]
        tri, far, _ = rays.hit(origin, direction)
        out += (tri < 0) | (far > reach)
    return out / count


def _colours(numbers: NDArray[np.int64]) -> Floats:
    known, of = np.unique(numbers, return_inverse=True)
    return np.array([number_colour(int(n) if n >= 0 else 10_000) for n in known]).reshape(-1, 3)[of.ravel()]
