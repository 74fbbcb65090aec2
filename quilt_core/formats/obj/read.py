"""Wavefront OBJ: read into a scene, and write new UVs into the bytes that were read.

Writing touches `vt` lines and the vt numbers of faces, nothing else: comments, groups, normals,
polygons and line ends stay as they are. Encodings: UTF-8 (and what is close to it), UTF-16 with a mark.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import FileError
from ...model.scene import Material, Mesh, MeshObject, Polygons, Scene, UvChannel
from ..beside import find_resource
from ..polygons import triangulate
from .mtl import Block, blocks_of, material, seen_from_mesh
from .scan import ObjScan, ScanError, scan

_MARKS = ((codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))


@dataclass(frozen=True)
class _Text:
    """The text as UTF-8 bytes, and how to give it back in the file's own encoding."""

    body: bytes
    mark: bytes
    encoding: str

    def encode(self, body: bytes) -> bytes:
        if not self.encoding:
            return body
        return self.mark + body.decode("utf-8").encode(self.encoding)


@dataclass(frozen=True)
class Key:
    """Where a mesh stands in the file: its corner numbers, the UV row of each (-1: none), and its face numbers."""

    corners: NDArray[np.int64]
    rows: NDArray[np.int64]
    faces: NDArray[np.int64]


def _decode(data: bytes, file: str) -> _Text:
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            try:
                return _Text(data[len(mark) :].decode(encoding).encode("utf-8"), mark, encoding)
            except UnicodeDecodeError as e:
                raise FileError(file, "the UTF-16 text is cut short or damaged", f"byte {e.start}") from e
    return _Text(data, b"", "")


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read an OBJ file.

    Parameters
    ----------
    data : the bytes of the file
    file : its name, for messages and for the name of an unnamed object
    unit_m : metres in one unit of the file (OBJ does not say)
    resources : other files by path, of which the named MTL files are read

    Raises
    ------
    FileError : with the line that cannot be read
    """
    text = _decode(data, file)
    try:
        s = scan(text.body)
    except ScanError as e:
        line = len(re.findall(rb"\r\n|\n|\r", text.body[: e.at])) + 1
        raise FileError(file, e.what, f"line {line}", "Export the mesh again from its source.") from e
    if len(s.faces) < 2:
        raise FileError(file, "there is no face in it", "", "It may be a point cloud, or not an OBJ file at all.")
    materials = _materials(s, resources or {})
    scene = Scene(file, "obj", [], [], materials, data, key=(text, s))
    scene.references = _named(s, resources or {}) + [p for m in materials for p in m.images.values()]
    if re.search(rb"^v(?:[ \t]+\S+){6,}", text.body, re.M):
        scene.further = ["the colours of its vertices"]
    names, object_of = _objects(s, file)
    _build_meshes(scene, s, names, object_of, _material_of(s, materials), unit_m)
    if not scene.meshes:
        raise FileError(file, "no face in it has three corners", "", "Only points and lines: there is nothing to unwrap.")
    if np.any(np.diff(s.faces) < 3):
        scene.warnings.append(f"{int((np.diff(s.faces) < 3).sum())} faces with under three corners are ignored")
    return scene


def _objects(s: ObjScan, file: str) -> tuple[list[str], NDArray[np.int64]]:
    """Names of the objects and the object of every face. `o` counts; where there is none, `g` does."""
    keyword = "o" if any(k == "o" for k, _, _ in s.statements) else "g"
    stem = re.split(r"[\\/]", file)[-1].rsplit(".", 1)[0] or file
    names: list[str] = [stem]
    of = np.zeros(len(s.faces) - 1, np.int64)
    known: dict[str, int] = {}
    for word, argument, before in s.statements:
        if word != keyword:
            continue
        name = argument or stem
        # A group may be opened again and goes on; a second `o` of the same name is another object.
        if keyword == "o" or name not in known:
            known[name] = len(names)
            names.append(name)
        of[before:] = known[name]
    return names, of


def _material_of(s: ObjScan, materials: list[Material]) -> NDArray[np.int32]:
    number = {m.name: i for i, m in enumerate(materials)}
    of = np.full(len(s.faces) - 1, -1, np.int32)
    for word, argument, before in s.statements:
        if word == "usemtl":
            of[before:] = number.get(argument, -1)
    return of


def _materials(s: ObjScan, resources: Mapping[str, bytes]) -> list[Material]:
    names = list(dict.fromkeys(a for k, a, _ in s.statements if k == "usemtl"))
    blocks: dict[str, Block] = {}
    for path in libraries_of(s, resources):
        blocks |= blocks_of(seen_from_mesh(resources[path], path, resources))
    return [material(n, blocks[n], resources) if n in blocks else Material(n) for n in names]


def _named(s: ObjScan, resources: Mapping[str, bytes]) -> list[str]:
    """The names of material libraries in a file; a statement holds one, in which there may be spaces, or several."""
    out: list[str] = []
    for line in (a for k, a, _ in s.statements if k == "mtllib"):
        words = line.split()
        several = len(words) > 1 and find_resource(line, resources) is None and all(w.lower().endswith(".mtl") for w in words)
        out += words if several else [line]
    return list(dict.fromkeys(out))


def libraries_of(s: ObjScan, resources: Mapping[str, bytes]) -> list[str]:
    """The material libraries that a file names, in order, as far as they came along."""
    return [p for n in _named(s, resources) if (p := find_resource(n, resources)) is not None]


def _build_meshes(scene: Scene, s: ObjScan, names: list[str], of: NDArray[np.int64], material_of: NDArray[np.int32], unit_m: float) -> None:
    triangles, face_of = triangulate(s.v[s.corner_v], s.faces)
    corner_face = np.repeat(np.arange(len(s.faces) - 1), np.diff(s.faces))
    order = np.argsort(of[face_of], kind="stable")
    corner_order = np.argsort(of[corner_face], kind="stable")
    bounds = np.searchsorted(of[face_of][order], np.arange(len(names) + 1))
    corner_bounds = np.searchsorted(of[corner_face][corner_order], np.arange(len(names) + 1))
    local = np.empty(len(s.corner_v), np.int64)
    world = np.diag([unit_m, unit_m, unit_m, 1.0])
    for o, name in enumerate(names):
        mine = order[bounds[o] : bounds[o + 1]]
        if not len(mine):
            continue
        corners = corner_order[corner_bounds[o] : corner_bounds[o + 1]]
        vertices, position_row = np.unique(s.corner_v[corners], return_inverse=True)
        uv_row = _uv_rows(s, corners)
        local[corners] = np.arange(len(corners))
        tri = local[triangles[mine]]
        channels = {}
        rows = int(uv_row.max()) + 1
        if rows > 0:
            uvs = np.zeros((rows, 2))
            has = uv_row >= 0
            uvs[uv_row[has]] = s.vt[s.corner_vt[corners[has]]]
            uv_tri = uv_row[tri]
            # A face with a UV at only some of its corners has none that could be used.
            uv_tri[(uv_tri < 0).any(axis=1)] = -1
            channels[0] = UvChannel(uvs, uv_tri.astype(np.int32))
        mesh = Mesh(
            name,
            s.v[vertices],
            position_row[tri].astype(np.int32),
            material_of[face_of[mine]],
            channels,
            Key(corners, uv_row, np.unique(corner_face[corners])),
            _polygons(corners, corner_face, position_row, tri, face_of[mine]),
        )
        scene.objects.append(MeshObject(name, name, len(scene.meshes), world))
        scene.meshes.append(mesh)


def _polygons(
    corners: NDArray[np.int64],
    corner_face: NDArray[np.int64],
    positions: NDArray[np.int64],
    tri: NDArray[np.int64],
    face_of: NDArray[np.int64],
) -> Polygons:
    """The faces of one object, numbered within it."""
    own, counts = np.unique(corner_face[corners], return_counts=True)
    faces = np.concatenate([[0], np.cumsum(counts)])
    return Polygons(faces, positions.astype(np.int32), tri.astype(np.int32), np.searchsorted(own, face_of).astype(np.int32))


def _uv_rows(s: ObjScan, corners: NDArray[np.int64]) -> NDArray[np.int64]:
    """A row for every distinct pair of position and UV among the corners; -1 where there is no UV."""
    rows = np.full(len(corners), -1, np.int64)
    has = s.corner_vt[corners] >= 0
    pairs = s.corner_v[corners[has]] * np.int64(len(s.vt) + 1) + s.corner_vt[corners[has]]
    rows[has] = np.unique(pairs, return_inverse=True)[1]
    return rows
