"""PLY (Stanford polygon format, ascii or binary): read into a scene, and write new UVs into the elements that were read.

Texture coordinates stand at the vertices (`s`/`t`, `u`/`v` or `texture_u`/`texture_v`) or at the corners of the faces (a list
`texcoord`); names as the trade's programs write them (common practice, no source). Whatever else the file has stays.
"""

from __future__ import annotations

import io
import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from plyfile import PlyData, PlyElement, PlyElementParseError, PlyHeaderParseError

from ...errors import FileError
from ...model.colours import to_linear
from ...model.material import Texture
from ...model.scene import Floats, Material, Mesh, MeshObject, Polygons, Scene, UvChannel
from ..polygons import triangulate

_PAIRS = (("s", "t"), ("u", "v"), ("texture_u", "texture_v"))
_CORNERS = ("vertex_indices", "vertex_index")
WEDGES = "texcoord"

COLOURS = ("red", "green", "blue", "alpha")


@dataclass(frozen=True)
class Key:
    """Where UVs stand: the names of two vertex properties, or None for a list at each face; and the UV row of every corner (-1: none)."""

    pair: tuple[str, str] | None
    rows: NDArray[np.int64]


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read a PLY file.

    Parameters
    ----------
    unit_m : metres in one unit of the file (PLY does not say)
    resources : not needed; the pictures of a PLY are named in its comments

    Raises
    ------
    FileError : what is wrong, where, and what helps
    """
    _check_counts(data, file)
    try:
        ply = PlyData.read(io.BytesIO(data))
    except (PlyHeaderParseError, PlyElementParseError) as e:
        raise FileError(file, f"it cannot be read as PLY ({str(e)[:120]})", "", "Export the mesh again from its source.") from e
    except (ValueError, TypeError, MemoryError, UnicodeDecodeError, IndexError, KeyError, OverflowError, AttributeError) as e:
        raise FileError(file, f"it cannot be read as PLY ({type(e).__name__})", "", "Export the mesh again from its source.") from e
    scene = Scene(file, "ply", [], [], _materials(ply), data, key=ply)
    scene.references = [path for m in scene.materials for path in m.images.values()]
    try:
        mesh = _mesh(ply, file, scene)
    except (TypeError, ValueError, IndexError, KeyError, OverflowError) as e:  # a list where a number belongs, or the other way round
        raise FileError(file, f"its elements are not those of a mesh ({type(e).__name__})", "header", "Export the mesh again.") from e
    scene.meshes.append(mesh)
    scene.objects.append(MeshObject(mesh.name, mesh.name, 0, np.diag([unit_m, unit_m, unit_m, 1.0])))
    return scene


def _check_counts(data: bytes, file: str) -> None:
    """Refuse a header that promises more rows than the file has bytes, before room is made for them."""
    end = data.find(b"end_header")
    if not data.startswith(b"ply") or end < 0:
        raise FileError(file, "this is not a PLY file, or its header is cut short", "header", "Copy the file again.")
    for name, count in re.findall(rb"^element\s+(\S+)\s+(\S+)", data[:end], re.M):
        rows = int(count) if count.isdigit() else -1
        if not 0 <= rows <= len(data) - end:
            word = name.decode("ascii", "replace")
            raise FileError(file, f"it says {count.decode('ascii', 'replace')} of '{word}' and is too short for them", "header",
                            "Copy the file again.")  # fmt: skip


def _materials(ply: PlyData) -> list[Material]:
    """One material for each picture that the comments name."""
    comments = [c for c in ply.comments if re.match(r"(?i)texturefile\s+\S", c)]
    paths = [c.split(None, 1)[1].strip() for c in comments]
    names = [re.split(r"[\\/]", p)[-1].rsplit(".", 1)[0] for p in paths]
    return [Material(n, {"TextureFile": Texture("base colour", p)}) for n, p in zip(names, paths, strict=True)]


def _corners(ply: PlyData, file: str) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Offsets (F + 1,) of the faces into the corners, and the vertex (C,) of every corner."""
    faces = next((e for e in ply.elements if e.name == "face"), None)
    name = next((n for n in _CORNERS if faces is not None and n in faces), None)
    if faces is None or name is None or not len(faces.data):
        raise FileError(file, "there is no face in it", "", "A point cloud has nothing to unwrap.")
    lists = faces[name]
    counts = np.fromiter((len(x) for x in lists), np.int64, len(lists))
    corners = np.concatenate(list(lists)).astype(np.int64) if counts.sum() else np.zeros(0, np.int64)
    return np.concatenate([[0], np.cumsum(counts)]), corners


def _mesh(ply: PlyData, file: str, scene: Scene) -> Mesh:
    if "vertex" not in ply or any(axis not in ply["vertex"] for axis in "xyz"):
        raise FileError(file, "its vertices have no x, y and z", "header", "Export the mesh again from its source.")
    vertices = ply["vertex"]
    positions = np.column_stack([vertices[axis].astype(np.float64) for axis in "xyz"]).reshape(-1, 3)
    faces, corners = _corners(ply, file)
    bad = np.flatnonzero((corners < 0) | (corners >= len(positions)))
    if len(bad):
        face = int(np.searchsorted(faces, bad[0], side="right"))
        raise FileError(file, f"it names vertex {corners[bad[0]]} of {len(positions)}", f"face {face}", "Export the mesh again.")
    if not np.isfinite(positions).all():
        row = int(np.flatnonzero(~np.isfinite(positions).all(axis=1))[0])
        raise FileError(file, "a position is not a number", f"vertex {row + 1}", "Export the mesh again.")
    triangles, face_of = triangulate(positions[corners], faces)
    if not len(triangles):
        raise FileError(file, "no face in it has three corners", "", "Only points and lines: there is nothing to unwrap.")
    channels, key = {}, Key(None, np.full(len(corners), -1, np.int64))
    found = _uvs(ply, file, faces, corners)
    if found is not None:
        uvs, key = found
        tri = key.rows[triangles]
        tri[(tri < 0).any(axis=1)] = -1
        channels[0] = UvChannel(uvs, tri.astype(np.int32))
    materials = np.full(len(triangles), 0 if scene.materials else -1, np.int32)
    if "texnumber" in ply["face"] and len(scene.materials) > 1:
        number = ply["face"]["texnumber"].astype(np.int64)
        materials = np.where((number >= 0) & (number < len(scene.materials)), number, -1)[face_of].astype(np.int32)
    name = re.split(r"[\\/]", file)[-1].rsplit(".", 1)[0] or file
    polygons = Polygons(faces, corners.astype(np.int32), triangles.astype(np.int32), face_of.astype(np.int32))
    colours = _colours(vertices)
    at_corners = None if colours is None else colours[corners[triangles]]
    return Mesh(name, positions, corners[triangles].astype(np.int32), materials, channels, key, polygons, colours=at_corners)


def _colours(vertices: PlyElement) -> Floats | None:
    """Linear colours (V, 4) of the vertices; bytes are stored as pictures are (common practice, no source)."""
    if any(n not in vertices for n in COLOURS[:3]) or any(vertices[n].dtype != np.uint8 for n in COLOURS[:3]):
        return None
    rgb = to_linear(np.column_stack([vertices[n] for n in COLOURS[:3]]) / 255.0)
    alpha = vertices["alpha"] / 255.0 if "alpha" in vertices and vertices["alpha"].dtype == np.uint8 else np.ones(len(rgb))
    return np.column_stack([rgb, alpha])


def _uvs(ply: PlyData, file: str, faces: NDArray[np.int64], corners: NDArray[np.int64]) -> tuple[Floats, Key] | None:
    """UV rows and where they stand; at the corners first, since a seam can only stand there."""
    if WEDGES in ply["face"]:
        lists = ply["face"][WEDGES]
        counts, sizes = np.diff(faces), np.fromiter((len(x) for x in lists), np.int64, len(lists))
        wrong = np.flatnonzero((sizes != 2 * counts) & (sizes != 0))
        if len(wrong):
            raise FileError(file, f"'{WEDGES}' has {sizes[wrong[0]]} numbers for {counts[wrong[0]]} corners", f"face {wrong[0] + 1}",
                            "Export the mesh again.")  # fmt: skip
        has = np.repeat(sizes > 0, counts)
        values = np.zeros((len(corners), 2))
        if has.any():
            values[has] = np.concatenate([x for x in lists if len(x)]).astype(np.float64).reshape(-1, 2)
        rows = np.full(len(corners), -1, np.int64)
        pairs, back = np.unique(np.column_stack([corners[has], values[has]]), axis=0, return_inverse=True)
        rows[has] = back.reshape(-1)
        return (_finite(pairs[:, 1:], file), Key(None, rows)) if has.any() else None
    vertices = ply["vertex"]
    for pair in _PAIRS:
        if all(n in vertices for n in pair):
            return _finite(np.column_stack([vertices[n].astype(np.float64) for n in pair]), file), Key(pair, corners)
    return None


def _finite(uvs: Floats, file: str) -> Floats:
    if not np.isfinite(uvs).all():
        raise FileError(file, "a UV is not a number", "", "Export the mesh again.")
    return uvs
