"""What was written against what was read back from it."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from ..model.material import placed_uvs
from ..model.points import first_of, number_rows
from ..model.scene import Floats, Mesh, Scene
from .format import Format
from .model import Corners, Model, corners_of
from .registry import for_export

_WEIGHT = 0.5  # tiles that the whole size of a model counts for when corners are compared


def differs(model: Model, ending: str, again: Scene) -> float:
    """How far what was read back is from the model, corner by corner: the greatest difference of UVs between corners at one position (over their distance from
    the origin where that is more than a tile), infinite where there are more or fewer corners, or another position.

    The order of objects and corners is the format's own, so corners are paired by position (to the rounding of 32-bit files) and then by UV.
    """
    of = for_export(ending)
    out = 0.0
    for number, channel in enumerate([None] if of.one_channel else model.channels):
        was, now = [np.zeros((0, 5))], [np.zeros((0, 5))]
        for item in model.items:
            _, positions, corners = model.meshes[item.mesh]
            there = of.names_channels or channel is None or channel in model.channels_of(corners)
            was.append(_held(corners, positions @ item.world[:3, :3].T + item.world[:3, 3], channel, of, there))
        for o in again.objects:
            mesh = again.meshes[o.mesh]
            own = _own_number(mesh, number, None if channel is None else model.channel_names[channel])
            if own is not None:
                read = corners_of(mesh, None, mesh.materials.astype(np.int64))
                placed = mesh.positions @ o.world[:3, :3].T + o.world[:3, 3]
                rows = np.hstack([placed[read.position], _in_file(again, read, own)])
                now.append(rows[np.isfinite(rows).all(axis=1)])
        out = max(out, _apart(np.concatenate(was), np.concatenate(now)))
    return out


def _in_file(scene: Scene, corners: Corners, channel: int) -> Floats:
    """The UVs (C, 2) of a channel as they stand in the file, without what materials do to them."""
    uv = corners.uvs[channel].copy()
    look = np.repeat(corners.look, np.diff(corners.faces))
    for n in np.unique(look[look >= 0]):
        frames = [t.frame for t in scene.materials[n].textures.values() if t.channel == channel]
        if frames:
            uv[look == n] = placed_uvs(uv[look == n], frames[0])
    return uv


def _apart(was: Floats, now: Floats) -> float:
    """How far corners (n, 5) of position and UV are from those of the other list, by UV; infinite where their numbers differ.

    Positions weigh little, so that their rounding does not count, and enough that a UV at another corner does.
    """
    if len(was) != len(now):
        return float("inf")
    if not len(was):
        return 0.0
    size = max(float(np.ptp(was[:, :3], axis=0).max()), 1e-30)
    a, b = (np.hstack([(x[:, :3] - was[0, :3]) * (_WEIGHT / size), x[:, 3:]]) for x in (_distinct_rows(was), _distinct_rows(now)))
    return max(float((cKDTree(y).query(x, p=np.inf, workers=2)[0] / _size(x)).max()) for x, y in ((a, b), (b, a)))


def _size(rows: Floats) -> Floats:
    """How large the UVs (n,) of corners are, from one tile on: far from the origin a 32-bit file rounds more."""
    return np.asarray(np.maximum(1.0, np.abs(rows[:, 3:]).max(axis=1)))


def _distinct_rows(rows: Floats) -> Floats:
    """Every row once: a vertex is a corner of half a dozen faces."""
    return rows[first_of(*number_rows(rows))]


def _held(corners: Corners, placed: Floats, channel: int | None, of: Format, there: bool) -> Floats:
    """What a format holds of a mesh's corners (n, 5), position and UV (those of its triangles where it has no polygons).
    What has no UVs is there as the format says in `bare`."""
    uv = corners.laid if channel is None else corners.uvs.get(channel)
    if uv is None:
        uv = np.full((len(corners.position), 2), np.nan)
        if of.bare == "left out" or (of.bare == "zero by channel" and (of.names_channels or not there)):
            return np.zeros((0, 5))
    rows = np.hstack([placed[corners.position], uv])
    rows = rows[corners.triangles.reshape(-1)] if of.triangles else rows
    if of.bare == "left out":
        return rows[np.isfinite(rows[:, 3:]).all(axis=1)]
    rows[:, 3:] = np.nan_to_num(rows[:, 3:])
    return rows


def _own_number(mesh: Mesh, number: int, name: str | None) -> int | None:
    """The channel of a mesh that was read back, by its number or name in the file."""
    if mesh.channel_names:
        number = mesh.channel_names.index(name) if name in mesh.channel_names else -1
    return number if number in mesh.channels else None
