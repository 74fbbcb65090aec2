"""What a file holds, whatever its format: meshes, their UV channels, and the objects that place them.

A *mesh* owns positions and UVs; an *object* is one placing of a mesh in the world. Two objects may
share a mesh (and then share its islands, since they share its UVs).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
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
class Material:
    """Name of a material, its pictures (slot to path as written in the file), the UV channel that each slot reads (0 unless said), and the
    colour (linear red, green, blue) that its base colour is multiplied by, or is where there is no picture. alpha : whether the fourth channel of its
    base colour says where it is seen through."""

    name: str
    images: dict[str, str] = field(default_factory=dict)
    channels: dict[str, int] = field(default_factory=dict)
    colour: tuple[float, float, float] | None = None
    alpha: bool = False


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
    """

    name: str
    positions: Floats
    triangles: Ints
    materials: Ints
    channels: dict[int, UvChannel]
    key: Any = None
    polygons: Polygons | None = None
    channel_names: tuple[str, ...] = ()


@dataclass(frozen=True)
class MeshObject:
    """One placing of a mesh. `world` is a (4, 4) matrix from mesh units to metres."""

    name: str
    path: str
    mesh: int
    world: Floats

    @property
    def mirrored(self) -> bool:
        """Whether the placing turns the mesh inside out (a negative determinant)."""
        return bool(np.linalg.det(self.world[:3, :3]) < 0)


@dataclass
class Scene:
    """All of one file, with the bytes it came from (writing back patches those).

    `references` are the other files it names, by the paths it uses for them; `inside` the files that it holds itself, by path.
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
