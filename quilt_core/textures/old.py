"""Old paint as it is sampled: pictures decoded, multiplied by what a material says of them, and averaged to mip levels, each once."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..formats.pictures import alpha_of, is_deep, open_picture, stored_values
from ..model.material import VECTORS, Colour, Material, Texture, placed_uvs
from ..model.scene import Floats, Mesh, Scene
from .carry import Mips, Patch, Single, levels, working

Numbers = NDArray[np.int64]
ONES, ZEROS = (1.0, 1.0, 1.0), (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Old:
    """An old picture: a key that tells it from others, and how to get its bytes."""

    key: str
    load: Callable[[], bytes]


@dataclass(frozen=True)
class Laid:
    """Where the triangles of a mesh lie now: the UVs (T, 3, 2) of their corners, and the sheet of each (T,), -1 for none."""

    new: Floats
    sheet: Numbers


@dataclass
class Coat:
    """A file with its old paint.

    maps : for each material the old pictures by kind
    old : its meshes and materials as the old pictures are read by them, where UVs were made since; its triangles are those of the scene
    """

    scene: Scene
    meshes: dict[int, Laid]
    maps: Sequence[Mapping[str, Old]]
    old: Scene | None = None

    @property
    def before(self) -> Scene:
        """The scene that the old pictures belong to."""
        return self.old or self.scene


@dataclass(frozen=True)
class Use:
    """What is taken from a picture: a channel of it (empty for its colours), in the working values of a kind, each multiplied and added to.

    lit : multiplied by what is seen of it, see `carry.seen_through`; its alpha is multiplied by `opacity`
    """

    kind: str
    part: str = ""
    scale: Colour = ONES
    bias: Colour = ZEROS
    lit: bool = False
    opacity: float = 1.0


@dataclass
class Pictures:
    """Old pictures as mip levels. `sixteen`: keys of those of 16 bits a channel."""

    kept: dict[tuple[str, Use], Mips] = field(default_factory=dict)
    sixteen: set[str] = field(default_factory=set)

    def get(self, old: Old, use: Use) -> Mips:
        """A picture as it is used."""
        if (old.key, use) not in self.kept:
            self.kept[old.key, use] = levels(self._values(old, use))
        return self.kept[old.key, use]

    def _values(self, old: Old, use: Use) -> Single:
        picture = open_picture(old.load(), f"the old {use.kind} map")
        if is_deep(picture):
            self.sixteen.add(old.key)
        seen = alpha_of(picture) if use.lit or use.part == "a" else None
        values = stored_values(picture)
        if use.part == "a":
            values = np.repeat(np.ones_like(values[:, :, :1]) if seen is None else seen[:, :, None], 3, axis=2)
        elif use.part:
            values = working(np.repeat(values[:, :, "rgb".index(use.part), None], 3, axis=2), use.kind)
        else:
            values = working(values, use.kind)
        if (use.scale, use.bias) != (ONES, ZEROS):
            values = values * np.array(use.scale, np.float32) + np.array(use.bias, np.float32)
            if use.kind in VECTORS:
                values = values / np.maximum(np.linalg.norm(values, axis=2, keepdims=True), 1e-9)
            if use.kind == "opacity":
                values = np.clip(values, 0, 1)
        if use.lit:
            values = values * (use.opacity if seen is None else np.clip(seen * use.opacity, 0, 1)[:, :, None])
        return np.asarray(values, np.float32)

    def clear(self) -> None:
        """Forget all levels."""
        self.kept.clear()


@dataclass(frozen=True)
class Group:
    """Triangles of one material of one mesh on one sheet."""

    coat: Coat
    mesh: int
    material: int
    sheet: int
    triangles: Numbers

    @property
    def known(self) -> bool:
        """Whether it has a material."""
        return 0 <= self.material < len(self.coat.before.materials)

    @property
    def record(self) -> Material:
        """Its material, one that says nothing for none."""
        return self.coat.before.materials[self.material] if self.known else Material("")

    def picture(self, kind: str) -> Old | None:
        """Its old picture of a kind."""
        return self.coat.maps[self.material].get(kind) if 0 <= self.material < len(self.coat.maps) else None

    def texture(self, kind: str) -> Texture:
        """How its picture of a kind is read."""
        return self.record.maps.get(kind) or Texture(kind, "")

    def patch(self, kind: str, use: Use, pictures: Pictures, plain: Colour | None = None) -> Patch:
        """Its triangles with its picture of a kind, read where that lies; where it has none, with plain working values, or with nothing."""
        new = self.coat.meshes[self.mesh].new[self.triangles]
        old, texture = self.picture(kind), self.texture(kind)
        mesh: Mesh = self.coat.before.meshes[self.mesh]
        source = mesh.channels.get(texture.channel) if old is not None else None
        if old is None or source is None:
            return Patch(new, np.zeros_like(new), None if plain is None else levels(np.array([[plain]], np.float32)))
        rows = source.triangles[self.triangles]
        has = (rows >= 0).all(axis=1)
        uv = source.uvs[rows[has]]
        frame = places = None
        if kind in VECTORS and mesh.tangents:
            # Stored tangents turn as their island does.
            frame = placed_uvs(uv, texture.frame)
        elif kind in VECTORS:
            places = mesh.positions[mesh.triangles[self.triangles][has]]
        return Patch(new[has], placed_uvs(uv, texture.placed), pictures.get(old, use), frame, texture.wrap, places)


def groups_of(coats: Sequence[Coat]) -> list[Group]:
    """All triangles that lie on sheets, by mesh, material and sheet."""
    out = []
    for c in coats:
        for m, laid in c.meshes.items():
            materials = c.scene.meshes[m].materials
            keys = np.unique(np.column_stack([materials, laid.sheet])[laid.sheet >= 0], axis=0)
            for material, sheet in keys.tolist():
                out.append(Group(c, m, material, sheet, np.flatnonzero((materials == material) & (laid.sheet == sheet))))
    return out
