"""Materials of a written file pointed at new pictures.

A *wiring* says for every triangle which material it has from now on. A material whose triangles all lie on one tile just shows the new
pictures; of one that is spread over several tiles, copies are made, one for each; or every tile gets one material for all that lies on it.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Scene

Numbers = NDArray[np.int64]
SheetTile = tuple[int, int]  # sheet and tile


@dataclass(frozen=True)
class NewMaterial:
    """A material that shows new pictures: `maps` by kind. With `like` >= 0 it is that old material, or a copy of it where `name` differs."""

    name: str
    like: int
    maps: Mapping[str, str]


@dataclass
class Wiring:
    """Materials, and for each mesh the one of every triangle (T,), -1 where it stays as it was.

    Paths of pictures are relative to the file; `pictures` has their bytes. `channel` is the UV channel that the new pictures are read by.
    """

    materials: list[NewMaterial] = field(default_factory=list)
    of_triangle: dict[int, Numbers] = field(default_factory=dict)
    pictures: Mapping[str, bytes] = field(default_factory=dict)
    channel: int = 0


def plan(
    scene: Scene,
    spots: Mapping[int, tuple[Numbers, Numbers]],
    maps: Mapping[SheetTile, Mapping[str, str]],
    names: Mapping[int, str],
    per_sheet: bool,
    had: Sequence[Collection[str]] | None = None,
) -> Wiring:
    """Which material every triangle has from now on.

    Parameters
    ----------
    spots : for each mesh, the sheet and the tile of every triangle (T,), -1 for none
    maps : the new pictures of a tile of a sheet: kind to path
    names : of the sheets
    per_sheet : one material for all that lies on a tile, instead of those that there were
    had : the kinds of map that each old material had: it shows no others, for where it had none its factors say what it is; None for all kinds
    """
    out = Wiring()
    known: dict[tuple[int, SheetTile], int] = {}

    def shown(old: int, spot: SheetTile) -> Mapping[str, str]:
        found = maps.get(spot, {})
        return found if had is None or old < 0 else {kind: path for kind, path in found.items() if kind in had[old]}

    several = {sheet for sheet, _ in maps if sum(s == sheet for s, _ in maps) > 1}
    for (old, spot), name in _names(scene, spots, shown, names, several, per_sheet).items():
        known[old, spot] = len(out.materials)
        out.materials.append(NewMaterial(name, old, shown(old, spot)))
    for mesh, (sheet, tile) in spots.items():
        was = _old(scene, mesh, per_sheet)
        of = np.full(len(sheet), -1, np.int64)
        for key, number in known.items():
            of[(was == key[0]) & (sheet == key[1][0]) & (tile == key[1][1])] = number
        out.of_triangle[mesh] = of
    return out


def _old(scene: Scene, mesh: int, per_sheet: bool) -> Numbers:
    """The old material of every triangle, as far as it matters."""
    old = scene.meshes[mesh].materials.astype(np.int64)
    return np.full_like(old, -1) if per_sheet else old


def _names(
    scene: Scene,
    spots: Mapping[int, tuple[Numbers, Numbers]],
    shown: Callable[[int, SheetTile], Mapping[str, str]],
    names: Mapping[int, str],
    several: set[int],
    per_sheet: bool,
) -> dict[tuple[int, SheetTile], str]:
    """The name of every pair of old material and tile that occurs; the most used tile of a material keeps its name."""
    uses: Counter[tuple[int, SheetTile]] = Counter()
    for mesh, (sheet, tile) in spots.items():
        keys, counts = np.unique(np.column_stack([_old(scene, mesh, per_sheet), sheet, tile]), axis=0, return_counts=True)
        for (m, s, t), count in zip(keys.tolist(), counts.tolist(), strict=True):
            if shown(m, (s, t)) and (per_sheet or m >= 0):
                uses[m, (s, t)] += count
    taken = {m.name for m in scene.materials}
    out: dict[tuple[int, SheetTile], str] = {}
    kept: set[int] = set()
    for (old, spot), _ in sorted(uses.items(), key=lambda x: (-x[1], x[0])):
        tail = f".{spot[1]}" if spot[0] in several else ""
        if per_sheet:
            name = _free(safe_name(names[spot[0]]) + tail, taken)
        elif old in kept:
            name = _free(f"{scene.materials[old].name}{tail or '.' + safe_name(names[spot[0]])}", taken)
        else:
            name = scene.materials[old].name
            kept.add(old)
        taken.add(name)
        out[old, spot] = name
    return out


def _free(name: str, taken: set[str]) -> str:
    """A name that is not taken."""
    number, out = 2, name
    while out in taken:
        out, number = f"{name}.{number}", number + 1
    return out


@dataclass(frozen=True)
class Rewired:
    """`files`: the main file under "", others by path. `order`: where the triangles of a mesh stand in another order now, the old number (T,) of each."""

    files: dict[str, bytes]
    order: dict[int, Numbers] = field(default_factory=dict)


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
