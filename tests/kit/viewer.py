"""What a surface looks like, point by point. It shares no code with the program; the files are opened in `opened`.

A quantity is what a picture holds, times a scale, plus a bias, or a plain value: so glTF 2.0 (3.9.2 to 3.9.4), UsdPreviewSurface (UsdUVTexture) and MTL
(statements multiply, common practice) say it.
"""

from __future__ import annotations

import io
import math
from dataclasses import dataclass, field

import numpy as np
from PIL import Image

Array = np.ndarray


@dataclass
class Quantity:
    """`picture` (h, w, 4) of 0 to 1, read by a channel's UVs through `matrix` (2, 3), v upward."""

    plain: Array
    picture: Array | None = None
    channel: str = ""
    matrix: Array = field(default_factory=lambda: np.array([[1.0, 0, 0], [0, 1, 0]]))
    wrap: tuple[str, str] = ("repeat", "repeat")
    part: str = "rgb"
    srgb: bool = False
    scale: Array = field(default_factory=lambda: np.ones(4))
    bias: Array = field(default_factory=lambda: np.zeros(4))

    def where(self, uv: Array) -> Array:
        return uv @ self.matrix[:, :2].T + self.matrix[:, 2]

    def at(self, uv: dict[str, Array]) -> Array:
        if self.picture is None:
            return np.tile(self.plain, (len(next(iter(uv.values()))), 1))
        values = self.picture.copy()
        if self.srgb:
            values[:, :, :3] = linear(values[:, :, :3])
        found = bilinear(values, self.where(uv[self.channel]), self.wrap) * self.scale + self.bias
        return found[:, ["rgba".index(c) for c in self.part]]


@dataclass
class Look:
    quantities: dict[str, Quantity] = field(default_factory=dict)
    mode: str = "opaque"
    cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False


@dataclass
class Surface:
    """Triangles: places and normals (T, 3, 3), tangents (T, 3, 4) or NaN, UVs by channel (T, 3, 2) with v upward, the look of each, colours (T, 3, 4)."""

    places: Array
    normals: Array
    tangents: Array
    uvs: dict[str, Array]
    of: Array
    looks: list[Look]
    colours: Array

    def seen(self, points: Array) -> dict[str, Array]:
        """What is seen at points (k, 3) that lie on it."""
        triangle, weights = located(self.places, points)
        uv = {c: (u[triangle] * weights[:, :, None]).sum(axis=1) for c, u in self.uvs.items()}
        out: dict[str, Array] = {}
        for n in np.unique(self.of[triangle]):
            mine = self.of[triangle] == n
            look = self.looks[n]
            own = {c: u[mine] for c, u in uv.items()}
            for name, q in look.quantities.items():
                value = self._lit(q, triangle[mine], weights[mine], own) if name == "normal" else q.at(own)
                out.setdefault(name, np.full((len(points), value.shape[1]), np.nan))[mine] = value
            alpha = out.setdefault("alpha", np.full((len(points), 1), np.nan))
            if look.mode == "opaque":
                alpha[mine] = 1.0
            elif look.mode == "mask":
                alpha[mine] = alpha[mine] >= look.cutoff
        if not np.isnan(self.colours).all():
            out["vertex colour"] = (self.colours[triangle] * weights[:, :, None]).sum(axis=1)
        return out

    def _lit(self, q: Quantity, t: Array, weights: Array, uv: dict[str, Array]) -> Array:
        """Normals in the world: along stored tangents, or along the UVs that the picture is read by (what MikkTSpace comes to on flat faces)."""
        n = unit((self.normals[t] * weights[:, :, None]).sum(axis=1))
        v = q.at(uv) if q.picture is not None else np.tile([0.0, 0, 1], (len(t), 1))
        if q.picture is None:
            return n
        given = (self.tangents[t] * weights[:, :, None]).sum(axis=1)
        corners = q.where(self.uvs[q.channel][t].reshape(-1, 2)).reshape(-1, 3, 2)
        e, p = corners[:, 1:] - corners[:, :1], self.places[t][:, 1:] - self.places[t][:, :1]
        inverse = np.linalg.inv(e)
        along = np.einsum("nij,njk->nik", inverse, p)
        side, up = along[:, 0], along[:, 1]
        side = unit(side - n * (side * n).sum(axis=1, keepdims=True))
        across = np.cross(n, side)
        across *= np.sign((across * up).sum(axis=1, keepdims=True))
        has = ~np.isnan(given).any(axis=1)
        side[has], across[has] = given[has, :3], (np.cross(n[has], given[has, :3]) * given[has, 3:])
        return unit(v[:, :1] * side + v[:, 1:2] * across + v[:, 2:3] * n)


def unit(v: Array) -> Array:
    return v / np.maximum(np.linalg.norm(v, axis=1, keepdims=True), 1e-12)


def linear(s: Array) -> Array:
    """IEC 61966-2-1."""
    return np.where(s <= 0.04045, s / 12.92, ((np.maximum(s, 0) + 0.055) / 1.055) ** 2.4)


def shown(x: Array) -> Array:
    """IEC 61966-2-1, the other way round."""
    x = np.clip(x, 0, 1)
    return np.where(x <= 0.0031308, x * 12.92, 1.055 * x ** (1 / 2.4) - 0.055)


def bilinear(values: Array, uv: Array, wrap: tuple[str, str]) -> Array:
    h, w = values.shape[:2]
    x, y = uv[:, 0] * w - 0.5, (1 - uv[:, 1]) * h - 0.5
    c, r = np.floor(x).astype(int), np.floor(y).astype(int)
    out = np.zeros((len(uv), values.shape[2]))
    for dc in (0, 1):
        for dr in (0, 1):
            part = np.abs(1 - dc - (x - c)) * np.abs(1 - dr - (y - r))
            cc, in_c = folded(c + dc, w, wrap[0])
            rr, in_r = folded(r + dr, h, wrap[1])
            out += (part * in_c * in_r)[:, None] * values[rr, cc]
    return out


def folded(i: Array, n: int, wrap: str) -> tuple[Array, Array]:
    inside = (i >= 0) & (i < n)
    if wrap == "repeat":
        return i % n, np.ones(len(i))
    if wrap == "mirror":
        m = i % (2 * n)
        return np.where(m < n, m, 2 * n - 1 - m), np.ones(len(i))
    return np.clip(i, 0, n - 1), np.ones(len(i)) if wrap == "clamp" else inside.astype(float)


def located(places: Array, points: Array) -> tuple[Array, Array]:
    """The triangle (k,) that each point lies on, and the weights (k, 3) of its corners."""
    best, triangle, weights = np.full(len(points), np.inf), np.zeros(len(points), int), np.zeros((len(points), 3))
    for t, (a, b, c) in enumerate(places):
        m = np.column_stack([b - a, c - a])
        if np.linalg.matrix_rank(m, tol=1e-12) < 2:
            continue
        st = (points - a) @ np.linalg.pinv(m).T
        w = np.column_stack([1 - st.sum(axis=1), st])
        off = np.linalg.norm(a + st @ m.T - points, axis=1) + np.maximum(0, -w.min(axis=1))
        better = off < best - 1e-9
        best[better], triangle[better], weights[better] = off[better], t, w[better]
    assert best.max() < 1e-4, "a point of the surface is not there any more"
    return triangle, weights


def image(body: bytes) -> Array:
    return np.asarray(Image.open(io.BytesIO(body)).convert("RGBA"), float) / 255


def joined(parts: list[tuple[Array, ...]], sets: list[dict[str, Array]], looks: list[Look]) -> Surface:
    p, n, t, of, colours = (np.concatenate(x) for x in zip(*parts, strict=True))
    names = {c for s in sets for c in s}
    uvs = {c: np.concatenate([s.get(c, np.zeros((len(q[0]), 3, 2))) for s, q in zip(sets, parts, strict=True)]) for c in names}
    return Surface(p, n, t, uvs, of, looks, colours)


def decibels(a: Array, b: Array) -> float:
    """Peak signal to noise of values 0 to 1, over all points at which both say something."""
    both = ~(np.isnan(a).any(axis=1) | np.isnan(b).any(axis=1))
    square = float(((a[both] - b[both]) ** 2).mean()) if both.any() else 0.0
    return math.inf if square == 0 else -10 * math.log10(square)


def compared(before: Surface, after: Surface, points: Array) -> dict[str, float]:
    """Decibels by quantity: colours as they are shown, normals by half of their difference."""
    a, b = before.seen(points), after.seen(points)
    out = {}
    for name in sorted(a.keys() & b.keys()):
        x, y = a[name], b[name]
        if name in ("colour", "emission"):
            top = max(1.0, float(np.nanmax(x)))
            x, y = shown(x / top), shown(y / top)
        elif name == "normal":
            x, y = x / 2, y / 2
        out[name] = decibels(x, y)
    return out
