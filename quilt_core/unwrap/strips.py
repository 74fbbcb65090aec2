"""Strips and grids of quads made rectangles: columns and rows get the true lengths that they have on the surface."""

from __future__ import annotations

from collections import deque
from dataclasses import replace

import numpy as np

from ..errors import QuiltError
from ..model.scene import Floats
from ..uv.areas import signed_areas
from .pieces import Piece, piece_of
from .skin import Laying, Skin, sign_of
from .topology import Mask, Numbers, Surface, after

_SQUARE = 0.35  # cosine of a corner's angle that a pair of triangles may have to count as a quad


def straightened(skin: Skin, laying: Laying, island: int) -> tuple[Laying, Mask]:
    """An island of quads laid out as a grid of straight columns and rows, where it lies and at its density.

    Returns
    -------
    the laying, and the island's faces (F,)

    Raises
    ------
    QuiltError : faces that are no quads, a ring that has to be cut first, or quads that do not form a grid
    """
    s = skin.surface
    mine = laying.island == island
    faces = np.flatnonzero(mine)
    piece = piece_of(s, faces, laying.seam)
    quads, sides = _quads(piece, skin.cell[faces])
    place = _walked(piece, quads, sides)
    uv = _laid_out(piece, quads, sides, place)
    sign = sign_of(laying, island)
    old = laying.uv[faces] * [sign, 1.0]
    scale = float(np.sqrt(abs(signed_areas(old).sum()) / max(abs(signed_areas(uv[piece.cut.rows]).sum()), 1e-300)))
    corner = piece.cut.rows.reshape(-1)
    best = min((_turned(uv, k, corner, old, np.repeat(piece.surface.area, 3), scale) for k in range(4)), key=lambda x: x[1])[0]
    out = laying.uv.copy()
    out[faces] = best[piece.cut.rows] * [sign, 1.0]
    return replace(laying, uv=out), mine


def _turned(uv: Floats, quarter: int, corner: Numbers, old: Floats, weight: Floats, scale: float) -> tuple[Floats, float]:
    """The grid turned by quarters and brought to the middle of where it was; and how far its corners are from there."""
    c, s = ((1, 0), (0, 1), (-1, 0), (0, -1))[quarter]
    turned = scale * np.stack([c * uv[:, 0] - s * uv[:, 1], s * uv[:, 0] + c * uv[:, 1]], axis=1)
    goal = old.reshape(-1, 2)
    shift = (weight[:, None] * (goal - turned[corner])).sum(axis=0) / weight.sum()
    turned += shift
    return turned, float((weight * np.linalg.norm(goal - turned[corner], axis=1)).sum())


def _quads(piece: Piece, cell: Numbers) -> tuple[Numbers, Numbers]:
    """Pairs (q, 2) of faces that are quads, and the half-edges (q, 4) of each in their order around it.

    Raises
    ------
    QuiltError : faces that have no partner
    """
    s = piece.surface
    inner = np.zeros(len(s.twin), bool)
    h = np.flatnonzero(s.twin > np.arange(len(s.twin)))
    h = h[piece.cut.rows.reshape(-1)[h] == piece.cut.rows.reshape(-1)[after(s.twin[h])]]
    h = h[piece.cut.rows.reshape(-1)[after(h)] == piece.cut.rows.reshape(-1)[s.twin[h]]]
    a, b = h // 3, s.twin[h] // 3
    number = np.unique(cell, return_inverse=True)[1].reshape(-1)
    size = np.bincount(number)
    polygon = (cell[a] == cell[b]) & (size[number[a]] == 2)
    worst = _worst_corner(s, h)
    partner = np.full(len(s.faces), -1)
    # What the file has as quads are quads; of triangles the squarest and flattest pairs are.
    score = np.where(polygon, -10.0, worst + np.abs(s.bend[h]))
    for k in np.argsort(score, kind="stable").tolist():
        if partner[a[k]] < 0 and partner[b[k]] < 0 and (polygon[k] or worst[k] < _SQUARE * 2):
            partner[a[k]], partner[b[k]] = b[k], a[k]
            inner[h[k]] = inner[s.twin[h[k]]] = True
    alone = int((partner < 0).sum())
    if alone:
        raise QuiltError(f"{alone} faces of this island are no quads: only strips and grids of quads become rectangles.")
    first = np.flatnonzero(np.arange(len(partner)) < partner)
    sides = []
    for f in first.tolist():
        k = next(k for k in range(3) if inner[3 * f + k])
        t = int(s.twin[3 * f + k])
        nexts = (3 * f + (k + 1) % 3, 3 * f + (k + 2) % 3, t - t % 3 + (t + 1) % 3, t - t % 3 + (t + 2) % 3)
        sides.append(nexts)
    return np.column_stack([first, partner[first]]), np.array(sides, np.int64)


def _worst_corner(s: Surface, h: Numbers) -> Floats:
    """For each inner edge (k,) the greatest cosine of a corner's angle of the quad that its two faces make."""
    t = s.twin[h]
    p = s.points
    a, c = p[s.start[h]], p[s.end[h]]
    b, d = p[s.start[t - t % 3 + (t + 2) % 3]], p[s.start[h - h % 3 + (h + 2) % 3]]
    ring = np.stack([a, b, c, d], axis=1)
    worst = np.zeros(len(h))
    for k in range(4):
        x, y = ring[:, (k + 1) % 4] - ring[:, k], ring[:, (k + 3) % 4] - ring[:, k]
        cos = (x * y).sum(axis=1) / np.maximum(np.linalg.norm(x, axis=1) * np.linalg.norm(y, axis=1), 1e-300)
        worst = np.maximum(worst, np.abs(cos))
    return worst


def _walked(piece: Piece, quads: Numbers, sides: Numbers) -> Numbers:
    """Column, row and turn (q, 3) of every quad: side k of it looks right, up, left or down by (k + turn) mod 4.

    Raises
    ------
    QuiltError : quads that do not form a grid
    """
    s, row = piece.surface, piece.cut.rows.reshape(-1)
    owner, which = np.full(len(s.twin), -1), np.full(len(s.twin), -1)
    owner[sides], which[sides] = np.arange(len(quads))[:, None], np.arange(4)[None, :]
    place = np.full((len(quads), 3), np.iinfo(np.int64).min)
    place[0] = 0
    wait, seen = deque([0]), {(0, 0): 0}
    step = ((1, 0), (0, 1), (-1, 0), (0, -1))
    while wait:
        q = wait.popleft()
        for k in range(4):
            h = int(sides[q, k])
            t = int(s.twin[h])
            if t < 0 or row[h] != row[after(np.array(t))] or row[after(np.array(h))] != row[t]:
                continue
            other, j = int(owner[t]), int(which[t])
            way = (k + int(place[q, 2])) % 4
            there = (int(place[q, 0]) + step[way][0], int(place[q, 1]) + step[way][1], (way + 2 - j) % 4)
            if place[other, 0] == np.iinfo(np.int64).min:
                if there[:2] in seen:
                    raise QuiltError("These quads do not form a grid: some would lie on the same place. Cut the island into strips first.")
                place[other], seen[there[:2]] = there, other
                wait.append(other)
            elif tuple(place[other]) != there:
                raise QuiltError("This island is a ring, or its quads turn around a point: cut it first, then straighten it.")
    if (place[:, 0] == np.iinfo(np.int64).min).any():
        raise QuiltError("This island hangs together at single points only: cut it there first.")
    return place


def _laid_out(piece: Piece, quads: Numbers, sides: Numbers, place: Numbers) -> Floats:
    """UVs (W, 2) of the grid: every column and row as wide as its edges are on the surface in the mean."""
    s, row = piece.surface, piece.cut.rows.reshape(-1)
    low = place[:, :2].min(axis=0)
    at = place[:, :2] - low
    grid = np.full((piece.cut.count, 2), -1)
    # The start of side k is the corner between the sides before and after it: right's start is the lower right one, and so on.
    corner = ((1, 0), (1, 1), (0, 1), (0, 0))
    for k in range(4):
        way = (k + place[:, 2]) % 4
        offset = np.array(corner)[way]
        rows = row[sides[:, k]]
        spot = at + offset
        clash = (grid[rows, 0] >= 0) & (grid[rows] != spot).any(axis=1)
        if clash.any():
            raise QuiltError("This island is a ring, or its quads turn around a point: cut it first, then straighten it.")
        grid[rows] = spot
    widths = []
    for axis in (0, 1):
        total, count = np.zeros(int(at[:, axis].max()) + 1), np.zeros(int(at[:, axis].max()) + 1)
        for k in range(4):
            along = ((k + place[:, 2]) % 4) % 2 == (1 if axis == 0 else 0)
            index = at[along, axis]
            np.add.at(total, index, s.length[sides[along, k]])
            np.add.at(count, index, 1)
        widths.append(np.concatenate([[0.0], np.cumsum(total / np.maximum(count, 1))]))
    return np.stack([widths[0][grid[:, 0]], widths[1][grid[:, 1]]], axis=1)
