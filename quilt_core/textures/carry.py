"""Carry-over: old textures resampled into the new layout, so that the model looks as before with the new sheet.

Every texel of the new map whose middle a triangle covers takes the colour that the old texture has at the same point of the surface. Where the
new map is coarser, the old texture is averaged first (box-filtered mip levels and four samples a texel). Colours that are stored in sRGB are
averaged in linear light; data maps as they are. Normal maps hold vectors in the directions of u and v: they are turned and mirrored with the
island (a surface direction d of the old UV plane is J d in the new one, J the derivative of the new UVs by the old ones, less its scale).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray
from PIL import Image

from ..measure.texels import cover, dilated, to_texels, window_of
from ..model.colours import to_linear, to_srgb
from ..model.material import VECTORS
from ..model.scene import Floats
from ..uv.turning import frame_maps, linear_maps

Single = NDArray[np.float32]
# What a texel shows where a triangle has no picture of a kind: values as stored, 0 to 1.
NEUTRAL = {"normal": (0.5, 0.5, 1.0), "clearcoat normal": (0.5, 0.5, 1.0), "occlusion": (1.0, 1.0, 1.0), "base colour": (0.8, 0.8, 0.8),
           "opacity": (1.0, 1.0, 1.0), "roughness": (1.0, 1.0, 1.0), "height": (0.5, 0.5, 0.5)}  # fmt: skip
# As glTF 2.0 and its extensions store them; all other kinds are data.
IN_SRGB = (
    "base colour",
    "emission",
    "specular",
    "specular and gloss",
    "sheen colour",
    "specular colour",
    "diffuse transmission colour",
    "ambient",
)
WRAPS = {"repeat": 0, "clamp": 1, "mirror": 2, "none": 3}
Wrap = tuple[str, str]
REPEATED: Wrap = ("repeat", "repeat")
_SAMPLES = 200_000


@dataclass(frozen=True)
class Mips:
    """A texture and its ever smaller averages: values one after the other in `flat`, `table` (levels, 3) of first value, height, width."""

    flat: Single
    table: NDArray[np.int64]

    @property
    def size(self) -> tuple[int, int]:
        """Height and width of level 0."""
        return int(self.table[0, 1]), int(self.table[0, 2])


def working(values: Single, kind: str) -> Single:
    """Values as they are stored as what is averaged and multiplied: linear light of sRGB kinds, vectors -1 to 1 of kinds that are directions."""
    return to_linear(values) if kind in IN_SRGB else values * 2 - 1 if kind in VECTORS else values


def stored(values: Single, kind: str) -> Single:
    """The inverse of `working`, within 0 to 1."""
    return to_srgb(values) if kind in IN_SRGB else np.clip(values * 0.5 + 0.5 if kind in VECTORS else values, 0, 1)


def mips_of(values: Single, kind: str) -> Mips:
    """The mip levels of a texture as it is stored."""
    return levels(working(values, kind))


def levels(level: Single) -> Mips:
    """The mip levels of working values (height, width, 3)."""
    parts, rows, at = [], [], 0
    while True:
        parts.append(np.ascontiguousarray(level, np.float32).ravel())
        rows.append((at, *level.shape[:2]))
        at += level.size
        h, w = level.shape[:2]
        if h == w == 1:
            break
        if h % 2 and h > 1:
            level = np.concatenate([level, level[-1:]])
        if w % 2 and w > 1:
            level = np.concatenate([level, level[:, -1:]], axis=1)
        h, w = level.shape[:2]
        level = 0.5 * (level[::2] + level[1::2]) if h > 1 else level
        level = 0.5 * (level[:, ::2] + level[:, 1::2]) if w > 1 else level
    return Mips(np.concatenate(parts), np.array(rows, np.int64))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _at(c, n, wrap):  # type: ignore[no-untyped-def]
    """The texel of n that a texel beyond the picture means, -1 for none."""
    if 0 <= c < n:
        return c
    if wrap == 0:
        return c % n
    if wrap == 1:
        return 0 if c < 0 else n - 1
    if wrap == 2:
        c = c % (2 * n)
        return c if c < n else 2 * n - 1 - c
    return -1


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _sample(flat, table, level, u, v, wrap_u, wrap_v, out):  # type: ignore[no-untyped-def]
    """Bilinear sample of a level at a UV; adds to out (3,)."""
    first, h, w = table[level, 0], table[level, 1], table[level, 2]
    x, y = u * w - 0.5, (1.0 - v) * h - 0.5
    c0, r0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - c0, y - r0
    for k in range(4):
        weight = (fx if k & 1 else 1.0 - fx) * (fy if k >> 1 else 1.0 - fy)
        if weight > 0.0:
            c, r = _at(c0 + (k & 1), w, wrap_u), _at(r0 + (k >> 1), h, wrap_v)
            if c >= 0 and r >= 0:
                at = first + (r * w + c) * 3
                for q in range(3):
                    out[q] += weight * flat[at + q]


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _sample_all(flat, table, level, u, v, wrap_u, wrap_v, out):  # type: ignore[no-untyped-def]
    """Samples (k, 3) of levels (k,) at UVs."""
    value = np.zeros(3)
    for i in range(u.shape[0]):
        value[:] = 0.0
        _sample(flat, table, level[i], u[i], v[i], wrap_u, wrap_v, value)
        out[i, 0], out[i, 1], out[i, 2] = value[0], value[1], value[2]


@dataclass(frozen=True)
class Patch:
    """Triangles (T) that take their paint from one texture (None: there is none of this kind): new UVs (T, 3, 2), and those where the old texture is read.

    frame : the UVs that vectors belong to, where they are not those; wrap : beyond the picture
    places : (T, 3, 3) of the corners on the surface, where the frame of vectors is made from the UVs that the picture is read by
    """

    new: Floats
    old: Floats
    picture: Mips | None
    frame: Floats | None = None
    wrap: Wrap = REPEATED
    places: Floats | None = None

    def of(self, which: NDArray[np.bool_]) -> Patch:
        """Some of its triangles."""
        frame, places = (None if x is None else x[which] for x in (self.frame, self.places))
        return replace(self, new=self.new[which], old=self.old[which], frame=frame, places=places)

    def turns(self) -> Floats:
        """(T, 4) how vectors turn, see `uv.turning`."""
        if self.places is not None:
            return frame_maps(self.new, self.old, self.places)
        return linear_maps(self.new, self.old if self.frame is None else self.frame)

    def samples(self, level: NDArray[np.int64], uv: Floats) -> Single:
        """(k, 3) the texture at UVs (k, 2) in levels (k,)."""
        assert self.picture is not None
        out = np.empty((len(uv), 3), np.float32)
        wu, wv = (WRAPS[w] for w in self.wrap)
        _sample_all(
            self.picture.flat, self.picture.table, level, np.ascontiguousarray(uv[:, 0]), np.ascontiguousarray(uv[:, 1]), wu, wv, out
        )
        return out


@dataclass(frozen=True)
class Carried:
    """A map (px, px, 3) of values as stored, 0 to 1; which texels a triangle covers; how many triangles had no picture."""

    values: Single
    covered: NDArray[np.bool_]
    bare: int


def _shrink(patch: Patch, px: int) -> Floats:
    """(T,) old texels along one new texel, the geometric mean of both directions."""
    assert patch.picture is not None
    h, w = patch.picture.size

    def area(uv: Floats) -> Floats:
        a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
        return np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])

    with np.errstate(divide="ignore", invalid="ignore"):
        return np.nan_to_num(np.sqrt(area(patch.old) * h * w / (area(patch.new) * px * px)), nan=1.0, posinf=1.0)


def _lay(patch: Patch, kind: str, px: int, corner: tuple[int, int], out: Single, covered: NDArray[np.bool_]) -> None:
    """Fill the texels whose middle a patch covers, in `out` (px, px, 3) and `covered` (px, px)."""
    assert patch.picture is not None
    window = window_of(patch.new, px, corner)
    pick, weights = cover(patch.new, px, corner, window)
    here = pick >= 0
    t = pick[here]
    uv = (patch.old[t] * weights[here][:, :, None]).sum(axis=1)
    shrink = _shrink(patch, px)
    level = np.clip(np.floor(np.log2(np.maximum(shrink, 1.0)) + 1e-6), 0, len(patch.picture.table) - 1).astype(np.int64)[t]
    values = patch.samples(level, uv)
    many = shrink[t] > 1.01
    if many.any():
        # Four samples a texel, a quarter of it from its middle.
        step = _steps(patch, px)[t[many]]
        corners = [patch.samples(level[many], uv[many] + step @ np.array(s)) for s in ((-1, -1), (1, -1), (-1, 1), (1, 1))]
        values[many] = sum(corners) / np.float32(4)
    if kind in VECTORS:
        values = _turned(values, patch.turns()[t])
        if kind != "anisotropy":  # its length says how much
            values /= np.maximum(np.linalg.norm(values, axis=1, keepdims=True), 1e-9)
    r0, r1, c0, c1 = window
    out[r0:r1, c0:c1][here] = values
    covered[r0:r1, c0:c1] |= here


def _turned(values: Single, m: Floats) -> Single:
    """Vectors (k, 3) turned in the plane by (k, 4), see `linear_maps`."""
    x, y = values[:, 0], values[:, 1]
    return np.column_stack([m[:, 0] * x + m[:, 1] * y, m[:, 2] * x + m[:, 3] * y, values[:, 2]]).astype(np.float32)


def _steps(patch: Patch, px: int) -> Floats:
    """(T, 2, 2) how far the old UVs go over a quarter of a new texel to the right and upward, column by column."""
    e = np.stack([patch.new[:, 1] - patch.new[:, 0], patch.new[:, 2] - patch.new[:, 0]], axis=2)
    f = np.stack([patch.old[:, 1] - patch.old[:, 0], patch.old[:, 2] - patch.old[:, 0]], axis=2)
    det = e[:, 0, 0] * e[:, 1, 1] - e[:, 0, 1] * e[:, 1, 0]
    good = np.abs(det) > 1e-30
    out = np.zeros_like(e)
    out[good] = f[good] @ np.linalg.inv(e[good])
    return out / (4 * px)


def carry(patches: list[Patch], kind: str, px: int, corner: tuple[int, int] = (0, 0), reach: float = math.inf) -> Carried:
    """One map of one tile, from all patches that lie on it.

    Parameters
    ----------
    reach : texels of padding around islands that take the nearest island's colour; infinite for all that is empty
    """
    out = np.zeros((px, px, 3), np.float32)
    covered = np.zeros((px, px), bool)
    bare = 0
    neutral = np.array(NEUTRAL.get(kind, (0.0, 0.0, 0.0)), np.float32)[None, None, :]
    for patch in patches:
        x, y = to_texels(patch.new, px, corner)
        on = (x.max(axis=1) > 0) & (x.min(axis=1) < px) & (y.max(axis=1) > 0) & (y.min(axis=1) < px)
        if not on.any():
            continue
        one = patch.of(on)
        if one.picture is None:
            bare += len(one.new)
            one = Patch(one.new, np.zeros_like(one.new), mips_of(neutral, kind))
        _lay(one, kind, px, corner, out, covered)
    values = stored(out, kind)
    owner, rows, columns = dilated(np.where(covered, 0, -1).astype(np.int32), reach)
    values = np.where((owner >= 0)[:, :, None], values[rows, columns], neutral).astype(np.float32)
    return Carried(values, covered, bare)


@dataclass(frozen=True)
class Difference:
    """How a carried map looks against the old paint, at points spread evenly over its texels: peak signal-to-noise ratio in dB (infinite where
    nothing differs), the mean and the 99th percentile of the differences of 255, and the points (k, 2) in UV with their difference (k,)."""

    psnr: float
    mean: float
    high: float
    at: Floats
    off: Floats


def difference(patches: list[Patch], carried: Carried, kind: str, px: int, corner: tuple[int, int] = (0, 0), seed: int = 0) -> Difference:
    """Compare a carried map with the old textures at random points of the surface, both sampled as a renderer samples them."""
    random = np.random.default_rng(seed)
    new_map = mips_of(carried.values, "")
    points, offs = [np.zeros((0, 2))], [np.zeros(0)]
    known = [p for p in patches if p.picture is not None and len(p.new)]

    def area(p: Patch) -> Floats:
        a, b = p.new[:, 1] - p.new[:, 0], p.new[:, 2] - p.new[:, 0]
        return np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])

    total = sum(float(area(p).sum()) for p in known)
    for p in known:
        size = area(p)
        count = int(_SAMPLES * size.sum() / max(total, 1e-30))
        if not count or not size.sum():
            continue
        t = random.choice(len(size), count, p=size / size.sum())
        a, b = random.random(count), random.random(count)
        a, b = np.where(a + b > 1, 1 - a, a), np.where(a + b > 1, 1 - b, b)
        w = np.column_stack([1 - a - b, a, b])[:, :, None]
        new, old = (p.new[t] * w).sum(axis=1), (p.old[t] * w).sum(axis=1)
        inside = ((new >= corner) & (new <= np.add(corner, 1))).all(axis=1)
        new, old, t = new[inside], old[inside], t[inside]
        assert p.picture is not None
        level = np.clip(np.round(np.log2(np.maximum(_shrink(p, px), 1.0))), 0, len(p.picture.table) - 1).astype(np.int64)[t]
        was = p.samples(level, old)
        was = stored(_turned(was, p.turns()[t]) if kind in VECTORS else was, kind)
        now = Patch(p.new, p.new, new_map).samples(np.zeros(len(new), np.int64), new - corner)
        points.append(new)
        offs.append(np.abs(was - now).mean(axis=1) * 255)
    return _summed(np.concatenate(points), np.concatenate(offs))


def _summed(at: Floats, off: Floats) -> Difference:
    if not len(off):
        return Difference(math.inf, 0.0, 0.0, at, off)
    square = float((off**2).mean())
    psnr = math.inf if square == 0 else 10 * math.log10(255**2 / square)
    return Difference(psnr, float(off.mean()), float(np.percentile(off, 99)), at, off)


def joined(parts: list[Difference]) -> Difference:
    """The differences of several channels of a map as one."""
    return _summed(np.concatenate([p.at for p in parts]), np.concatenate([p.off for p in parts]))


def seen_through(opaque: Carried, alpha: list[Patch], lit: list[Patch], weight: list[Patch], px: int, corner: tuple[int, int]) -> Single:
    """A map (px, px, 4) with alpha: colours are averaged by how much of them is seen, so that those of what is not seen stay out.

    Parameters
    ----------
    opaque : the colours as they are without alpha, which stay where nothing is seen; alpha : the patches with the alpha; lit, weight : with the colours times
        their weights, and with the weights: the alpha, or one where another picture says what is seen
    """
    a = carry(alpha, "opacity", px, corner).values[:, :, :1]
    light, of = carry(lit, "", px, corner).values, carry(weight, "opacity", px, corner).values[:, :, :1]
    return np.concatenate([np.where(of > 1 / 510, to_srgb(np.asarray(light / np.maximum(of, 1e-6), np.float32)), opaque.values), a], axis=2)


def picture_of(values: Single) -> Image.Image:
    """A map as an 8-bit picture, with alpha where it has four channels."""
    return Image.fromarray(np.round(np.clip(values, 0, 1) * 255).astype(np.uint8), "RGBA" if values.shape[2] == 4 else "RGB")


def difference_picture(found: Difference, px: int, corner: tuple[int, int] = (0, 0)) -> Image.Image:
    """Where a carried map differs: each point with four times its difference, on black."""
    out = np.zeros((px, px), np.float32)
    x, y = to_texels(found.at, px, corner)
    np.maximum.at(out, (np.clip(y.astype(int), 0, px - 1), np.clip(x.astype(int), 0, px - 1)), found.off * 4)
    return Image.fromarray(np.clip(out, 0, 255).astype(np.uint8), "L")
