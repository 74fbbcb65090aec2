"""A newer version of a file against the older one: which objects and islands are the same, changed, new, or gone."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Scene
from ..uv.analysis import MeshIslands

STEP = 1e-5  # of an island's size, and UV units: smaller differences are rounding of the export
_MIX = np.uint64(0x9E3779B97F4A7C15)


def mixed(x: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """Well spread 64-bit numbers of 64-bit numbers (the finaliser of splitmix64, from memory)."""
    with np.errstate(over="ignore"):
        x = x + _MIX
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return x ^ (x >> np.uint64(31))


def digests(piece: MeshIslands) -> NDArray[np.uint64]:
    """A number (n,) for each island that tells its corners, on the model and in the UV plane, whatever their order in the file."""
    source = piece.mesh.channels[piece.channel]
    of = piece.islands.of_triangle
    has = of >= 0
    p = piece.mesh.positions[piece.mesh.triangles[has]]
    low, high = np.full((piece.islands.count, 3), np.inf), np.full((piece.islands.count, 3), -np.inf)
    for k in range(3):
        np.minimum.at(low, of[has], p[:, k])
        np.maximum.at(high, of[has], p[:, k])
    size = np.maximum((high - low).max(axis=1), 1e-30)[of[has]]
    corners = np.concatenate([p / size[:, None, None], source.uvs[source.triangles[has]]], axis=2)
    cells = np.round(corners / STEP).astype(np.int64).view(np.uint64)
    with np.errstate(over="ignore"):
        corner = np.zeros(cells.shape[:2], np.uint64)
        for k in range(cells.shape[2]):
            corner = mixed(corner * np.uint64(31) + cells[:, :, k])
        triangle = mixed(corner.sum(axis=1, dtype=np.uint64))
        out = np.zeros(piece.islands.count, np.uint64)
        np.add.at(out, of[has], triangle)
    return out


@dataclass
class Change:
    """What became of an object: `same`, `changed` and `new` islands of the newer version, and `gone` ones of the older."""

    name: str
    same: int = 0
    changed: int = 0
    new: int = 0
    gone: int = 0


@dataclass
class Replacement:
    """Objects of the newer file that are as they were, changed, new; names of those that are gone. `objects`: number of each newer object to
    that of the older one, where there is one; `islands`: for each pair of meshes (older, newer) the newer island (n,) of each older one, -1 for
    none."""

    same: list[str] = field(default_factory=list)
    changed: list[Change] = field(default_factory=list)
    new: list[str] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)
    objects: dict[int, int] = field(default_factory=dict)
    islands: dict[tuple[int, int], NDArray[np.int64]] = field(default_factory=dict)


def _matched(old: NDArray[np.uint64], new: NDArray[np.uint64]) -> NDArray[np.int64]:
    """The newer island (n,) of the same digest as each older one, in order of their numbers; -1 for none."""
    rest: dict[int, list[int]] = {}
    for i in range(len(new) - 1, -1, -1):
        rest.setdefault(int(new[i]), []).append(i)
    return np.array([rest[int(d)].pop() if rest.get(int(d)) else -1 for d in old], np.int64)


def compare(old: Scene, old_pieces: list[MeshIslands | None], new: Scene, new_pieces: list[MeshIslands | None]) -> Replacement:
    """Match the objects of two versions of a file: by path, then by name, then by what their islands look like."""
    out = Replacement()
    marks_old = [None if p is None else digests(p) for p in old_pieces]
    marks_new = [None if p is None else digests(p) for p in new_pieces]
    free = set(range(len(old.objects)))
    for n, m in _pairs(old, new, marks_old, marks_new):
        if m in free and n not in out.objects:
            out.objects[n] = m
            free.discard(m)
    for n, o in enumerate(new.objects):
        mine = marks_new[o.mesh]
        if n not in out.objects:
            out.new.append(o.name)
            continue
        before = old.objects[out.objects[n]]
        theirs = marks_old[before.mesh]
        a = np.zeros(0, np.uint64) if theirs is None else theirs
        b = np.zeros(0, np.uint64) if mine is None else mine
        match = _matched(a, b)
        out.islands.setdefault((before.mesh, o.mesh), match)
        same = int((match >= 0).sum())
        if same == len(a) == len(b):
            out.same.append(o.name)
        else:
            changed = min(len(a), len(b)) - same
            out.changed.append(Change(o.name, same, changed, len(b) - same - changed, len(a) - same - changed))
    out.gone = [old.objects[m].name for m in sorted(free)]
    return out


def _pairs(
    old: Scene, new: Scene, marks_old: list[NDArray[np.uint64] | None], marks_new: list[NDArray[np.uint64] | None]
) -> list[tuple[int, int]]:
    """Newer and older object that belong together, the surest pairs first."""
    out = []
    for key in ("path", "name"):
        known: dict[str, list[int]] = {}
        for m, o in enumerate(old.objects):
            known.setdefault(getattr(o, key), []).append(m)
        turn: Counter[str] = Counter()
        for n, o in enumerate(new.objects):
            name = getattr(o, key)
            if turn[name] < len(known.get(name, [])):
                out.append((n, known[name][turn[name]]))
                turn[name] += 1

    def look(marks: NDArray[np.uint64] | None) -> tuple[int, ...]:
        return () if marks is None else tuple(sorted(int(d) for d in marks))

    shapes: dict[tuple[int, ...], list[int]] = {}
    for m, o in enumerate(old.objects):
        shapes.setdefault(look(marks_old[o.mesh]), []).append(m)
    for n, o in enumerate(new.objects):
        shape = look(marks_new[o.mesh])
        out += [(n, m) for m in shapes.get(shape, []) if shape]
    return out
