"""Faces laid flat by looking at them: from a side, from the six sides of a box, around a cylinder, or from the middle of a sphere. Sizes are metres."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import QuiltError
from ..model.components import components
from ..model.scene import Floats
from ..uv.areas import signed_areas
from .parting import parted
from .skin import Laying, Skin, readable
from .topology import Mask, Numbers, sides_apart

WAYS = ("plane", "x", "y", "z", "view", "box", "cylinder", "sphere")
_STEEP = 1e-3  # cosine under which a face is seen edge on


def projected(skin: Skin, laying: Laying, faces: Mask, way: str, view: Floats | None = None) -> tuple[Laying, int]:
    """Faces (F,) laid flat by a projection; what folds or lies double is parted, so that no island overlaps itself.

    Parameters
    ----------
    way : one of `WAYS`; "plane" is the best fit
    view : (3,) direction that is looked along, for "view"

    Returns
    -------
    the laying, and how many triangles are seen edge on and so stretched without bound

    Raises
    ------
    QuiltError : a way that is none
    """
    if way not in WAYS:
        raise QuiltError(f"'{way}' is no projection: {', '.join(WAYS)}.")
    which = np.flatnonzero(faces)
    s = skin.surface
    p = s.points[s.faces[which]]
    normal, area = s.normal[which], s.area[which]
    if way == "box":
        uv, label, edge_on = _box(p, normal)
    elif way in ("cylinder", "sphere"):
        uv, label, edge_on = _round(p, area, normal, way == "sphere")
    else:
        uv, label, edge_on = _plane(p, normal, _direction(way, p, area, normal, view))
    # What would lie turned over is seen from behind: a piece of its own.
    over = signed_areas(uv) < 0
    uv[over, :, 0] *= -1
    label = label + 16 * over
    out = laying.uv.copy()
    out[which] = readable(skin, uv)
    seam = laying.seam.copy()
    side = np.full(len(s.faces), -1)
    side[which] = label
    h = np.flatnonzero(s.twin >= 0)
    here, there = faces[h // 3], faces[s.twin[h] // 3]
    apart = sides_apart(s, out)[h] > 1e-9 * (1 + np.abs(np.nan_to_num(out)).max(initial=0.0))
    mine = here | there
    seam[h[mine]] = (here != there)[mine] | (side[h // 3] != side[s.twin[h] // 3])[mine] | apart[mine]
    made = Laying(out, seam, _fresh(skin, laying, faces, seam))
    numbers = np.unique(made.island[which])
    made, _, _ = parted(skin, made, numbers)
    return replace(made, island=laying.island), int(edge_on.sum())


def _fresh(skin: Skin, laying: Laying, faces: Mask, seam: Mask) -> Numbers:
    """Island numbers (F,) in which the chosen faces have those that their seams make."""
    s = skin.surface
    h = np.flatnonzero((s.twin >= 0) & ~seam)
    n = len(s.faces)
    of = components(n, h // 3, s.twin[h] // 3)
    return np.where(faces, of + 1 + int(laying.island.max(initial=-1)), laying.island)


def _direction(way: str, p: Floats, area: Floats, normal: Floats, view: Floats | None) -> Floats:
    """The unit direction (3,) that points at whoever looks."""
    if way in "xyz":
        return np.eye(3)["xyz".index(way)]
    if way == "view":
        d = np.zeros(3) if view is None else -np.asarray(view, float)
        if not np.isfinite(d).all() or np.linalg.norm(d) < 1e-9:
            raise QuiltError("The direction of the view is missing. Turn the model and try again.")
        return d / np.linalg.norm(d)
    mean = (area[:, None] * normal).sum(axis=0)
    if np.linalg.norm(mean) > 0.2 * area.sum():
        return mean / np.linalg.norm(mean)
    # Faces that look everywhere: the side on which the shape is thinnest.
    middle = p.reshape(-1, 3) - p.reshape(-1, 3).mean(axis=0)
    return np.asarray(np.linalg.eigh(middle.T @ middle)[1][:, 0])


def _axes(d: Floats) -> tuple[Floats, Floats]:
    """Right and up of a picture that is seen from a direction; up is z where it can be."""
    up = np.array([0.0, 0, 1]) if abs(d[2]) < 0.9 else np.array([0.0, 1, 0])
    right = np.cross(up, d)
    right /= np.linalg.norm(right)
    return right, np.cross(d, right)


def _plane(p: Floats, normal: Floats, d: Floats) -> tuple[Floats, Numbers, Mask]:
    right, up = _axes(d)
    uv = np.stack([p @ right, p @ up], axis=2)
    front = normal @ d
    # What looks away is seen from behind, so that nothing is mirrored.
    uv[front < 0, :, 0] *= -1
    return uv, (front < 0).astype(np.int64), np.abs(front) < _STEEP


def _box(p: Floats, normal: Floats) -> tuple[Floats, Numbers, Mask]:
    axis = np.argmax(np.abs(normal), axis=1)
    sign = np.sign(np.take_along_axis(normal, axis[:, None], axis=1)[:, 0])
    uv = np.zeros((*p.shape[:2], 2))
    for k in range(3):
        for side in (-1.0, 1.0):
            mine = (axis == k) & (sign == side)
            right, up = _axes(np.eye(3)[k] * side)
            uv[mine] = np.stack([p[mine] @ right, p[mine] @ up], axis=2)
    return uv, axis * 2 + (sign > 0), np.zeros(len(p), bool)


def _round(p: Floats, area: Floats, normal: Floats, sphere: bool) -> tuple[Floats, Numbers, Mask]:
    """Around the axis along which the normals change least; the caps of a cylinder are seen from their ends."""
    spread = (normal * area[:, None]).T @ normal
    values, vectors = np.linalg.eigh(spread)
    axis = vectors[:, 2] if sphere and values[2] > 3 * values[0] else vectors[:, 0]
    axis = axis * (1.0 if axis[int(np.argmax(np.abs(axis)))] > 0 else -1.0)
    right, up = _axes(axis)
    middle = p.reshape(-1, 3).min(axis=0) + 0.5 * np.ptp(p.reshape(-1, 3), axis=0)
    q = p - middle
    x, y, z = q @ right, q @ up, q @ axis
    radius = np.hypot(x, y)
    # The side alone says how wide it is: caps are nearer to the axis.
    weight = np.where(np.abs(normal @ axis) > 0.9, 1e-12, 1.0) * area
    typical = float((weight[:, None] * radius).sum() / max(3 * weight.sum(), 1e-300))
    angle = np.arctan2(y, x)
    # A corner on the axis has no angle of its own: it takes that of its face.
    face_angle = np.arctan2(y.mean(axis=1), x.mean(axis=1))[:, None]
    angle = np.where(radius < 1e-6 * max(typical, 1e-30), face_angle, angle)
    angle = face_angle + (angle - face_angle + np.pi) % (2 * np.pi) - np.pi
    if sphere:
        size = np.sqrt((q**2).sum(axis=2))
        r = float((area[:, None] * size).sum() / max(3 * area.sum(), 1e-300))
        uv = np.stack([angle * r, np.arcsin(np.clip(z / np.maximum(size, 1e-300), -1, 1)) * r], axis=2)
        out = (np.cross(q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]) * q.mean(axis=1)).sum(axis=1)
        uv[out < 0, :, 0] *= -1
        return uv, (out < 0).astype(np.int64), np.zeros(len(p), bool)
    uv = np.stack([angle * typical, z], axis=2)
    cap = np.abs(normal @ axis) > 0.9
    side = np.sign(normal @ axis)
    for end in (-1.0, 1.0):
        mine = cap & (side == end)
        uv[mine] = np.stack([end * x[mine], y[mine]], axis=2)
    out = (normal * (right * x.mean(axis=1)[:, None] + up * y.mean(axis=1)[:, None])).sum(axis=1)
    inward = ~cap & (out < 0)
    uv[inward, :, 0] *= -1
    label = np.where(cap, np.where(side > 0, 2, 3), np.where(inward, 1, 0))
    return uv, label, np.zeros(len(p), bool)
