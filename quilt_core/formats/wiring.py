"""Materials of a written file pointed at new pictures.

A *wiring* says for every triangle which material it has from now on. A material whose triangles all lie on one tile just shows the new
pictures; of one that is spread over several tiles, copies are made, one for each; or every tile gets one material for all that lies on it.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Collection, Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.material import Material
from ..model.scene import Scene

Numbers = NDArray[np.int64]
SheetTile = tuple[int, int]  # sheet and tile


@dataclass(frozen=True)
class NewMaterial:
    """A material that shows new pictures: `maps` by kind. With `like` >= 0 it is that old material, or a copy of it where `name` differs; else `record` has
    its factors."""

    name: str
    like: int
    maps: Mapping[str, str]
    record: Material | None = None


@dataclass
class Wiring:
    """Materials, and for each mesh the one of every triangle (T,), -1 where it stays as it was.

    Paths of pictures are relative to the file; `pictures` has their bytes. `channel` is the UV channel that the new pictures are read by; `plain` says that
    its UVs stand in the file as they are, not as the old materials read them.
    """

    materials: list[NewMaterial] = field(default_factory=list)
    of_triangle: dict[int, Numbers] = field(default_factory=dict)
    pictures: Mapping[str, bytes] = field(default_factory=dict)
    channel: int = 0
    plain: bool = False

    def seen_from(self, up: str) -> Wiring:
        """The same with its paths as they are seen from a folder below; `up` is as many times "../"."""
        materials = [replace(m, maps={kind: up + path for kind, path in m.maps.items()}) for m in self.materials]
        return replace(self, materials=materials, pictures={up + path: body for path, body in self.pictures.items()})


@dataclass(frozen=True)
class OneEach:
    """One material for all that lies on a tile, but for what one material cannot be (seen through here and not there).

    of : the class of each old material; usual : that of triangles without one
    materials : the factors, by sheet and class; named : the name of the material of a class, from that of the sheet
    """

    of: Sequence[Hashable]
    usual: Hashable
    materials: Mapping[tuple[int, Any], Material]
    named: Callable[[str, Any], str]


class _Plan:
    """Triangles by what they have in common, their old material or its class, and the new material of each."""

    def __init__(
        self, scene: Scene, maps: Mapping[SheetTile, Mapping[str, str]], had: Sequence[Collection[str]] | None, one: OneEach | None
    ) -> None:
        self.scene, self.maps, self.had, self.one = scene, maps, had, one
        self.several = {sheet for sheet, _ in maps if sum(s == sheet for s, _ in maps) > 1}
        self.classes = [] if one is None else list(dict.fromkeys([one.usual, *one.of]))

    def groups(self, mesh: int) -> Numbers:
        """The group (T,) of every triangle of a mesh: its old material, -1 for none, or the number of its class."""
        old = self.scene.meshes[mesh].materials.astype(np.int64)
        if self.one is None:
            return old
        number = np.array([*(self.classes.index(c) for c in self.one.of), 0])
        return np.asarray(number[old])

    def shown(self, group: int, spot: SheetTile) -> Mapping[str, str]:
        """The pictures of a group on a tile. An old material shows the kinds that it had: for the others its factors say what it is."""
        found = self.maps.get(spot, {})
        if self.one is not None or self.had is None:
            return found
        return {kind: path for kind, path in found.items() if group >= 0 and kind in self.had[group]}

    def staying(self, spots: Mapping[int, tuple[Numbers, Numbers]]) -> set[int]:
        """Old materials that show no new pictures somewhere: there they stay what they are."""
        out: set[int] = set()
        for mesh in range(len(self.scene.meshes)):
            old = self.scene.meshes[mesh].materials.astype(np.int64)
            sheet, tile = spots.get(mesh, (np.full(len(old), -1), np.full(len(old), -1)))
            for m, s, t in np.unique(np.column_stack([old, sheet, tile]), axis=0).tolist():
                if not self.shown(m, (s, t)):
                    out.add(m)
        return out

    def names(self, uses: Counter[tuple[int, SheetTile]], names: Mapping[int, str], staying: set[int]) -> dict[tuple[int, SheetTile], str]:
        """The name of every group on a tile; the most used tile of a material keeps its name, unless the old one stays somewhere."""
        taken = {m.name for m in self.scene.materials}
        out: dict[tuple[int, SheetTile], str] = {}
        kept = set(staying)
        for (group, spot), _ in sorted(uses.items(), key=lambda x: (-x[1], x[0])):
            tail = f".{spot[1]}" if spot[0] in self.several else ""
            if self.one is not None:
                name = _free(self.one.named(safe_name(names[spot[0]]), self.classes[group]) + tail, taken)
            elif group in kept:
                name = _free(f"{self.scene.materials[group].name}{tail or '.' + safe_name(names[spot[0]])}", taken)
            else:
                name = self.scene.materials[group].name
                kept.add(group)
            taken.add(name)
            out[group, spot] = name
        return out

    def material(self, name: str, group: int, spot: SheetTile) -> NewMaterial:
        """The new material of a group on a tile."""
        if self.one is None:
            return NewMaterial(name, group, self.shown(group, spot))
        return NewMaterial(name, -1, self.shown(group, spot), self.one.materials.get((spot[0], self.classes[group])))


def plan(
    scene: Scene,
    spots: Mapping[int, tuple[Numbers, Numbers]],
    maps: Mapping[SheetTile, Mapping[str, str]],
    names: Mapping[int, str],
    one: OneEach | None = None,
    had: Sequence[Collection[str]] | None = None,
) -> Wiring:
    """Which material every triangle has from now on.

    Parameters
    ----------
    spots : for each mesh, the sheet and the tile of every triangle (T,), -1 for none
    maps : the new pictures of a tile of a sheet: kind to path
    names : of the sheets
    one : one material for all that lies on a tile, instead of those that there were
    had : the kinds of map that each old material had: it shows no others, for where it had none its factors say what it is; None for all kinds
    """
    out, made = Wiring(), _Plan(scene, maps, had, one)
    known: dict[tuple[int, SheetTile], int] = {}
    uses: Counter[tuple[int, SheetTile]] = Counter()
    for mesh, (sheet, tile) in spots.items():
        keys, counts = np.unique(np.column_stack([made.groups(mesh), sheet, tile]), axis=0, return_counts=True)
        for (group, s, t), count in zip(keys.tolist(), counts.tolist(), strict=True):
            if group >= 0 and made.shown(group, (s, t)):
                uses[group, (s, t)] += count
    for (group, spot), name in made.names(uses, names, made.staying(spots)).items():
        known[group, spot] = len(out.materials)
        out.materials.append(made.material(name, group, spot))
    for mesh, (sheet, tile) in spots.items():
        groups = made.groups(mesh)
        of = np.full(len(sheet), -1, np.int64)
        for key, number in known.items():
            of[(groups == key[0]) & (sheet == key[1][0]) & (tile == key[1][1])] = number
        out.of_triangle[mesh] = of
    return out


def _free(name: str, taken: set[str]) -> str:
    """A name that is not taken."""
    number, out = 2, name
    while out in taken:
        out, number = f"{name}.{number}", number + 1
    return out


@dataclass(frozen=True)
class Rewired:
    """`files`: the main file under "", others by path. `order`: where the triangles of a mesh stand in another order now, the old number (T,) of each.
    `dropped`: files beside it that a format which lists its pictures does not name any more."""

    files: dict[str, bytes]
    order: dict[int, Numbers] = field(default_factory=dict)
    dropped: Collection[str] = ()


def safe_name(text: str) -> str:
    """A name as a part of a path that every format takes: no blanks, no signs that mean something."""
    return re.sub(r"[^\w\-]+", "_", text).strip("_") or "sheet"


def as_json(document: dict[str, Any]) -> bytes:
    """A JSON file for people."""
    return (json.dumps(document, indent=2, ensure_ascii=False) + "\n").encode()


def face_labels(face_of: NDArray[np.integer], of: Numbers, count: int) -> Numbers:
    """The label (F,) of every face, from those of its triangles.

    Parameters
    ----------
    face_of : (T,) face of every triangle; of : (T,) its label; count : number of faces F

    Returns
    -------
    (F,) labels, -1 for faces without triangles
    """
    out = np.full(count, -1, np.int64)
    out[face_of[::-1]] = of[::-1]
    return out
