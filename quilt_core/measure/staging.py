"""What a test bake is made of: the low meshes as they lie on a sheet, and the detailed ones that some of them get their detail from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats, MeshObject, Scene
from ..uv.analysis import MeshIslands
from .bake import High, LowMesh, curvature_of, normals_of, partner, shading

Key = tuple[int, int]  # a file and an object in it, by their numbers


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
    """Everything that is baked, by owner number: low parts with UVs, their curvature, the detail that some have, and names."""

    low: list[LowMesh] = field(default_factory=list)
    curve: list[Floats] = field(default_factory=list)
    high: dict[int, High] = field(default_factory=dict)
    names: list[str] = field(default_factory=list)

    @property
    def detailed(self) -> list[str]:
        """The names of the low parts that get detail."""
        return [self.names[k] for k in self.high if k < len(self.names)]


def pairs_by_name(scenes: Sequence[Scene]) -> dict[Key, Key]:
    """The detailed object of each low one, where one called `_high` has one called `_low`."""
    found: dict[str, dict[bool, Key]] = {}
    for f, scene in enumerate(scenes):
        for n, o in enumerate(scene.objects):
            pair = partner(o.name)
            if pair:
                found.setdefault(pair[0], {}).setdefault(pair[1], (f, n))
    return {both[False]: both[True] for both in found.values() if len(both) == 2}


def staged(files: Sequence[Laid], pairs: Mapping[Key, Key]) -> Stage:
    """The objects of a sheet, placed in the world.

    Parameters
    ----------
    pairs : the detailed object of a low one
    """
    details = {key: _detail(files[key[0]], key[1]) for key in set(pairs.values())}
    out = Stage()
    materials = island = 0
    for f, file in enumerate(files):
        for m, piece in enumerate(file.pieces):
            if piece is None:
                continue
            for k, n in enumerate(n for n, o in enumerate(file.scene.objects) if o.mesh == m):
                # What is baked from is not baked itself, and throws no shadow on its own low mesh.
                if (f, n) not in details:
                    # Of several placings of a mesh the first is baked; the others stand where they stand and throw shadows.
                    _add(out, file, m, n, k == 0, island, materials)
                    if pairs.get((f, n)) in details:
                        out.high[len(out.names) - 1] = details[pairs[f, n]]
            island += piece.islands.count
        materials += len(file.scene.materials)
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
    own = piece.mesh.materials.astype(np.int64)
    out.low.append(
        LowMesh(at, piece.mesh.triangles.astype(np.int64), spot, (of + island).astype(np.int64), np.full(len(of), len(out.names)),
                np.where(own < 0, -1, own + materials), normal)
    )  # fmt: skip
    out.curve.append(curvature_of(piece.mesh, at, smooth))
    out.names.append(o.name)


def _detail(file: Laid, number: int) -> High:
    o = file.scene.objects[number]
    mesh = file.scene.meshes[o.mesh]
    at = _world(o, mesh.positions)
    return High(at, mesh.triangles.astype(np.int64), shading(file.normals[o.mesh], normals_of(mesh, at), mesh.triangles, o.world))


def _world(o: MeshObject, positions: Floats) -> Floats:
    return positions @ o.world[:3, :3].T + o.world[:3, 3]
