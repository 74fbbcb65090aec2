"""What a viewer sees of a surface, before paint was carried over and after: every quantity of the materials at points spread over all of the surface, read from
the files by what their materials say, not by what was carried.

A quantity is a picture times a scale plus a bias, or a plain value: glTF 2.0, 3.9.2 to 3.9.4; UsdPreviewSurface. Both sides are averaged over a texel of the
coarser picture, as far as they would be on a screen that shows the new map texel by texel.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..formats.model import Model
from ..formats.pictures import is_deep, open_picture, pictures
from ..model.colours import to_linear, to_srgb
from ..model.material import MASK, OPAQUE, Material, Texture, placed_uvs
from ..model.scene import Floats, Mesh, Scene, UvChannel
from ..uv.turning import frame_maps, linear_maps
from .carry import IN_SRGB, NEUTRAL
from .old import Coat

Numbers = NDArray[np.int64]
CUT = "cut-out"  # the opacity of a material that shows a point or does not
_POINTS = 20_000
_FEWEST = 300  # of a material
_MOST_KEPT = 16  # pictures that stay decoded
_GRID = (-0.25, 0.25)


@dataclass(frozen=True)
class Side:
    """A surface with its materials.

    meshes : whose triangles are those of the other side, but for `order`, the number (T,) there of each triangle here
    pictures : for each material, bytes by kind
    """

    meshes: Sequence[Mesh]
    materials: Sequence[Material]
    pictures: Sequence[Mapping[str, bytes]]
    order: Mapping[int, Numbers] = field(default_factory=dict)


_GREY = tuple(float(x) for x in to_linear(np.array(NEUTRAL["base colour"])))  # of a material that says nothing


def of_coat(coat: Coat) -> Side:
    """The old paint of a file."""
    before = coat.before
    return Side(before.meshes, before.materials, [{kind: old.load() for kind, old in maps.items()} for maps in coat.maps])


def of_scene(scene: Scene, files: Mapping[str, bytes], order: Mapping[int, Numbers]) -> Side:
    """A file as it was read back, with the files beside it."""
    return Side(scene.meshes, scene.materials, pictures(scene, files), order)


def of_model(model: Model, first: int, scene: Scene) -> Side:
    """A scene as it stands in a model from its mesh `first` on, before it is written."""
    meshes = []
    for (name, positions, corners), own in zip(model.meshes[first : first + len(scene.meshes)], scene.meshes, strict=True):
        channels = {c: UvChannel(uv, corners.triangles.astype(np.int32)) for c, uv in corners.uvs.items()}
        triangles = corners.position[corners.triangles].astype(np.int32)
        meshes.append(Mesh(name, positions, triangles, corners.look[corners.face_of].astype(np.int32), channels, tangents=False))
        assert len(triangles) == len(own.triangles)
    shown = [{kind: model.pictures[t.path] for kind, t in look.maps.items() if t.path in model.pictures} for look in model.looks]
    return Side(meshes, model.looks, shown)


@dataclass(frozen=True)
class _Picture:
    """A picture (h, w, 4) as it is stored, and its means over squares of 2, 4, 8 and so on texels, as far as these are whole; `top` its greatest value, `light`
    whether its colours are averaged in linear light, `through` whether as much as is seen of them."""

    levels: list[NDArray[Any]]
    top: float
    light: bool
    through: bool

    def at(self, level: int, rows: Numbers, columns: Numbers) -> Floats:
        """(k, 4) working values; with `through` the colours are multiplied by the alpha."""
        return self._working(self.levels[level][rows, columns])

    def _working(self, stored: NDArray[Any]) -> Floats:
        out = stored / self.top
        if self.light:
            out[..., :3] = to_linear(out[..., :3])
        if self.through:
            out[..., :3] *= out[..., 3:]
        return np.asarray(out)

    @property
    def deepest(self) -> int:
        """How many times its sides can be halved."""
        h, w = self.levels[0].shape[:2]
        return min((n & -n).bit_length() - 1 for n in (h, w))

    def down_to(self, level: int) -> None:
        """Make the levels that there are not yet."""
        while len(self.levels) <= level:
            self.levels.append(self.halved())

    def halved(self) -> NDArray[Any]:
        """The last level over squares of two texels, a strip at a time."""
        last = self.levels[-1]
        h, w = last.shape[:2]
        out = np.empty((h // 2, w // 2, 4), last.dtype)
        for at in range(0, h // 2, 128):
            part = self._working(last[2 * at : 2 * at + 256])
            mean = 0.25 * (part[::2, ::2] + part[1::2, ::2] + part[::2, 1::2] + part[1::2, 1::2])
            if self.through:
                mean[..., :3] /= np.maximum(mean[..., 3:], 1e-6)
            if self.light:
                mean[..., :3] = to_srgb(mean[..., :3])
            out[at : at + 128] = np.round(np.clip(mean, 0, 1) * self.top)
        return out


class Eye:
    """Samples pictures; the last ones stay decoded."""

    def __init__(self) -> None:
        self.kept: dict[tuple[str, bool, bool], _Picture] = {}

    def picture(self, body: bytes, kind: str, through: bool) -> _Picture:
        """A picture of a kind."""
        key = hashlib.sha256(body).hexdigest(), kind in IN_SRGB, through
        if key not in self.kept:
            picture = open_picture(body, f"a {kind} map")
            if is_deep(picture):
                grey = np.asarray(picture).astype(np.uint16)
                made = _Picture([np.dstack([grey, grey, grey, np.full_like(grey, 65535)])], 65535.0, *key[1:])
            else:
                made = _Picture([np.asarray(picture.convert("RGBA"))], 255.0, *key[1:])
            while len(self.kept) >= _MOST_KEPT:
                self.kept.pop(next(iter(self.kept)))
            self.kept[key] = made
        return self.kept[key]

    def look(self, body: bytes, kind: str, texture: Texture, uv: Floats, steps: Floats, through: bool) -> Floats:
        """(k, 4) a picture at UVs (k, 2) of the scene, averaged over `steps` (k, 2, 2), the UVs that a texel of the new map spans."""
        picture = self.picture(body, kind, through)
        h, w = picture.levels[0].shape[:2]
        across = steps if texture.placed is None else np.array(texture.placed).reshape(2, 3)[:, :2] @ steps
        texels = np.sqrt(np.abs(np.linalg.det(across)) * h * w)
        level = np.clip(np.floor(np.log2(np.maximum(texels, 1.0))), 0, picture.deepest).astype(np.int64)
        picture.down_to(int(level.max(initial=0)))
        out: Floats = np.zeros((len(uv), 4))
        for k in np.unique(level):
            mine = level == k
            spread = [placed_uvs(uv[mine] + i * steps[mine, :, 0] + j * steps[mine, :, 1], texture.placed) for i in _GRID for j in _GRID]
            out[mine] = np.mean([_bilinear(picture, int(k), at, texture.wrap) for at in spread], axis=0)
        if through:
            out[:, :3] /= np.maximum(out[:, 3:], 1e-6)
        scale, bias = texture.scale, texture.bias
        if kind == "normal" and scale is None:
            scale, bias = (2.0, 2.0, 2.0, 1.0), (-1.0, -1.0, -1.0, 0.0)
        return out * (scale or 1.0) + (bias or 0.0)


def _bilinear(picture: _Picture, level: int, uv: Floats, wrap: tuple[str, str]) -> Floats:
    h, w = picture.levels[level].shape[:2]
    x, y = uv[:, 0] * w - 0.5, (1 - uv[:, 1]) * h - 0.5
    c, r = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    out = np.zeros((len(uv), 4))
    for k in range(4):
        column, row = c + (k & 1), r + (k >> 1)
        weight = np.abs(1 - (k & 1) - (x - c)) * np.abs(1 - (k >> 1) - (y - r))
        (column, in_x), (row, in_y) = _folded(column, w, wrap[0]), _folded(row, h, wrap[1])
        out += (weight * in_x * in_y)[:, None] * picture.at(level, row, column)
    return out


def _folded(i: Numbers, n: int, wrap: str) -> tuple[Numbers, NDArray[np.bool_]]:
    if wrap == "repeat":
        return i % n, np.ones(len(i), bool)
    if wrap == "mirror":
        m = i % (2 * n)
        return np.where(m < n, m, 2 * n - 1 - m), np.ones(len(i), bool)
    return np.clip(i, 0, n - 1), (i >= 0) & (i < n) if wrap == "none" else np.ones(len(i), bool)


Quantities = dict[str, Floats]


def _seen(side: Side, eye: Eye, number: int, mesh: Mesh, triangles: Numbers, weights: Floats, finest: Mapping[str, Floats]) -> Quantities:
    """The quantities of one material at points of one mesh, each (k, 1 or 3); `finest` (k, 2, 2) spans of a texel by kind."""
    material = side.materials[number] if number >= 0 else Material("")
    shown = side.pictures[number] if number >= 0 else {}
    count = len(triangles)

    def sample(kind: str) -> Floats | None:
        texture, body = material.maps.get(kind), shown.get(kind)
        channel = None if texture is None else mesh.channels.get(texture.channel)
        if texture is None or body is None or channel is None:
            return None
        rows = channel.triangles[triangles]
        uv = (channel.uvs[np.maximum(rows, 0)] * weights[:, :, None]).sum(axis=1)
        through = kind == "base colour" and material.see_through
        found = eye.look(body, kind, texture, uv, finest[str(texture.channel)], through)
        return found[:, ["rgba".index(texture.part)]] if texture.part else found

    def plain(value: tuple[float, ...] | float | None, usual: tuple[float, ...]) -> Floats:
        values = usual if value is None else value if isinstance(value, tuple) else (value,)
        return np.tile(np.array(values, float), (count, 1))

    out: Quantities = {}
    base, both, through = sample("base colour"), sample("metal and roughness"), sample("opacity")
    out["base colour"] = plain(material.colour, _GREY) if base is None else base[:, :3] * plain(material.colour, (1.0, 1.0, 1.0))
    alpha = plain(material.opacity, (1.0,))
    if through is not None:
        alpha = alpha * through[:, :1]
    elif base is not None and base.shape[1] == 4:
        alpha = alpha * base[:, 3:]
    out["opacity"] = plain(1.0, (1.0,)) if material.alpha == OPAQUE else alpha
    if material.alpha == MASK:
        out["opacity"] = (alpha >= material.cutoff).astype(float)
    for kind, at, value, usual in (("roughness", 1, material.roughness, 1.0), ("metal", 2, material.metal, 0.0)):
        own = sample(kind)
        map_ = both[:, at : at + 1] if both is not None else own[:, :1] if own is not None else None
        out[kind] = plain(value, (usual,)) if map_ is None else map_ * plain(value, (1.0,))
    shine = sample("emission")
    out["emission"] = (
        plain(material.emission, (0.0, 0.0, 0.0)) if shine is None else shine[:, :3] * plain(material.emission, (1.0, 1.0, 1.0))
    )
    shade = sample("occlusion")
    out["occlusion"] = plain(1.0, (1.0,)) if shade is None else 1 + material.occlusion_strength * (shade[:, :1] - 1)
    slope = sample("normal")
    out["normal"] = plain((0.0, 0.0, 1.0), ()) if slope is None else slope[:, :3] * (material.normal_scale, material.normal_scale, 1.0)
    for kind in ("specular", "height"):
        found = sample(kind)
        if found is not None:
            out[kind] = found[:, :3] if kind == "specular" else found[:, :1]
    return out


def compare(
    before: Side, after: Side, layout: int | Mapping[int, int], px: float, seed: int = 0, eye: Eye | None = None
) -> list[dict[str, Any]]:
    """How a surface looks on both sides.

    Parameters
    ----------
    layout : the UV channel that the new maps are read by, for all meshes or by mesh; px : texels of a tile there
    eye : one for all files that share pictures

    Returns
    -------
    for every quantity and every material of the old side: `kind`, `material`, `psnr` (dB, infinite where nothing differs), `mean` (of 255), `area` (share)
    """
    random, eye = np.random.default_rng(seed), Eye() if eye is None else eye
    areas = [_areas(m) for m in before.meshes]
    total = sum(float(a.sum()) for a in areas) or 1.0
    sums: dict[tuple[int, str], list[tuple[float, float, float]]] = {}
    for number, mesh in enumerate(before.meshes):
        back = _back(after.order.get(number), len(mesh.triangles))
        for material in np.unique(mesh.materials).tolist():
            mine = np.flatnonzero((mesh.materials == material) & (areas[number] > 0) & (back >= 0))
            if not len(mine):
                continue
            area = areas[number][mine]
            count = max(_FEWEST, int(_POINTS * area.sum() / total))
            t = random.choice(mine, count, p=area / area.sum())
            weights = random.dirichlet((1, 1, 1), count)
            for name, off in _differences(
                before, after, eye, number, t, back[t], weights, layout if isinstance(layout, int) else layout.get(number, 0), px
            ).items():
                share = float(area.sum() / total)
                sums.setdefault((material, name), []).append((share, float((off**2).mean()), float(off.mean())))
    out = []
    for (material, name), parts in sorted(sums.items()):
        weight = sum(p[0] for p in parts)
        square, mean = (sum(p[0] * p[k] for p in parts) / weight for k in (1, 2))
        psnr = math.inf if square < 1e-12 else -10 * math.log10(square)
        label = before.materials[material].name if material >= 0 else ""
        cut = name == "opacity" and material >= 0 and before.materials[material].alpha == MASK
        out.append({"kind": CUT if cut else name, "material": label, "psnr": psnr, "mean": mean * 255, "area": weight})
    return out


def _areas(mesh: Mesh) -> Floats:
    a, b, c = (mesh.positions[mesh.triangles[:, k]] for k in range(3))
    return np.asarray(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2)


def _back(order: Numbers | None, count: int) -> Numbers:
    """Where each triangle (T,) stands on the other side."""
    if order is None:
        return np.arange(count)
    out = np.full(count, -1, np.int64)
    out[order] = np.arange(len(order))
    return out


def _differences(
    before: Side, after: Side, eye: Eye, number: int, t: Numbers, u: Numbers, weights: Floats, layout: int, px: float
) -> Quantities:
    """Differences (k,) by quantity at points of one mesh, that are of one material before."""
    old, new = before.meshes[number], after.meshes[number]
    material = int(old.materials[t[0]])
    a = _seen(before, eye, material, old, t, weights, _spans(old, t, new, u, layout, px))
    out: dict[str, list[tuple[NDArray[np.bool_], Floats]]] = {}
    spans = _spans(new, u, new, u, layout, px)
    for m in np.unique(new.materials[u]).tolist():
        mine = new.materials[u] == m
        b = _seen(after, eye, m, new, u[mine], weights[mine], {c: s[mine] for c, s in spans.items()})
        if "normal" in a and "normal" in b:
            b["normal"] = _turned_back(before, after, material, m, old, new, t[mine], u[mine], b["normal"])
        for name in a.keys() & b.keys():
            x, y = a[name][mine], b[name]
            top = max(1.0, float(x.max())) if name == "emission" else 1.0
            if name in ("base colour", "emission", "specular"):
                x, y = to_srgb(x / top), to_srgb(y / top)
            elif name == "normal":
                x, y = _unit(x) / 2, _unit(y) / 2
            out.setdefault(name, []).append((mine, np.abs(x - y).mean(axis=1)))
    seen = a["opacity"][:, 0]
    done = {}
    for name, parts in out.items():
        whole = np.zeros(len(t))
        for mine, off in parts:
            whole[mine] = off
        # What nothing is seen of looks the same in any colour.
        done[name] = whole * seen if name != "opacity" else whole
    return done


def _unit(v: Floats) -> Floats:
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=1, keepdims=True), 1e-12))


def _spans(mesh: Mesh, t: Numbers, new: Mesh, u: Numbers, layout: int, px: float) -> dict[str, Floats]:
    """By channel of a mesh, the UVs (k, 2, 2) that a texel of the new map spans to the right and upward, column by column."""
    laid = new.channels.get(layout)
    out = {}
    for channel, source in mesh.channels.items():
        span = np.zeros((len(t), 2, 2))
        if laid is not None:
            e, f = _edges(laid.uvs, laid.triangles[u]), _edges(source.uvs, source.triangles[t])
            det = np.linalg.det(e)
            good = np.abs(det) > 1e-30
            span[good] = f[good] @ np.linalg.inv(e[good]) / px
        out[str(channel)] = np.clip(np.nan_to_num(span), -1e3, 1e3)
    return out


def _edges(uvs: Floats, rows: NDArray[np.integer[Any]]) -> Floats:
    uv = uvs[np.maximum(rows, 0)]
    return np.stack([uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]], axis=2)


def _turned_back(
    before: Side, after: Side, material: int, now: int, old: Mesh, new: Mesh, t: Numbers, u: Numbers, vectors: Floats
) -> Floats:
    """Vectors of the new normal map as the frame of the old one says them."""
    was = before.materials[material].maps.get("normal") if material >= 0 else None
    shown = after.materials[now].maps.get("normal") if now >= 0 else None
    if was is None or shown is None or was.channel not in old.channels or shown.channel not in new.channels:
        return vectors
    a, b = old.channels[was.channel], new.channels[shown.channel]
    uv_old, uv_new = a.uvs[np.maximum(a.triangles[t], 0)], b.uvs[np.maximum(b.triangles[u], 0)]
    if old.tangents and new.tangents:
        m = linear_maps(placed_uvs(uv_new, shown.frame), placed_uvs(uv_old, was.frame))
    else:
        m = frame_maps(placed_uvs(uv_new, shown.placed), placed_uvs(uv_old, was.placed), old.positions[old.triangles[t]])
    # The inverse of an orthogonal matrix is its transpose.
    return np.column_stack(
        [m[:, 0] * vectors[:, 0] + m[:, 2] * vectors[:, 1], m[:, 1] * vectors[:, 0] + m[:, 3] * vectors[:, 1], vectors[:, 2]]
    )
