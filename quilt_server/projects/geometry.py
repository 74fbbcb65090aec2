"""Binary geometry for the browser.

Layout, little endian: uint32 length of a JSON header, the header (padded with spaces to 4 bytes), then the arrays that
it lists in `arrays` as [name, type, items, width], one after the other, all of 4-byte numbers:
position (V, 3) float32 metres in the world; uv (V, 2) float32; island (V, 1) uint32 number in the file or 0xffffffff;
index (T, 3) uint32, the triangles of one material after the other; edge (E, 2) uint32 vertices of outline edges; area (islands, 2) float32 UV area and, in the
largest placing, world area of each island; odd (k, 4) uint32 triangles with something wrong: three vertices and what (see
`ODD`); paint (V, 2) float32 the UVs that the base colour map reads, where that is another channel; inside (T, 1) uint32 bit k where side k of a triangle runs
inside a polygon of the file and so can be no seam, where there are any. `objects` gives each object's range
in `index` and `edge`, and in `groups` [material, triangles] in turn; of several objects that place one mesh only the first has `table` true, since they share their islands.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.model.scene import Mesh, MeshObject, Scene
from quilt_core.uv.analysis import MeshIslands
from quilt_core.uv.edges import mesh_faults
from quilt_core.uv.stretch import odd_triangles

_NONE = 0xFFFFFFFF
GONE = "What was picked is not there any more. Pick it anew."
ODD = {"turned": 1, "zero_uv": 2, "zero_world": 4, "crowded": 8, "against": 16, "no_uv": 32}


def island_starts(pieces: list[MeshIslands | None]) -> list[int]:
    """First island number of every mesh in its file, and the number of all islands at the end."""
    return [0, *np.cumsum([0 if p is None else p.islands.count for p in pieces]).tolist()]


def _outline(island: np.ndarray, index: np.ndarray, uv: np.ndarray, root: np.ndarray | None = None) -> np.ndarray:
    """Edges (E, 2) that one triangle alone has, joined by UV and island, or by the `root` of each vertex."""
    tri = index[island[index[:, 0]] != _NONE]
    if not len(tri):
        return np.zeros((0, 2), np.uint32)
    key = np.column_stack([island, np.round(uv.astype(np.float64) * 2**20) if root is None else root])
    node = np.unique(key, axis=0, return_inverse=True)[1].ravel()
    edge = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    ends = np.sort(node[edge], axis=1)
    _, first, count = np.unique(ends, axis=0, return_index=True, return_counts=True)
    return edge[first[count == 1]].astype(np.uint32)


def _odd(mesh: Mesh, placing: MeshObject, piece: MeshIslands | None) -> np.ndarray:
    """What is wrong with each triangle (T,) of a placed mesh, as bits of `ODD`."""
    if piece is None:
        return np.full(len(mesh.triangles), ODD["no_uv"], np.uint32)
    source = mesh.channels[piece.channel]
    found = odd_triangles(mesh, source, placing, piece.islands.of_triangle, piece.islands.signed_area)
    edges = mesh_faults(mesh)
    marks = {
        "turned": found.turned, "zero_uv": found.zero_uv, "zero_world": found.zero_world, "crowded": edges.crowded, "against": edges.against,
        "no_uv": piece.islands.of_triangle < 0,
    }  # fmt: skip
    return np.asarray(sum(ODD[k] * m.astype(np.uint32) for k, m in marks.items()), np.uint32)


def _paint_rows(scene: Scene, mesh: Mesh, first: Mesh, channel: int) -> tuple[np.ndarray, np.ndarray] | None:
    """Rows (T, 3) and UVs of the channel that the mesh's base colour maps read, as it `first` came; None where that is `channel`, or there is no map.

    Materials of one mesh that read different channels follow the first.
    """
    used = [int(m) for m in np.unique(mesh.materials) if 0 <= m < len(scene.materials)]
    asked = [scene.materials[m].maps["base colour"].channel for m in used if "base colour" in scene.materials[m].maps]
    source = first.channels.get(asked[0]) if asked else None
    if source is None or (asked[0] == channel and source is mesh.channels.get(channel)):
        return None
    return source.triangles, source.uvs


def shown_order(mesh: Mesh) -> NDArray[np.int64]:
    """The triangles (T,) of a mesh in the order in which the page has them: material by material."""
    return np.argsort(mesh.materials, kind="stable")


def shown_places(mesh: Mesh) -> NDArray[np.int64]:
    """The place (T,) that each triangle of a mesh has on the page: the reverse of `shown_order`."""
    out = np.empty(len(mesh.triangles), np.int64)
    out[shown_order(mesh)] = np.arange(len(out))
    return out


def _inside(mesh: Mesh) -> NDArray[np.uint32]:
    """(T,) bit k where side k of a triangle runs inside a polygon."""
    if mesh.polygons is None:
        return np.zeros(len(mesh.triangles), np.uint32)
    tri = mesh.polygons.triangles.astype(np.int64)
    ends = np.sort(np.stack([tri, np.roll(tri, -1, axis=1)], axis=2), axis=2).reshape(-1, 2)
    _, of, count = np.unique(ends[:, 0] * (int(tri.max(initial=0)) + 1) + ends[:, 1], return_inverse=True, return_counts=True)
    twice = (count[of.reshape(-1)] > 1).reshape(-1, 3)
    return np.asarray((twice * np.array([1, 2, 4])).sum(axis=1), np.uint32)


def build(
    scene: Scene,
    pieces: list[MeshIslands | None],
    channel: int,
    roots: Mapping[int, NDArray[np.int64]] | None = None,
    painted_by: Scene | None = None,
) -> bytes:
    """The binary geometry of a file; `roots` of meshes whose UVs were made here, see `Revised`; `painted_by`: the scene as its pictures read it, where that is
    another one."""
    starts = island_starts(pieces)
    columns: dict[str, list[np.ndarray]] = {k: [] for k in ("position", "uv", "island", "index", "edge", "odd", "paint", "inside")}
    objects: list[dict[str, Any]] = []
    vertices = triangles = edges = 0
    painted = False
    seen: set[int] = set()
    for o in scene.objects:
        mesh, piece = scene.meshes[o.mesh], pieces[o.mesh]
        source = mesh.channels.get(channel)
        # One vertex for every pair of position and UV row; faces without UVs keep their positions only.
        order = shown_order(mesh)
        uv_rows = np.full_like(mesh.triangles, -1) if source is None else source.triangles
        pair = (mesh.triangles.astype(np.int64) * (1 << 32) + (uv_rows + 1))[order]
        other = _paint_rows(scene, mesh, mesh if painted_by is None else painted_by.meshes[o.mesh], channel)
        if other is not None:
            # A vertex of the picture then has one more thing to agree in.
            _, pair_of = np.unique(pair, return_inverse=True)
            row = other[0][order] + 1
            _, first, index = np.unique(
                pair_of.reshape(-1).astype(np.int64) * (1 << 32) + row.reshape(-1), return_index=True, return_inverse=True
            )
            unique, row = pair.reshape(-1)[first], row.reshape(-1)[first]
        else:
            unique, index = np.unique(pair, return_inverse=True)
        index = index.reshape(-1, 3).astype(np.uint32)
        p, w = unique >> 32, (unique & 0xFFFFFFFF) - 1
        world = mesh.positions[p] @ o.world[:3, :3].T + o.world[:3, 3]
        uv = np.zeros((len(unique), 2)) if source is None else np.where(w[:, None] >= 0, source.uvs[np.maximum(w, 0)], 0.0)
        island = np.full(len(unique), _NONE, np.uint32)
        if piece is not None:
            own = np.where(w >= 0, piece.islands.of_row[np.maximum(w, 0)], -1)
            island = np.where(own >= 0, own + starts[o.mesh], _NONE).astype(np.uint32)
        root = (roots or {}).get(o.mesh)
        of_vertex = None if root is None else np.where(w >= 0, root[np.maximum(w, 0)], -1)
        edge = _outline(island, index, uv, of_vertex) if o.mesh not in seen else np.zeros((0, 2), np.uint32)
        odd = _odd(mesh, o, piece)[order]
        kinds, counts = np.unique(mesh.materials, return_counts=True)
        objects.append(
            {"index": [triangles, len(index)], "edge": [edges, len(edge)], "table": o.mesh not in seen,
             "islands": [starts[o.mesh], starts[o.mesh + 1]], "groups": np.column_stack([kinds, counts]).tolist()}
        )  # fmt: skip
        seen.add(o.mesh)
        for name, value in (("position", world), ("uv", uv)):
            columns[name].append(value.astype("<f4"))
        columns["island"].append(island[:, None])
        columns["index"].append(index + np.uint32(vertices))
        columns["edge"].append(edge + np.uint32(vertices))
        columns["odd"].append(np.column_stack([index[odd > 0] + np.uint32(vertices), odd[odd > 0]]).astype(np.uint32))
        columns["paint"].append((uv if other is None else np.where(row[:, None] > 0, other[1][np.maximum(row - 1, 0)], 0.0)).astype("<f4"))
        columns["inside"].append(_inside(mesh)[order][:, None])
        painted |= other is not None
        vertices, triangles, edges = vertices + len(unique), triangles + len(index), edges + len(edge)
    arrays = {k: np.concatenate(v) for k, v in columns.items() if k != "paint" or painted}
    if not arrays["inside"].any():
        del arrays["inside"]
    sizes = [np.column_stack([p.islands.area, p.world_area]) for p in pieces if p is not None]
    arrays["area"] = np.concatenate(sizes).astype("<f4") if sizes else np.zeros((0, 2), "<f4")
    header = {"objects": objects, "islands": starts[-1], "arrays": [[k, str(a.dtype), len(a), a.shape[1]] for k, a in arrays.items()]}
    text = json.dumps(header).encode()
    text += b" " * (-len(text) % 4)
    return struct.pack("<I", len(text)) + text + b"".join(np.ascontiguousarray(a).tobytes() for a in arrays.values())
