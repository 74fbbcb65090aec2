"""What was read from a file and found out about it, as arrays that open in milliseconds: so that no work parses or analyses a file twice.

A kept scene has everything but what its format needs for writing: `source` and the keys. Whoever writes reads the original.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from functools import cached_property
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.material import as_dict, from_dict
from ..model.scene import Floats, Mesh, MeshObject, Polygons, Scene, UvChannel
from ..uv.analysis import MeshIslands
from ..uv.islands import Islands
from ..uv.outlines import Outlines
from .shapes import IslandShapes, joined, shapes_of

SCENE_VERSION, ISLANDS_VERSION = 4, 2  # count up when what is kept, or what it means, changes: newer programs make it again then

Arrays = dict[str, NDArray[Any]]


def _stacked(parts: Sequence[NDArray[Any]], like: NDArray[Any]) -> NDArray[Any]:
    return np.concatenate([like, *parts]) if parts else like


def _bounds(parts: Sequence[NDArray[Any]]) -> NDArray[np.int64]:
    return np.cumsum([0, *(len(p) for p in parts)])


def scene_arrays(scene: Scene, normals: Sequence[Floats | None]) -> tuple[Any, Arrays]:
    """A scene as what JSON can say, and arrays; `normals` (T, 3, 3) of each mesh, None where the file has none.

    Parameters
    ----------
    normals : for each mesh (T, 3, 3), or None

    Returns
    -------
    meta for JSON, and arrays by name
    """
    m = scene.meshes
    numbers = sorted({c for mesh in m for c in mesh.channels})
    bare = UvChannel(np.zeros((0, 2)), np.zeros((0, 3), np.int32))
    arrays: Arrays = {
        "positions": _stacked([x.positions for x in m], np.zeros((0, 3))), "positions_of": _bounds([x.positions for x in m]),
        "triangles": _stacked([x.triangles for x in m], np.zeros((0, 3), np.int32)), "triangles_of": _bounds([x.triangles for x in m]),
        "materials": _stacked([x.materials for x in m], np.zeros(0, np.int32)),
        "world": np.array([o.world for o in scene.objects]).reshape(-1, 4, 4), "object_mesh": np.array([o.mesh for o in scene.objects], np.int64),
        "normals": _stacked([n.astype(np.float32) for n in normals if n is not None], np.zeros((0, 3, 3), np.float32)),
        "normals_of": np.cumsum([0, *(0 if n is None else len(n) for n in normals)]),
    } | _polygon_arrays(m)  # fmt: skip
    for c in numbers:
        of = [mesh.channels.get(c, bare) for mesh in m]
        arrays |= {
            f"uvs{c}": _stacked([x.uvs for x in of], np.zeros((0, 2))), f"uvs{c}_of": _bounds([x.uvs for x in of]),
            f"corners{c}": _stacked([x.triangles for x in of], np.zeros((0, 3), np.int32)), f"corners{c}_of": _bounds([x.triangles for x in of]),
        }  # fmt: skip
    meta = {
        "file": scene.file, "format": scene.format, "warnings": scene.warnings, "references": scene.references,
        "meshes": [{"name": x.name, "channels": sorted(x.channels), "polygons": x.polygons is not None, "tangents": x.tangents} for x in m],
        "objects": [[o.name, o.path] for o in scene.objects], "materials": [as_dict(x) for x in scene.materials],
    }  # fmt: skip
    return meta, arrays


_POLYGON_ARRAYS = ("faces", "corners", "triangles", "face_of")


def _polygon_arrays(meshes: Sequence[Mesh]) -> Arrays:
    """The polygons of all meshes, nothing for those of triangles."""
    out: Arrays = {}
    for name in _POLYGON_ARRAYS:
        parts = [
            np.zeros((0, 3) if name == "triangles" else 0, np.int64) if x.polygons is None else getattr(x.polygons, name) for x in meshes
        ]
        like = np.zeros((0, 3) if name == "triangles" else 0, np.int64 if name == "faces" else np.int32)
        out |= {f"polygon_{name}": _stacked(parts, like), f"polygon_{name}_of": _bounds(parts)}
    return out


def scene_of(meta: Any, a: Arrays) -> Scene:
    """The scene that was kept."""

    def part(name: str, n: int) -> NDArray[Any]:
        of = a[f"{name}_of"]
        return a[name][of[n] : of[n + 1]]

    meshes = []
    for n, kept in enumerate(meta["meshes"]):
        faces = a["triangles_of"]
        channels = {c: UvChannel(part(f"uvs{c}", n), part(f"corners{c}", n)) for c in kept["channels"]}
        polygons = Polygons(*(part(f"polygon_{name}", n) for name in _POLYGON_ARRAYS)) if kept["polygons"] else None
        own = a["materials"][faces[n] : faces[n + 1]]
        meshes.append(
            Mesh(kept["name"], part("positions", n), part("triangles", n), own, channels, polygons=polygons, tangents=kept["tangents"])
        )
    objects = [
        MeshObject(name, path, int(mesh), world)
        for (name, path), mesh, world in zip(meta["objects"], a["object_mesh"], a["world"], strict=True)
    ]
    materials = [from_dict(x) for x in meta["materials"]]
    return Scene(meta["file"], meta["format"], meshes, objects, materials, b"", meta["warnings"], meta["references"])


def normals_of_scene(meta: Any, a: Arrays) -> list[Floats | None]:
    """The normals (T, 3, 3) of each mesh that were kept; None where the file has none."""
    of = a["normals_of"]
    faces = np.diff(a["triangles_of"])
    return [
        a["normals"][of[n] : of[n + 1]].astype(np.float64) if of[n + 1] > of[n] or faces[n] == 0 else None
        for n in range(len(meta["meshes"]))
    ]


@dataclass(frozen=True)
class FileIslands:
    """The islands of one file in one channel. `starts` (m + 1,) first island of every mesh; `shapes` of all of them together."""

    shapes: IslandShapes
    starts: NDArray[np.int64]
    arrays: Arrays
    channel: int

    def placings(self) -> dict[int, list[tuple[Floats, Floats]]]:
        """For every mesh with islands, UV area (k,) of its islands and their world area (k,) in each of its placings, in the order of the objects."""
        return self._placings

    @cached_property
    def _placings(self) -> dict[int, list[tuple[Floats, Floats]]]:
        out, at = {}, 0
        # As plain arrays: cutting one that is mapped costs thirty times as much, and a kit has thousands of meshes.
        areas, uv_areas = np.asarray(self.arrays["object_areas"]), np.asarray(self.shapes.uv_area)
        starts, numbers = self.starts.tolist(), self.arrays["objects_of"].tolist()
        for k, n in enumerate(np.flatnonzero(self.arrays["has"]).tolist()):
            first, end, number = starts[n], starts[n + 1], numbers[k]
            uv, count = uv_areas[first:end], end - first
            out[n] = [(uv, areas[at + q * count : at + (q + 1) * count]) for q in range(number)]
            at += count * number
        return out

    def pieces(self, scene: Scene) -> list[MeshIslands | None]:
        """The islands of every mesh of the file's scene; None for a mesh without UVs in the channel."""
        return _pieces(scene, self.channel, self.starts, self.arrays)


def island_arrays(pieces: Sequence[MeshIslands | None], channel: int) -> tuple[Any, Arrays]:
    """The islands of all meshes of a file as what JSON can say, and arrays."""
    real = [p for p in pieces if p is not None]
    starts = np.cumsum([0, *(0 if p is None else p.islands.count for p in pieces)])
    of_triangle, of_row = [p.islands.of_triangle for p in real], [p.islands.of_row for p in real]
    parts, owner = shapely.get_parts(_stacked([p.outlines.regions for p in real], np.zeros(0, object)), return_index=True)
    _, xy, offsets = shapely.to_ragged_array(parts) if len(parts) else (0, np.zeros((0, 2)), (np.zeros(1, np.int64), np.zeros(1, np.int64)))
    none = np.zeros(0)
    arrays: Arrays = {
        "starts": starts, "has": np.array([p is not None for p in pieces], bool),
        "of_triangle": _stacked(of_triangle, np.zeros(0, np.int32)), "of_triangle_of": _bounds(of_triangle),
        "of_row": _stacked(of_row, np.zeros(0, np.int32)), "of_row_of": _bounds(of_row),
        "box": _stacked([p.islands.box for p in real], np.zeros((0, 4))), "zero": np.array([p.islands.zero_triangles for p in real], np.int64),
        "xy": xy, "rings": offsets[0], "polygons": offsets[1], "polygons_of": np.searchsorted(owner, np.arange(starts[-1] + 1)),
        "object_areas": _stacked([a for p in real for a in p.object_areas], none), "objects_of": np.array([len(p.objects) for p in real], np.int64),
    }  # fmt: skip
    shapes = joined([shapes_of(p) for p in real])
    arrays |= {f"shape_{k}": v for k, v in shapes.arrays().items()}
    return {"channel": channel}, arrays


def islands_of(meta: Any, a: Arrays) -> FileIslands:
    """The islands that were kept."""
    shapes = IslandShapes(**{f.name: a[f"shape_{f.name}"] for f in fields(IslandShapes)})
    return FileIslands(shapes, a["starts"], a, int(meta["channel"]))


def _pieces(scene: Scene, channel: int, starts: NDArray[np.int64], a: Arrays) -> list[MeshIslands | None]:
    regions = _regions(a)
    shapes = {k: a[f"shape_{k}"] for k in ("uv_area", "signed_area", "own")}
    out: list[MeshIslands | None] = []
    k = areas = 0
    for n, mesh in enumerate(scene.meshes):
        if not a["has"][n]:
            out.append(None)
            continue
        first, end = int(starts[n]), int(starts[n + 1])
        faces, rows = a["of_triangle_of"], a["of_row_of"]
        islands = Islands(
            a["of_triangle"][faces[k] : faces[k + 1]], a["of_row"][rows[k] : rows[k + 1]], shapes["uv_area"][first:end], shapes["signed_area"][first:end],
            a["box"][first:end], int(a["zero"][k]),
        )  # fmt: skip
        objects = [o for o in scene.objects if o.mesh == n]
        count = end - first
        of = [a["object_areas"][areas + q * count : areas + (q + 1) * count] for q in range(int(a["objects_of"][k]))]
        areas += count * len(of)
        outlines = Outlines(regions[first:end], shapes["own"][first:end])
        out.append(MeshIslands(mesh, channel, islands, outlines, objects, of, mesh.channels[channel].uvs))
        k += 1
    return out


def _regions(a: Arrays) -> NDArray[np.object_]:
    """Regions (n,) of all islands: an empty polygon, a polygon, or several as one."""
    of = a["polygons_of"]
    out = np.full(len(of) - 1, shapely.Polygon(), object)
    if len(a["polygons"]) < 2:
        return out
    parts = shapely.from_ragged_array(shapely.GeometryType.POLYGON, a["xy"], (a["rings"], a["polygons"]))
    size = np.diff(of)
    single = np.flatnonzero(size == 1)
    out[single] = parts[of[:-1][single]]
    for i in np.flatnonzero(size > 1):
        out[i] = shapely.MultiPolygon(list(parts[of[i] : of[i + 1]]))
    return out
