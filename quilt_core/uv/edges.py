"""Mesh faults that make islands wrong: edges of more than two faces, faces wound against each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Mesh


@dataclass(frozen=True)
class MeshFaults:
    """Counts of crowded edges and of edges whose two faces run the same way along them; (T,) bool: triangles at such edges."""

    crowded_edges: int
    against_edges: int
    crowded: NDArray[np.bool_]
    against: NDArray[np.bool_]


def mesh_faults(mesh: Mesh) -> MeshFaults:
    """Faults of a mesh, whatever its UVs are."""
    tri, count = mesh.triangles, len(mesh.triangles)
    if not count:
        none = np.zeros(0, bool)
        return MeshFaults(0, 0, none, none)
    # Seams of normals and UVs part vertices on purpose: edges are compared by position.
    node = mesh.points[tri]
    real = (node != np.roll(node, -1, axis=1)).all(axis=1)
    where = np.flatnonzero(real)
    a, b = node[real].ravel(), np.roll(node[real], -1, axis=1).ravel()
    key = np.minimum(a, b) * (int(node.max()) + 1) + np.maximum(a, b)
    if not len(key):
        return MeshFaults(0, 0, np.zeros(count, bool), np.zeros(count, bool))
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
    return MeshFaults(int(crowd.sum()), int(against.sum()), *marks)
