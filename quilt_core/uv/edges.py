"""Mesh faults that make islands wrong: split corners, edges of more than two faces, faces wound against each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Mesh, UvChannel
from .islands import NEAR, WELD, Islands, number_rows


@dataclass(frozen=True)
class MeshFaults:
    """`split` (k, 2): pairs of islands that duplicate vertices keep apart; counts of crowded edges and of edges whose two
    faces run the same way along them; (T,) bool: triangles at such edges."""

    split: NDArray[np.int64]
    crowded_edges: int
    against_edges: int
    crowded: NDArray[np.bool_]
    against: NDArray[np.bool_]


def mesh_faults(mesh: Mesh, channel: UvChannel | None = None, islands: Islands | None = None) -> MeshFaults:
    """Faults of a mesh; those of islands only where a channel and its islands are given."""
    tri, count = mesh.triangles, len(mesh.triangles)
    split = np.zeros((0, 2), np.int64) if channel is None or islands is None else _split(mesh, channel, islands)
    if not count:
        none = np.zeros(0, bool)
        return MeshFaults(split, 0, 0, none, none)
    # Seams of normals and UVs part vertices on purpose: edges are compared by position.
    node = number_rows(mesh.positions)[0][tri]
    real = (node != np.roll(node, -1, axis=1)).all(axis=1)
    where = np.flatnonzero(real)
    a, b = node[real].ravel(), np.roll(node[real], -1, axis=1).ravel()
    key = np.minimum(a, b) * (int(node.max()) + 1) + np.maximum(a, b)
    if not len(key):
        return MeshFaults(split, 0, 0, np.zeros(count, bool), np.zeros(count, bool))
    order = np.argsort(key, kind="stable")
    first = np.flatnonzero(np.r_[True, key[order][1:] != key[order][:-1]])
    faces = np.diff(np.r_[first, len(key)])
    ways = np.add.reduceat((a < b)[order].astype(np.int64), first)
    crowd, against = faces > 2, (faces == 2) & (ways != 1)
    of_edge = np.repeat(np.arange(len(first)), faces)
    face = where[order // 3]
    marks = []
    for bad in (crowd, against):
        marked = np.zeros(count, bool)
        marked[face[bad[of_edge]]] = True
        marks.append(marked)
    return MeshFaults(split, int(crowd.sum()), int(against.sum()), *marks)


def _split(mesh: Mesh, channel: UvChannel, islands: Islands) -> NDArray[np.int64]:
    """Pairs of islands (k, 2) that touch with equal UVs at an edge's two ends, and at positions that are equal but for rounding."""
    used = np.flatnonzero(islands.of_row >= 0)
    if not len(used):
        return np.zeros((0, 2), np.int64)
    position_of = np.zeros(len(channel.uvs), np.int64)
    has = (channel.triangles >= 0).all(axis=1)
    position_of[channel.triangles[has]] = mesh.triangles[has]
    p = mesh.positions[position_of[used]]
    size = max(float(np.ptp(p, axis=0).max()), 1e-30)
    cells = np.hstack([np.round(p / (NEAR * size)), np.round(channel.uvs[used] / WELD)])
    label, _ = number_rows(cells)
    of = islands.of_row[used].astype(np.int64)
    order = np.lexsort((of, label))
    label, of = label[order], of[order]
    pairs = np.column_stack([of[:-1], of[1:]])[(label[1:] == label[:-1]) & (of[1:] != of[:-1])]
    if not len(pairs):
        return pairs
    pairs, times = np.unique(pairs, axis=0, return_counts=True)
    return pairs[times >= 2]  # one common corner is no common edge
