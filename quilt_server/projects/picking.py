"""Edges and faces that follow from one that was picked: a loop, the shortest way, what bends little, an island, a seam."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

import numpy as np

from quilt_core.errors import QuiltError
from quilt_core.unwrap.ledger import runs_of
from quilt_core.unwrap.lines import along_line
from quilt_core.unwrap.mirror import Mirror, image_of, mirror_of
from quilt_core.unwrap.parts import allowed_edges
from quilt_core.unwrap.scenes import laying_in, skin_in
from quilt_core.unwrap.seams import around, grown, half_edges, loop, shortest
from quilt_core.unwrap.skin import Laying
from quilt_core.unwrap.topology import Mask, Numbers

from .geometry import GONE, island_starts, shown_order, shown_places
from .models import Snapshot, SourceFile
from .revisions import revisions_of
from .sources import kept_islands, kept_scene
from .state import settings_of

WAYS = ("loop", "path", "points", "line", "bend", "seam", "border", "material", "mirror")


@dataclass(frozen=True)
class Asked:
    """What is wanted of an object.

    way : one of `WAYS`
    edge : [triangle as shown, side] that the others follow from; goal : another one, for the shortest way to it; for the way between two points the second
        numbers are corners
    line : the ends of a line across the island that the edge's triangle belongs to, in its own UVs
    degrees : by which faces may bend that hang together
    edges, faces : what is picked already, [triangle, side] and triangles, whose mirror image is wanted
    """

    way: str
    edge: list[int]
    goal: list[int] | None
    degrees: float
    edges: list[list[int]]
    faces: list[int]
    line: list[list[float]]


class Picked:
    """The surface of an object as the page shows it."""

    def __init__(self, file: SourceFile, number: int, channel: int) -> None:
        scene = kept_scene(file)
        if not 0 <= number < len(scene.objects):
            raise QuiltError(GONE)
        m = scene.objects[number].mesh
        mesh = scene.meshes[m]
        pieces = kept_islands(file, channel).pieces(scene)
        piece = pieces[m]
        self.first, self.end = island_starts(pieces)[m : m + 2]
        self.laying: Laying | None = None
        if piece is None:
            self.skin = skin_in(scene, m)
        else:
            made = revisions_of(file).get(channel, {}).get(m)
            self.skin, self.laying = laying_in(scene, m, channel, piece, None if made is None else made.root)
        self.order = shown_order(mesh)
        self.shown = shown_places(mesh)

    def half_edge(self, edge: list[int]) -> int:
        """The half-edge of a triangle as shown and a side."""
        if len(edge) != 2 or not 0 <= edge[0] < len(self.order):
            raise QuiltError(GONE)
        return int(half_edges(self.skin, [(int(self.order[edge[0]]), edge[1])])[0])

    @cached_property
    def mirror(self) -> Mirror | None:
        """What mirrors what."""
        return mirror_of(self.skin.surface, self.skin.cell)

    def these(self, triangles: list[int]) -> Mask:
        """Faces (F,) of triangles as shown."""
        if any(not 0 <= t < len(self.order) for t in triangles):
            raise QuiltError(GONE)
        return np.isin(self.skin.kept, self.order[np.array(triangles, np.int64)])

    def edges(self, h: Numbers) -> list[list[int]]:
        """Triangles as shown and sides."""
        return np.column_stack([self.shown[self.skin.kept[h // 3]], h % 3]).tolist()  # type: ignore[no-any-return]

    def faces(self, mine: np.ndarray) -> list[int]:
        """Triangles as shown."""
        return self.shown[self.skin.kept[mine]].tolist()  # type: ignore[no-any-return]


@lru_cache(maxsize=4)
def _picked(file: int, revision: str, number: int, channel: int) -> Picked:
    return Picked(SourceFile.objects.get(pk=file), number, channel)


def picked_of(snapshot: Snapshot, file: int, number: int) -> Picked:
    """The surface of an object of a snapshot.

    Raises
    ------
    QuiltError : it is not there
    """
    found = SourceFile.objects.filter(pk=file, pk__in=snapshot.files).first()
    if found is None:
        raise QuiltError(GONE)
    settings = settings_of(snapshot)
    return _picked(found.pk, found.revision, number, int(settings["channel_in"]))


def pick(snapshot: Snapshot, file: int, number: int, asked: Asked) -> dict[str, Any]:
    """What follows from what is picked of an object.

    Raises
    ------
    QuiltError : what was picked is not there, or nothing follows from it
    """
    if asked.way not in WAYS:
        raise QuiltError(f"'{asked.way}' is no way of picking: {', '.join(WAYS)}.")
    p = picked_of(snapshot, file, number)
    return _mirrored(p, asked) if asked.way == "mirror" else _following(p, asked)


def _mirrored(p: Picked, asked: Asked) -> dict[str, Any]:
    """The mirror image of what is picked."""
    if p.mirror is None:
        raise QuiltError("This object has no two halves that mirror each other: less than half of its surface has a mirror image.")
    h = np.array([p.half_edge(e) for e in asked.edges], np.int64)
    edges, faces = image_of(p.mirror, h, p.these(asked.faces))
    if not len(edges) and not faces.any():
        raise QuiltError("What is picked has no mirror image in this object.")
    return {"edges": p.edges(edges), "faces": p.faces(faces)}


def _by_line(p: Picked, h: int, line: list[list[float]]) -> Numbers:
    """The half-edges across the island of one along a line."""
    if len(line) != 2 or any(len(e) != 2 or not all(math.isfinite(x) and abs(x) < 1e6 for x in e) for e in line):
        raise QuiltError("A line has two ends of two numbers each.")
    if p.laying is None:
        raise QuiltError("This object has no UVs, so there is no island to draw a line across.")
    return along_line(p.skin, p.laying, int(p.laying.island[h // 3]), np.array(line, float))


def _following(p: Picked, asked: Asked) -> dict[str, Any]:
    """What follows from one edge."""
    way, goal = asked.way, asked.goal
    s, h = p.skin.surface, p.half_edge(asked.edge)
    if way == "material":
        of = p.skin.mesh.materials[p.skin.kept]
        return {"edges": [], "faces": p.faces(of == of[h // 3])}
    may = allowed_edges(s, p.skin.cell)
    if way == "loop":
        return {"edges": p.edges(loop(s, h, may)), "faces": []}
    if way == "line":
        return {"edges": p.edges(_by_line(p, h, asked.line)), "faces": []}
    if way == "points" and goal is not None:
        return {"edges": p.edges(shortest(s, int(s.start[h]), int(s.start[p.half_edge(goal)]), may)), "faces": []}
    if way in ("path", "points"):
        if goal is None:
            raise QuiltError("The shortest way needs a second edge to go to.")
        g = p.half_edge(goal)
        # From whichever end of the one to whichever end of the other is the nearest.
        ways = [shortest(s, int(a), int(b), may) for a in (s.start[h], s.end[h]) for b in (s.start[g], s.end[g])]
        best = min(ways, key=lambda w: float(s.length[w].sum()))
        return {"edges": p.edges(np.unique(np.concatenate([[h], best, [g]]).astype(np.int64))), "faces": []}
    if way == "seam":
        if p.laying is None:
            raise QuiltError("This object has no UVs, so it has no seams yet.")
        for run in runs_of(p.skin, p.laying):
            if h in run or int(s.twin[h]) in run:
                return {"edges": p.edges(run), "faces": []}
        raise QuiltError("This edge is no seam.")
    faces = grown(s, h // 3, np.radians(asked.degrees))
    if way == "border":
        return {"edges": p.edges(around(p.skin, faces)), "faces": []}
    return {"edges": [], "faces": p.faces(faces)}
