"""What is written in another format than it came in: a scene, or several as one, corner by corner."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.material import Material
from ..model.normals import turned_normals
from ..model.scene import Floats, Mesh, Node

Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class Corners:
    """The faces of a mesh corner by corner.

    faces : (F + 1,) offsets; position : (C,) rows of the mesh's positions; uvs : channel to (C, 2), NaN where there are none
    normal : (C, 3) or None; colour : (C, 4) linear red, green, blue and alpha, or None; look : (F,) material, -1 for none; triangles : (T, 3) corner numbers, face_of : (T,)
    layout : the UV channel that a format of one channel gets
    """

    faces: Numbers
    position: Numbers
    uvs: dict[int, Floats]
    normal: Floats | None
    look: Numbers
    triangles: Numbers
    face_of: Numbers
    layout: int = 0
    colour: Floats | None = None

    @property
    def laid(self) -> Floats | None:
        """UVs (C, 2) of the layout."""
        return self.uvs.get(self.layout)


@dataclass(frozen=True)
class Item:
    """An object: name, path, place in the world (4, 4; metres, y up), its mesh by number, and its node."""

    name: str
    path: str
    world: Floats
    mesh: int
    node: int = -1


@dataclass
class Model:
    """What is written.

    looks : materials, with one picture of a kind under that kind, by its path among the pictures
    pictures : bytes by path: those that a material names, and any whose paths are taken
    names : of the UV channels by number, empty for the usual ones
    nodes : the hierarchy; every item has a node of its own, whose place is that of the item
    extras : of meshes by number (glTF); further : what the files hold that goes into no other format, by file
    """

    items: list[Item] = field(default_factory=list)
    meshes: list[tuple[str, Floats, Corners]] = field(default_factory=list)
    looks: list[Material] = field(default_factory=list)
    nodes: list[Node] = field(default_factory=list)
    extras: dict[int, Any] = field(default_factory=dict)
    further: dict[str, list[str]] = field(default_factory=dict)
    pictures: dict[str, bytes] = field(default_factory=dict)
    names: tuple[str, ...] = ()

    @property
    def channels(self) -> list[int]:
        """The UV channels that any mesh has; a file of several channels numbers them in this order."""
        return sorted({c for _, _, corners in self.meshes for c in corners.uvs})

    def channels_of(self, corners: Corners) -> list[int]:
        """The channels that a mesh is written with: up to the last one that it has, or that a material on it reads. What it lacks of these is zero, for
        channels are counted without gaps."""
        read = {t.channel for k in np.unique(corners.look).tolist() if k >= 0 for t in self.looks[k].textures.values()}
        last = max((c for c in self.channels if c in corners.uvs or c in read), default=-1)
        return [c for c in self.channels if c <= last]

    @property
    def channel_names(self) -> dict[int, str]:
        """The names of the channels, where a format names them."""
        out: dict[int, str] = {}
        for n, c in enumerate(self.channels):
            name = (self.names[c] if c < len(self.names) else "") or ("st" if n == 0 else f"st{n}")
            while name in out.values():
                name += "_"
            out[c] = name
        return out

    @property
    def shown(self) -> dict[str, bytes]:
        """The pictures that a material names."""
        used = {t.path for look in self.looks for t in look.textures.values()}
        return {p: b for p, b in self.pictures.items() if p in used}

    @property
    def locals(self) -> list[Floats]:
        """The place (4, 4) of every node in that of its parent."""
        out = []
        for node in self.nodes:
            above = np.eye(4) if node.parent < 0 else self.nodes[node.parent].world
            out.append(np.asarray(np.linalg.solve(above, node.world), np.float64))
        return out


def corners_of(mesh: Mesh, normal: Floats | None, looks: Numbers, colour: Floats | None = None) -> Corners:
    """A mesh corner by corner: its polygons, or its triangles where the format has no others. Faces that are no area are left out.

    Parameters
    ----------
    normal, colour : (T, 3, 3) and (T, 3, 4) at the corners of the triangles, or None; looks : (T,) material, -1 for none

    Returns
    -------
    see `Corners`
    """
    count = len(mesh.triangles)
    if mesh.polygons is None:
        faces, position = np.arange(0, 3 * count + 1, 3), mesh.triangles.reshape(-1).astype(np.int64)
        triangles, face_of = np.arange(3 * count).reshape(-1, 3), np.arange(count)
    else:
        p = mesh.polygons
        keep = np.diff(p.faces) >= 3
        used = np.repeat(keep, np.diff(p.faces))
        number = np.cumsum(used) - 1
        faces = np.concatenate([[0], np.cumsum(np.diff(p.faces)[keep])])
        position = p.corners[used].astype(np.int64)
        triangles, face_of = number[p.triangles], (np.cumsum(keep) - 1)[p.face_of]
    uvs = {}
    for channel, source in mesh.channels.items():
        uv = np.full((len(position), 2), np.nan)
        has = (source.triangles >= 0).all(axis=1)
        uv[triangles[has]] = source.uvs[source.triangles[has]]
        uvs[channel] = uv
    at = None
    if normal is not None:
        at = np.zeros((len(position), 3))
        at[triangles] = normal
    colours = None
    if colour is not None:
        colours = np.ones((len(position), 4))
        colours[triangles] = colour
    look = np.full(len(faces) - 1, -1, np.int64)
    look[face_of[::-1]] = looks[::-1]
    return Corners(faces.astype(np.int64), position, uvs, at, look, triangles, face_of, colour=colours)


def in_world(model: Model, item: Item) -> tuple[Floats, Floats | None, bool]:
    """Positions and normals of an object in metres, y up, and whether its faces turn over there.

    Parameters
    ----------
    item : an object of the model

    Returns
    -------
    (V, 3) metres, (C, 3) or None, bool
    """
    _, positions, corners = model.meshes[item.mesh]
    turn = item.world[:3, :3]
    placed = positions @ turn.T + item.world[:3, 3]
    normal = None if corners.normal is None else turned_normals(corners.normal, item.world)
    return placed, normal, bool(np.linalg.det(turn) < 0)


def turned(corners: Corners) -> Numbers:
    """The corner numbers (C,) with every face walked the other way round."""
    counts = np.diff(corners.faces)
    return np.repeat(corners.faces[:-1] + corners.faces[1:] - 1, counts) - np.arange(len(corners.position))


def distinct(*columns: NDArray[np.floating] | Numbers | None) -> tuple[Numbers, Numbers]:
    """Rows that differ in any column: (first corner of each, row of every corner)."""
    table = np.column_stack([np.nan_to_num(np.asarray(c, np.float64), nan=-1e30) for c in columns if c is not None])
    _, first, rows = np.unique(table, axis=0, return_index=True, return_inverse=True)
    return first, rows.reshape(-1)
