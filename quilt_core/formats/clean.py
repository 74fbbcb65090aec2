"""What of a mesh is there twice, has no area, or is wound the other way: found, and put right where a file is written anew.

This changes geometry, so it is done only where it is asked for, and counted.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..model.components import components
from ..model.points import first_of, merged_positions
from ..model.scene import Floats
from .holes import Hole, holes_of
from .model import Corners, Numbers

KINDS = {
    "doubled": "faces that are there twice",
    "flat": "faces without area",
    "turned": "faces wound the other way",
    "merged": "duplicate vertices",
    "holes": "small holes",
}
Room = Callable[[Floats], bool]
Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Found:
    """doubled, flat, turned (F,) faces of `Corners`; merged : vertices that are another one again; borders : open borders; parts : that hang together at
    no vertex; point (V,) : the vertex that each one is, the first of those at its place; holes : small ones, their edges by
    the corner that each begins at; loose (F,) : faces of all parts but the largest"""

    doubled: Mask
    flat: Mask
    turned: Mask
    merged: int
    borders: int
    parts: int
    point: Numbers
    holes: tuple[Hole, ...]
    loose: Mask

    @property
    def counts(self) -> dict[str, int]:
        """How many of each of `KINDS`."""
        return {k: int(getattr(self, k).sum()) for k in ("doubled", "flat", "turned")} | {"merged": self.merged, "holes": len(self.holes)}

    def faces(self, kind: str, c: Corners) -> Mask:
        """(F,) faces that one of `KINDS`, or "loose", is about: those around holes; none for duplicate vertices."""
        if kind in ("doubled", "flat", "turned", "loose"):
            return np.asarray(getattr(self, kind), bool)
        out = np.zeros(len(self.flat), bool)
        for hole in self.holes if kind == "holes" else ():
            out[np.searchsorted(c.faces, hole.edges, "right") - 1] = True
        return out


def found(positions: Floats, c: Corners) -> Found:
    """What is wrong with a mesh, corner by corner.

    Parameters
    ----------
    positions : (V, 3)
    """
    point = _points(positions, c)
    size = np.diff(c.faces)
    of = np.repeat(np.arange(len(size)), size)
    at = point[c.position]
    # Corners at one place are one, so that a face between them has no area.
    area = _areas(positions[point], c, len(size))
    reach = float(np.linalg.norm(np.ptp(positions[c.position], axis=0))) if len(c.position) else 0.0
    flat = area <= 1e-12 * max(reach, 1e-300) ** 2
    doubled = _doubled(at, of, size) & ~flat
    live = ~(flat | doubled)
    edges = _edges(at, c.faces, of, live)
    used = np.unique(c.position)
    ends = edges[edges[:, 4] == 1][:, :2]
    borders = _components(ends) if len(ends) else 0
    part = _part_of_faces(edges, at, c.faces)
    of_parts = np.bincount(part[live], area[live]) if live.any() else np.zeros(0)
    merged = int(len(used) - len(np.unique(point[used])))
    holes = _holes(positions, c, at, of, edges)
    loose = live & (part != (int(of_parts.argmax()) if len(of_parts) else -1))
    return Found(doubled, flat, _turned(edges, area, live), merged, borders, len(of_parts), point, holes, loose)


@dataclass(frozen=True)
class Cleaned:
    """corners : the mesh with what was asked for put right; counts : how many of each of `KINDS` that were; open : holes that stayed so, though closing them
    was asked for"""

    corners: Corners
    counts: dict[str, int]
    open: int = 0


def cleaned(positions: Floats, c: Corners, what: Collection[str], room: Room = lambda _: True) -> Cleaned:
    """Put right what is asked for of a mesh.

    Parameters
    ----------
    what : of `KINDS`. A hole is closed where the UVs around it close, too: what closes it lies in the hole of the island
    room : whether nothing else lies in a polygon (n, 2) of the layout
    """
    f, came = found(positions, c), c
    counts = {k: n for k, n in f.counts.items() if k in what and k != "holes"}
    turned = f.turned if "turned" in what else np.zeros(len(f.turned), bool)
    drop = (f.doubled if "doubled" in what else False) | (f.flat if "flat" in what else np.zeros(len(f.flat), bool))
    if "merged" in what:
        c = replace(c, position=f.point[c.position])
    if turned.any():
        c = _flipped(positions, c, turned)
    if np.any(drop):
        c = _without(c, np.asarray(drop, bool))
    left = 0
    if "holes" in what:
        # What was put right before may have opened or closed some.
        holes = (f if c is came else found(positions, c)).holes
        c, counts["holes"] = _closed(c, holes, room)
        left = len(holes) - counts["holes"]
    return Cleaned(c, {k: n for k, n in counts.items() if n}, left)


def _points(positions: Floats, c: Corners) -> Numbers:
    """For every vertex (V,) the first of the used ones that lie at its place."""
    out = np.arange(len(positions))
    used = np.unique(c.position)
    label = merged_positions(positions[used])
    out[used] = used[first_of(label, int(label.max(initial=-1)) + 1)][label]
    return out


def _areas(positions: Floats, c: Corners, count: int) -> Floats:
    p = positions[c.position[c.triangles]]
    area = 0.5 * np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    return np.asarray(np.bincount(c.face_of, area, count), np.float64)


def _doubled(at: Numbers, of: Numbers, size: Numbers) -> Mask:
    """Faces that have the same points the same way round as an earlier one: turned so that the least comes first."""
    out = np.zeros(len(size), bool)
    first = np.cumsum(size) - size
    for n in np.unique(size).tolist():
        faces = np.flatnonzero(size == n)
        if n < 3 or len(faces) < 2:
            continue
        rows = at[first[faces][:, None] + np.arange(n)]
        start = np.argmin(rows, axis=1)
        rows = np.take_along_axis(rows, (start[:, None] + np.arange(n)) % n, axis=1)
        _, where = np.unique(rows, axis=0, return_index=True)
        again = np.ones(len(faces), bool)
        again[where] = False
        out[faces[again]] = True
    return out


def _edges(at: Numbers, faces: Numbers, of: Numbers, live: Mask) -> Numbers:
    """Edges (E, 5) of the faces that count: two points, the first two faces there with a sign for the way each runs (face + 1, below 0 for downward), and how
    many faces."""
    ends = at[np.where(np.arange(len(at)) + 1 == faces[of + 1], faces[of], np.arange(len(at)) + 1)] if len(at) else at
    use = live[of] & (at != ends)
    a, b, f = at[use], ends[use], of[use]
    low, high = np.minimum(a, b), np.maximum(a, b)
    signed = (f + 1) * np.where(a < b, 1, -1)
    order = np.lexsort((high, low))
    low, high, signed = low[order], high[order], signed[order]
    begin = np.flatnonzero(np.r_[True, (low[1:] != low[:-1]) | (high[1:] != high[:-1])]) if len(low) else np.zeros(0, np.int64)
    count = np.diff(np.r_[begin, len(low)])
    second = np.where(count > 1, signed[np.minimum(begin + 1, max(len(signed) - 1, 0))], 0) if len(low) else begin
    return np.column_stack([low[begin], high[begin], signed[begin], second, count]).astype(np.int64)


def _part_of_faces(edges: Numbers, at: Numbers, faces: Numbers) -> Numbers:
    """The part (F,) that each face is of, -1 for those without an edge that counts."""
    out = np.full(len(faces) - 1, -1)
    if not len(edges):
        return out
    points, part = _labels(edges[:, :2])
    row = np.minimum(np.searchsorted(points, at), len(points) - 1)
    mine = np.where(points[row] == at, part[row], -1)
    some = np.flatnonzero(np.diff(faces) > 0)
    out[some] = mine[faces[some]]
    return out


def _components(pairs: Numbers) -> int:
    return int(_labels(pairs)[1].max(initial=-1)) + 1


def _labels(pairs: Numbers) -> tuple[Numbers, Numbers]:
    """The points (n,) of edges (E, 2), ascending, and the part (n,) that each is of."""
    points, row = np.unique(pairs, return_inverse=True)
    row = row.reshape(-1, 2)
    return points, components(len(points), row[:, 0], row[:, 1])


def _holes(positions: Floats, c: Corners, at: Numbers, of: Numbers, edges: Numbers) -> tuple[Hole, ...]:
    """The small holes that open edges go around, with the corners that these begin at."""
    once = edges[edges[:, 4] == 1]
    if not len(once):
        return ()
    face = np.abs(once[:, 2]) - 1
    up = once[:, 2] > 0
    start, end = np.where(up, once[:, 0], once[:, 1]), np.where(up, once[:, 1], once[:, 0])
    # The corner of a face that lies at a point: the first, since no face that counts passes one twice but where it touches itself.
    order = np.lexsort((at, of))
    corner = order[np.searchsorted(of[order] * len(positions) + at[order], face * len(positions) + start)]
    points, label = _labels(edges[:, :2])
    part = np.full(len(positions), -1)
    part[points] = label
    p = positions[c.position[c.triangles]]
    normal = np.zeros((int(of.max(initial=-1)) + 1, 3))
    np.add.at(normal, c.face_of, np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]))
    return tuple(replace(h, edges=corner[h.edges]) for h in holes_of(positions, start, end, normal[face], part))


def _closed(c: Corners, holes: Collection[Hole], room: Room) -> tuple[Corners, int]:
    """The corners with a face in every hole whose UVs close, and how many these are. It looks like one of its neighbours, and is lit like them."""
    size = np.diff(c.faces)
    of = np.repeat(np.arange(len(size)), size)
    after = np.where(np.arange(len(of)) + 1 == c.faces[of + 1], c.faces[of], np.arange(len(of)) + 1)
    take, new, triangles = [], [], []
    sizes: list[int] = []
    look: list[int] = []
    total = len(of)
    for hole in holes:
        begin = hole.edges
        # An open edge runs against what closes it: from the next corner of the hole to this one.
        here, there = after[begin], np.roll(begin, 1)
        if not all(_same(uv[here], uv[there]) for uv in c.uvs.values()):
            continue
        laid = c.laid
        if laid is not None and not np.isnan(laid[here]).any() and not (_lies_flat(laid[here], hole.triangles) and room(laid[here])):
            continue
        take.append(here)
        triangles.append(total + hole.triangles)
        new.append(np.full(len(hole.triangles), len(size) + len(sizes)))
        sizes.append(len(here))
        look.append(int(c.look[of[begin[0]]]))
        total += len(here)
    if not sizes:
        return c, 0
    rows = np.r_[np.arange(len(of)), np.concatenate(take)]
    return replace(
        c, faces=np.r_[c.faces, c.faces[-1] + np.cumsum(sizes)].astype(np.int64), position=c.position[rows], uvs={k: v[rows] for k, v in c.uvs.items()},
        normal=None if c.normal is None else c.normal[rows], colour=None if c.colour is None else c.colour[rows], look=np.r_[c.look, look].astype(c.look.dtype),
        triangles=np.concatenate([c.triangles, *triangles]), face_of=np.concatenate([c.face_of, *new]),
    ), len(sizes)  # fmt: skip


def _same(a: Floats, b: Floats) -> bool:
    return bool(np.allclose(a, b, rtol=0, atol=1e-9, equal_nan=True))


def _lies_flat(ring: Floats, triangles: Numbers) -> bool:
    """Whether triangles of a ring (n, 2) all lie the same way round."""
    p = ring[triangles]
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    area = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    return bool((area > 0).all() or (area < 0).all())


def _turned(edges: Numbers, area: Floats, live: Mask) -> Mask:
    """Faces (F,) that run against the larger part of what they hang together with at edges of two faces; none of what has one side only."""
    n = len(live)
    two = edges[edges[:, 4] == 2]
    f, g = np.abs(two[:, 2]) - 1, np.abs(two[:, 3]) - 1
    # Two faces that run the same way along an edge look to different sides: one is linked with the turned other.
    other = np.where(np.sign(two[:, 2]) == np.sign(two[:, 3]), n, 0)
    i, j = np.r_[f, f + n], np.r_[g + other, (g + n + other) % (2 * n) if n else g]
    label = components(2 * n, i, j)
    plus, minus = label[:n], label[n:]
    sided = plus != minus
    # Of the two ways of turning a part, the one with its least number first.
    way = plus < minus
    part = np.minimum(plus, minus)
    first = np.bincount(part, area * way, 2 * n)
    last = np.bincount(part, area * ~way, 2 * n)
    return np.asarray(live & sided & np.where(first[part] >= last[part], ~way, way), bool)


def _flipped(positions: Floats, c: Corners, turned: Mask) -> Corners:
    """The corners with some faces wound the other way; normals that look to the back then are turned over."""
    size = np.diff(c.faces)
    of = np.repeat(np.arange(len(size)), size)
    corner = np.arange(len(of))
    back = c.faces[of] + c.faces[of + 1] - 1 - corner
    order = np.where(turned[of], back, corner)
    new = np.empty(len(order), np.int64)
    new[order] = corner
    triangles = new[c.triangles]
    mine = turned[c.face_of]
    triangles[mine] = triangles[mine][:, ::-1]
    normal = None if c.normal is None else c.normal[order].copy()
    out = replace(
        c, position=c.position[order], uvs={k: v[order] for k, v in c.uvs.items()}, normal=normal, triangles=triangles,
        colour=None if c.colour is None else c.colour[order],
    )  # fmt: skip
    if normal is not None:
        p = positions[out.position[triangles[mine]]]
        look = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
        against = np.flatnonzero(((normal[triangles[mine]].sum(axis=1) * look).sum(axis=1)) < 0)
        normal[np.unique(triangles[mine][against])] *= -1
    return out


def _without(c: Corners, drop: Mask) -> Corners:
    size = np.diff(c.faces)
    of = np.repeat(np.arange(len(size)), size)
    stay = ~drop[of]
    number = np.cumsum(stay) - 1
    mine = ~drop[c.face_of]
    return replace(
        c, faces=np.r_[0, np.cumsum(size[~drop])].astype(np.int64), position=c.position[stay], uvs={k: v[stay] for k, v in c.uvs.items()},
        normal=None if c.normal is None else c.normal[stay], colour=None if c.colour is None else c.colour[stay], look=c.look[~drop],
        triangles=number[c.triangles[mine]], face_of=(np.cumsum(~drop) - 1)[c.face_of[mine]],
    )  # fmt: skip
