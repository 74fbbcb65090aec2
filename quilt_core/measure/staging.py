"""What a test bake is made of: the low meshes as they lie on a sheet, and the detailed ones that some of them get their detail from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..model.pairs import Key
from ..model.scene import Floats, Mesh, MeshObject, Scene
from ..uv.analysis import MeshIslands
from .bake import High, LowMesh, normals_of, range_of, shading
from .curvature import curvature_of


@dataclass(frozen=True)
class Laid:
    """A file as it lies: for each mesh its islands (None without UVs), its rows of UVs (W, 2) there, which islands are baked, and the file's own normals."""

    scene: Scene
    pieces: Sequence[MeshIslands | None]
    uvs: Sequence[Floats | None]
    on: Sequence[NDArray[np.bool_] | None]
    normals: Sequence[Floats | None]


@dataclass
class Stage:
    """Everything that is baked, by owner number: low parts with UVs, the detail that some have, and names."""

    low: list[LowMesh] = field(default_factory=list)
    high: dict[int, High] = field(default_factory=dict)
    names: list[str] = field(default_factory=list)

    @cached_property
    def half_range(self) -> float:
        """The curvature in 1 / m that the ends of all tiles' maps stand for."""
        return range_of(self.low, self.high)

    @property
    def detailed(self) -> list[str]:
        """The names of the low parts that get detail."""
        return [self.names[k] for k in self.high if k < len(self.names)]


def staged(files: Sequence[Laid], pairs: Mapping[Key, Key]) -> Stage:
    """The objects of a sheet, placed in the world.

    Parameters
    ----------
    pairs : the detailed object of a low one
    """
    first = np.cumsum([0] + [len(f.scene.materials) for f in files]).tolist()
    details = {(f, n): _detail(files[f], n, first[f]) for f, n in set(pairs.values())}
    out = Stage()
    island = 0
    for f, file in enumerate(files):
        for m, piece in enumerate(file.pieces):
            if piece is None:
                continue
            for k, n in enumerate(n for n, o in enumerate(file.scene.objects) if o.mesh == m):
                # What is baked from is not baked itself.
                if (f, n) not in details:
                    # Of several placings of a mesh the first is baked; the others stand where they stand and throw shadows.
                    _add(out, file, m, n, k == 0, island, first[f])
                    if pairs.get((f, n)) in details:
                        out.high[len(out.names) - 1] = details[pairs[f, n]]
            island += piece.islands.count
    return out


def _add(out: Stage, file: Laid, mesh: int, number: int, baked: bool, island: int, materials: int) -> None:
    """Add an object; islands and materials count on from those of the files before."""
    piece, uvs, on, o = file.pieces[mesh], file.uvs[mesh], file.on[mesh], file.scene.objects[number]
    assert piece is not None and uvs is not None and on is not None
    source, of = piece.mesh.channels[piece.channel], piece.islands.of_triangle
    use = (of >= 0) & on[np.maximum(of, 0)] & baked
    at = _world(o, piece.mesh.positions)
    smooth = normals_of(piece.mesh, at)
    normal = shading(file.normals[mesh], smooth, piece.mesh.triangles, o.world)
    spot = np.where(use[:, None, None], uvs[np.maximum(source.triangles, 0)], -1e6)
    out.low.append(
        LowMesh(at, piece.mesh.triangles.astype(np.int64), spot, (of + island).astype(np.int64), np.full(len(of), len(out.names)),
                _numbered(piece.mesh, materials), normal, curvature_of(piece.mesh, at, smooth), piece.mesh.points.astype(np.int64))
    )  # fmt: skip
    out.names.append(o.name)


def _detail(file: Laid, number: int, materials: int) -> High:
    o = file.scene.objects[number]
    mesh = file.scene.meshes[o.mesh]
    at = _world(o, mesh.positions)
    smooth = normals_of(mesh, at)
    normal = shading(file.normals[o.mesh], smooth, mesh.triangles, o.world)
    return High(at, mesh.triangles.astype(np.int64), normal, _numbered(mesh, materials), curvature_of(mesh, at, smooth))


def _numbered(mesh: Mesh, materials: int) -> NDArray[np.int64]:
    """Material numbers (T,) that count on from those of the files before; -1 for none."""
    own = mesh.materials.astype(np.int64)
    return np.where(own < 0, -1, own + materials)


def _world(o: MeshObject, positions: Floats) -> Floats:
    return positions @ o.world[:3, :3].T + o.world[:3, 3]
