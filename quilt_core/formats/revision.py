"""A channel that is made anew: which row every corner of a file has in it."""

from __future__ import annotations

import numpy as np

from ..model.scene import Mesh, UvChannel
from .channels import Numbers


def corner_rows(mesh: Mesh, channel: UvChannel) -> Numbers:
    """The row (C,) of every corner of a mesh's polygons, or (3 T,) of its triangles where the format has no others; -1 for corners that no triangle has.

    Corners that several triangles of a polygon share have one row, since polygons are never cut.
    """
    if mesh.polygons is None:
        return channel.triangles.reshape(-1).astype(np.int64)
    out = np.full(len(mesh.polygons.corners), -1, np.int64)
    out[mesh.polygons.triangles] = channel.triangles
    return out


def numbered(channel: UvChannel) -> UvChannel:
    """A channel in which every row has a value of its own, so that no format takes two for one where they lie at one place."""
    n = np.arange(len(channel.uvs))
    return UvChannel(np.column_stack([n % 4096, n // 4096]) / 4096.0, channel.triangles)


def like(read: UvChannel, exact: UvChannel) -> UvChannel:
    """The rows that a file was read with, with the values that another channel has at the same corners."""
    uvs, has = read.uvs.copy(), (read.triangles >= 0) & (exact.triangles >= 0)
    uvs[read.triangles[has]] = exact.uvs[exact.triangles[has]]
    return UvChannel(uvs, read.triangles)
