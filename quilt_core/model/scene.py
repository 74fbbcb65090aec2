"""What a file holds, whatever its format: meshes, their UV channels, and the objects that place them.

A *mesh* owns positions and UVs; an *object* is one placing of a mesh in the world. Two objects may
share a mesh (and then share its islands, since they share its UVs).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .material import Floats, Material
from .points import points_of

__all__ = ["Floats", "Ints", "Material", "Mesh", "MeshObject", "Node", "Polygons", "Scene", "UvChannel"]

Ints = NDArray[np.int32]


@dataclass(frozen=True)
class UvChannel:
    """One set of texture coordinates of a mesh.

    uvs : (W, 2) float64, origin lower left. Every row belongs to one position only, so that no row is
        ever shared by two islands.
    triangles : (T, 3) int32, rows of `uvs` for each corner, -1 where a face has no UVs.
    """

    uvs: Floats
    triangles: Ints


@dataclass(frozen=True)
class Polygons:
    """The faces of a mesh as the file has them; computing uses triangles, and a file written in another format gets these again.

    faces : (F + 1,) offsets of the faces into the corners
    corners : (C,) row of `Mesh.positions` of every corner
    triangles : (T, 3) corner numbers of every triangle
    face_of : (T,) the face of every triangle
    """

    faces: NDArray[np.int64]
    corners: Ints
    triangles: Ints
    face_of: Ints


@dataclass
class Mesh:
    """Geometry that one or more objects place.

    positions : (V, 3) float64 in the units of the file
    triangles : (T, 3) int32, rows of `positions`
    materials : (T,) int32, index into `Scene.materials`, -1 for none
    channels : UV channels by number
    key : what the format needs to find the mesh again when it writes
    polygons : None where all faces are triangles of the format
    channel_names : of the UV channels by number, where the format names them
    tangents : whether the file has tangents for its normal map
    extras : what a program keeps there for itself (glTF)
    colours : (T, 3, 4) linear red, green, blue and alpha at the corners of the triangles, None where the file has none
    """

    name: str
    positions: Floats
    triangles: Ints
    materials: Ints
    channels: dict[int, UvChannel]
    key: Any = None
    polygons: Polygons | None = None
    channel_names: tuple[str, ...] = ()
    tangents: bool = False
    extras: Any = None
    colours: Floats | None = None

    @cached_property
    def points(self) -> NDArray[np.int64]:
        """(V,) which point every position is: see `model.points`."""
        return points_of(self.positions, self.triangles)


@dataclass(frozen=True)
class Node:
    """A place in the hierarchy, whether a mesh stands there or not: pivots and points to attach to are places without one.

    parent : number of the node above it, -1 for none; parents come before their children
    world : (4, 4) from its units to metres
    """

    name: str
    parent: int
    world: Floats
    extras: Any = None


@dataclass(frozen=True)
class MeshObject:
    """One placing of a mesh. `world` is a (4, 4) matrix from mesh units to metres; `node` the place in `Scene.nodes` where it stands, -1 where the format has
    none."""

    name: str
    path: str
    mesh: int
    world: Floats
    node: int = -1

    @property
    def mirrored(self) -> bool:
        """Whether the placing turns the mesh inside out (a negative determinant)."""
        return bool(np.linalg.det(self.world[:3, :3]) < 0)


@dataclass
class Scene:
    """All of one file, with the bytes it came from (writing back patches those).

    `references` are the other files it names, by the paths it uses for them; `inside` the files that it holds itself, by path. `further` says what it holds
    that is not geometry, UVs or materials ("2 animations"): it stays in the file, and no other format gets it.
    """

    file: str
    format: str
    meshes: list[Mesh]
    objects: list[MeshObject]
    materials: list[Material]
    source: bytes = b""
    warnings: list[str] = field(default_factory=list)
    references: list[str] = field(default_factory=list)
    key: Any = None
    inside: Mapping[str, bytes] = field(default_factory=dict)
    nodes: list[Node] = field(default_factory=list)
    further: list[str] = field(default_factory=list)
