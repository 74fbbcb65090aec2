"""Seams by hand: edges picked one by one, along a loop or the shortest way; cut, and sewn again where the pieces fit."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from ..errors import QuiltError
from ..model.components import components
from ..model.scene import Floats
from .parts import allowed_edges, corner_angles, seam_cost
from .pieces import Piece, fitted, piece_of, placed, unsound
from .skin import Laying, Skin, sign_of
from .topology import Mask, Numbers, Surface, after, cut

_STRAIGHT = np.radians(40)  # by which a loop may turn at a point, of the angle that lies there
_POOR = 0.3  # of the length sewn: by more the two sides miss each other


def half_edges(skin: Skin, picked: Iterable[tuple[int, int]]) -> Numbers:
    """Half-edges of the surface for (triangle of the mesh, side) pairs.

    Raises
    ------
    QuiltError : a triangle that is not there, or one without area
    """
    face = np.full(len(skin.mesh.triangles), -1)
    face[skin.kept] = np.arange(len(skin.kept))
    out = []
    for triangle, side in picked:
        if not 0 <= triangle < len(face) or not 0 <= side < 3:
            raise QuiltError(f"{skin.mesh.name} has no edge {side} at triangle {triangle}. Pick it anew.")
        if face[triangle] < 0:
            raise QuiltError("This edge belongs to a triangle without area: it cannot be cut or sewn.")
        out.append(3 * int(face[triangle]) + side)
    return np.array(out, np.int64)


def both_sides(s: Surface, h: Numbers) -> Numbers:
    """Half-edges together with their twins."""
    t = s.twin[h]
    return np.unique(np.concatenate([h, t[t >= 0]]))


def loop(s: Surface, h: int, may: Mask) -> Numbers:
    """The half-edges of the loop through an edge: on both sides the edge that goes straightest on, until there is none that does, or it comes to where it has
    been: on triangles it may wind, but never crosses itself."""
    angles = corner_angles(s).reshape(-1)
    out = [h]
    been, met = {int(s.start[h]), int(s.end[h])}, set()
    for start in (h, int(s.twin[h])):
        at = start
        while at >= 0:
            at = _straight_on(s, at, angles, may)
            if at < 0 or at in out or int(s.twin[at]) in out or int(s.end[at]) in met:
                break
            out.append(at)
            if int(s.end[at]) in been:
                met.add(int(s.end[at]))
                break  # closed, or back at its own way
            been.add(int(s.end[at]))
    return np.array(out, np.int64)


def _straight_on(s: Surface, h: int, angle: Floats, may: Mask) -> int:
    """The half-edge that leaves the end of one and parts the angle there most evenly; -1 where none does well, or at a border."""
    if s.twin[h] < 0:
        return -1
    # Half-edges that leave the point, from the way back on around it, with the angle turned so far.
    first = int(s.twin[h])
    leaving, turned = [], []
    at, total = first, 0.0
    for _ in range(1000):
        leaving.append(at)
        turned.append(total)
        total += float(angle[at])
        back = at - at % 3 + (at + 2) % 3  # the half-edge that comes in on the other side of this face
        at = int(s.twin[back])
        if at < 0 or at == first:
            break
    if at != first:
        return -1  # at a border a loop ends
    best, found = _STRAIGHT * total / (2 * np.pi), -1
    for k, t in zip(leaving[1:], turned[1:], strict=True):
        if abs(t - 0.5 * total) < best and may[k]:
            best, found = abs(t - 0.5 * total), k
    return found


def shortest(s: Surface, start: int, goal: int, may: Mask) -> Numbers:
    """The half-edges of the cheapest way from one point to another, along edges that may be seams; a seam costs less at sharp edges.

    Raises
    ------
    QuiltError : there is no way
    """
    use = np.flatnonzero(may & (s.twin > np.arange(len(s.twin))))
    use = np.concatenate([use, np.flatnonzero(s.twin < 0)])
    ends = s.start[use], s.end[use]
    n = len(s.points)
    # Of two edges between the same points the first stands for both.
    key = np.minimum(*ends) * n + np.maximum(*ends)
    key, first = np.unique(key, return_index=True)
    use = use[first]
    graph = csr_matrix((np.maximum(seam_cost(s)[use], 1e-12), (key // n, key % n)), shape=(n, n))
    far, before = dijkstra(graph, directed=False, indices=start, return_predecessors=True)
    if not np.isfinite(far[goal]):
        raise QuiltError("There is no way between these two points: they lie on parts that do not hang together.")
    out, at = [], goal
    while at != start:
        last = int(before[at])
        out.append(int(use[np.searchsorted(key, min(at, last) * n + max(at, last))]))
        at = last
    return np.array(out[::-1], np.int64)


def around(skin: Skin, faces: Mask) -> Numbers:
    """The half-edges of the border of some faces (F,)."""
    s = skin.surface
    h = np.flatnonzero(s.twin >= 0)
    return h[faces[h // 3] & ~faces[s.twin[h] // 3]]


def grown(s: Surface, face: int, bend: float) -> Mask:
    """(F,) faces that hang together with one over edges that bend by less than an angle in radians."""
    h = np.flatnonzero((s.twin >= 0) & (np.abs(s.bend) < bend))
    n = len(s.faces)
    of = components(n, h // 3, s.twin[h] // 3)
    return np.asarray(of == of[face])


def cut_along(skin: Skin, laying: Laying, h: Numbers) -> tuple[Laying, Mask]:
    """A laying with seams along some half-edges; nothing moves. Also the faces (F,) of the islands that were cut.

    Raises
    ------
    QuiltError : none of the edges can be a seam, all are seams already, or they part nothing
    """
    s = skin.surface
    inner = h[s.twin[h] >= 0]
    may = inner[allowed_edges(s, skin.cell)[inner]]
    if not len(may):
        raise QuiltError(
            "These edges lie inside polygons of the file, which are never cut."
            if len(inner)
            else "These edges are the border of the surface already."
        )
    new = may[~laying.seam[may]]
    if not len(new):
        raise QuiltError("These edges are seams already.")
    seam = laying.seam.copy()
    seam[both_sides(s, new)] = True
    if cut(s, seam).count == cut(s, laying.seam).count:
        raise QuiltError("This parts nothing: a seam inside an island needs two edges that meet, or one that reaches its border.")
    return replace(laying, seam=seam), np.isin(laying.island, laying.island[new // 3]) & (laying.island >= 0)


def sew(skin: Skin, laying: Laying, h: Numbers, relax: bool = True) -> tuple[Laying, Mask]:
    """A laying sewn along some half-edges: the smaller island comes to the larger, turned over where it is mirrored, turned and scaled to fit.

    Parameters
    ----------
    relax : lay both flat together afterwards, where the larger one lies and at its density

    Returns
    -------
    the laying, and the faces (F,) of the islands that were sewn

    Raises
    ------
    QuiltError : no seam is among the edges, or the pieces would fold or overlap
    """
    s = skin.surface
    seams = _open(s, laying, h)
    touched = np.zeros(len(s.faces), bool)
    while len(seams):
        pair, now, seams = _longest_pair(s, laying, seams)
        laying, kept, mine = _sewn(skin, laying, now, pair, relax)
        touched |= mine
        laying = replace(laying, island=np.where(mine, kept, laying.island))
        seams = seams[laying.seam[seams]]
    return laying, touched


def brought(skin: Skin, laying: Laying, h: Numbers) -> tuple[Laying, Mask]:
    """What `sew` would bring across before anything is laid flat again: how it would lie, with islands that would be one under one number, and the faces (F,)
    that would move.

    Raises
    ------
    QuiltError : no seam is among the edges
    """
    s = skin.surface
    seams = _open(s, laying, h)
    moved = np.zeros(len(s.faces), bool)
    while len(seams):
        pair, now, seams = _longest_pair(s, laying, seams)
        large, small = larger_first(s, laying, pair)
        mine = laying.island == small
        if large != small:
            uv, _ = across(s, laying, now, large, small)
            moved |= mine
            laying = replace(laying, uv=uv, island=np.where(mine, large, laying.island))
    return laying, moved


def _open(s: Surface, laying: Laying, h: Numbers) -> Numbers:
    """Those half-edges that are seams between faces with UVs.

    Raises
    ------
    QuiltError : none is
    """
    seams = h[(s.twin[h] >= 0) & laying.seam[h]]
    seams = seams[(laying.island[seams // 3] >= 0) & (laying.island[s.twin[seams] // 3] >= 0)]
    if not len(seams):
        raise QuiltError("None of these edges is a seam between faces that have UVs.")
    return seams


def _longest_pair(s: Surface, laying: Laying, seams: Numbers) -> tuple[list[int], Numbers, Numbers]:
    """The two islands that meet along most of some seams, those seams, and the others."""
    pairs = np.sort(np.stack([laying.island[seams // 3], laying.island[s.twin[seams] // 3]], axis=1), axis=1)
    unique, slot = np.unique(pairs, axis=0, return_inverse=True)
    slot = np.asarray(slot).reshape(-1)
    best = int(np.argmax(np.bincount(slot, s.length[seams])))
    return unique[best].tolist(), seams[slot == best], seams[slot != best]


def larger_first(s: Surface, laying: Laying, pair: list[int]) -> tuple[int, int]:
    size = [float(s.area[laying.island == k].sum()) for k in pair]
    return (pair[0], pair[1]) if size[0] >= size[1] else (pair[1], pair[0])


def across(s: Surface, laying: Laying, h: Numbers, large: int, small: int) -> tuple[Floats, float]:
    """UVs (F, 3, 2) with the small island brought to the large one along half-edges, turned over where it is mirrored against it; and by how much the two
    sides miss each other, as a share of their length."""
    uv = laying.uv.copy()
    h = np.where(laying.island[h // 3] == large, h, s.twin[h])
    t = s.twin[h]
    goal = uv.reshape(-1, 2)[np.concatenate([h, after(h)])]
    mine = laying.island == small
    if sign_of(laying, small) != sign_of(laying, large):
        uv[mine, :, 0] *= -1
    own = uv.reshape(-1, 2)[np.concatenate([after(t), t])]
    moved, miss = fitted(own, goal, np.tile(s.length[h], 2), uv[mine].reshape(-1, 2))
    uv[mine] = moved.reshape(-1, 3, 2)
    reach = float(np.linalg.norm(goal[: len(h)] - goal[len(h) :], axis=1).sum())
    return uv, miss / max(reach, 1e-300)


def _sewn(skin: Skin, laying: Laying, h: Numbers, pair: list[int], relax: bool) -> tuple[Laying, int, Mask]:
    """Two islands (or one, along a slit) sewn; the number of the one that stays, and the faces (F,) of both."""
    s = skin.surface
    large, small = larger_first(s, laying, pair)
    uv, sign = laying.uv.copy(), sign_of(laying, large)
    if large != small:
        uv, miss = across(s, laying, h, large, small)
        if miss > _POOR and not relax:
            raise QuiltError(
                "The two sides of this seam do not fit onto each other without changing their shape. Sew it and lay it flat again."
            )
    seam = laying.seam.copy()
    seam[both_sides(s, h)] = False
    faces = np.flatnonzero(np.isin(laying.island, pair))
    piece = piece_of(s, faces, seam)
    start = piece.mean(uv[faces] * [sign, 1.0])
    out = _laid(piece, start, relax)
    reason = unsound(piece, out)
    if reason:
        raise QuiltError(f"This cannot be sewn: {reason}. Sew a shorter run of it, or cut elsewhere first.")
    if relax:
        out = placed(piece, out, uv[faces] * [sign, 1.0], laying.island[faces] == large)
    uv[faces] = out[piece.cut.rows] * [sign, 1.0]
    touched = np.zeros(len(s.faces), bool)
    touched[faces] = True
    return Laying(uv, seam, laying.island), large, touched


def _laid(piece: Piece, start: Floats, relax: bool) -> Floats:
    if not relax:
        return start
    return piece.flat(start if not piece.folds(start) else None)
