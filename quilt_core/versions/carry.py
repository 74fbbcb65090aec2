"""UVs that were made of an older version of a mesh, put on a newer one: on every island of them whose triangles the newer version still has, as they came."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.components import components
from ..model.scene import Mesh, UvChannel
from ..unwrap.skin import Revised
from .replace import STEP, mixed


@dataclass
class Carried:
    """The newer mesh's UVs, and for each island (n,) of the older ones its number in them, -1 for one that is gone."""

    revised: Revised
    islands: NDArray[np.int64]


def same_triangles(old: Mesh, new: Mesh, channel: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Which triangle of an older version each one of the newer is, by its corners in space and in a channel as both came.

    Returns
    -------
    (T,) the older triangle, -1 for none; (T, 3) which of its corners each corner is
    """
    # One measure for both: a part that was added makes the newer one larger.
    size = max(float(np.ptp(old.positions, axis=0).max()), 1e-30) if len(old.positions) else 1.0
    a, b = (_corners(m, channel, size) for m in (old, new))
    if a.shape == b.shape and np.array_equal(a, b):
        return np.arange(len(b)), np.tile(np.arange(3), (len(b), 1))
    rest: dict[int, list[int]] = {}
    with np.errstate(over="ignore"):
        olds, news = (mixed(x.sum(axis=1, dtype=np.uint64)) for x in (a, b))
    for t in range(len(olds) - 1, -1, -1):
        rest.setdefault(int(olds[t]), []).append(t)
    which = np.array([rest[int(d)].pop() if rest.get(int(d)) else -1 for d in news], np.int64)
    known = which >= 0
    turn = np.tile(np.arange(3), (len(b), 1))
    turn[known] = (a[which[known]][:, None, :] == b[known][:, :, None]).argmax(axis=2)
    return which, turn


def _corners(mesh: Mesh, channel: int, size: float) -> NDArray[np.uint64]:
    """A number (T, 3) for each corner that tells its place and its UV, rounded as exports round: by parts of a size in units of the file, and of 1 in UVs."""
    values = [mesh.positions[mesh.triangles] / size]
    if (source := mesh.channels.get(channel)) is not None and len(source.uvs):
        uv = source.uvs[np.maximum(source.triangles, 0)]
        values.append(np.where((source.triangles >= 0)[:, :, None], uv, 1e6))
    cells = np.round(np.concatenate(values, axis=2) / STEP).astype(np.int64).view(np.uint64)
    out = np.zeros(cells.shape[:2], np.uint64)
    with np.errstate(over="ignore"):
        for k in range(cells.shape[2]):
            out = mixed(out * np.uint64(31) + cells[:, :, k])
    return out


def carried(old: Mesh, made: Revised, new: Mesh, channel: int) -> Carried:
    """Put UVs that were made of `old`, as it came, on `new`. What of it is not the same keeps the UVs that it came with.

    Parameters
    ----------
    old, new : as they came; made : UVs of `old` in a channel
    """
    which, turn = same_triangles(old, new, channel)
    count = int(made.island.max(initial=-1)) + 1
    there = np.bincount(made.island[which[which >= 0]].clip(0), made.island[which[which >= 0]] >= 0, count) if count else np.zeros(0)
    whole = np.bincount(made.island[made.island >= 0], minlength=count)
    keeps = there == whole
    stays = (which >= 0) & np.append(keeps, False)[made.island[which]]
    number = np.full(count, -1, np.int64)
    number[keeps] = np.arange(int(keeps.sum()))

    corners = np.full((len(new.triangles), 3), -1, np.int64)
    island = np.full(len(new.triangles), -1, np.int32)
    corners[stays] = np.take_along_axis(made.channel.triangles[which[stays]], turn[stays], axis=1)
    island[stays] = number[made.island[which[stays]]]
    uvs, root = made.channel.uvs, made.root
    source = new.channels.get(channel)
    own = ~stays & (source.triangles >= 0).all(axis=1) if source is not None else np.zeros(len(new.triangles), bool)
    if source is not None and own.any():
        corners[own] = source.triangles[own] + len(uvs)
        island[own] = _parts(source, own) + int(keeps.sum())
        points = _points(new, source)
        root = np.concatenate([root, points + int(root.max(initial=-1)) + 1])
        uvs = np.concatenate([uvs, source.uvs])
    used, rows = np.unique(corners[corners >= 0], return_inverse=True)
    corners[corners >= 0] = rows
    return Carried(Revised(UvChannel(uvs[used], corners.astype(np.int32)), root[used], island), number)


def _points(mesh: Mesh, source: UvChannel) -> NDArray[np.int64]:
    """Number (W,) of the point that each row of a channel that was read is: rows of one place with one value are one."""
    place = np.full(len(source.uvs), -1, np.int64)
    has = source.triangles >= 0
    place[source.triangles[has]] = mesh.triangles[has]
    return np.unique(np.column_stack([place, source.uvs]), axis=0, return_inverse=True)[1].reshape(-1)


def _parts(source: UvChannel, own: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Number of the connected part of each of some triangles, by the rows that they share."""
    rows = source.triangles[own]
    size = len(rows)
    at = np.repeat(np.arange(size), 3)
    labels = components(size + len(source.uvs), at, rows.reshape(-1) + size)[:size]
    return np.unique(labels, return_inverse=True)[1].astype(np.int64)
