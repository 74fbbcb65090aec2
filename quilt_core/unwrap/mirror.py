"""Surfaces that are their own mirror image: which face and which edge mirrors which, so that both halves can be cut alike."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..model.components import components
from ..model.scene import Floats
from .parts import allowed_edges
from .topology import Mask, Numbers, Surface

_NEAR = 1e-4  # of the diagonal: how far a point may lie from the mirror image of another
_SAMPLE = 400  # points that a plane is tried with first
_HALF = 0.5  # of the area: with less that has a mirror image, halves are nothing to speak of


@dataclass(frozen=True)
class Mirror:
    """normal (3,) and offset of the plane, the points x on which x @ normal == offset; cell (F,) polygon of every face, two triangles being one where their
    image has the other diagonal; face (F,) a face of the polygon that mirrors each one's (its own on the plane), -1 for none; half (3 F,) the half-edge between
    polygons that mirrors each, -1 for none; first (F,) faces of the half that is decided: one side, the plane, and what has no image."""

    normal: Floats
    offset: float
    cell: Numbers
    face: Numbers
    half: Numbers
    first: Mask


def mirror_of(s: Surface, cell: Numbers) -> Mirror | None:
    """The plane in which most of a surface mirrors itself, None where less than half of its area does. Tried are the planes across the axes and across the main
    axes of the surface, through its middle and through the origin (a mirror plane holds the centre of mass and is across a main axis of inertia).

    Parameters
    ----------
    cell : (F,) polygon of every face
    """
    tree = cKDTree(s.points)
    near = _NEAR * float(np.linalg.norm(np.ptp(s.points, axis=0)))
    sample = s.points[:: max(1, len(s.points) // _SAMPLE)]
    best: tuple[float, Floats, float] | None = None
    for normal, offset in _planes(s):
        share = float((tree.query(_image(sample, normal, offset), distance_upper_bound=near)[0] <= near).mean())
        if share > _HALF and (best is None or share > best[0] + 1e-9):
            best = share, normal, offset
    if best is None:
        return None
    found = _mirrored(s, cell, tree, near, *best[1:])
    other = (found.face >= 0) & ~found.first
    return found if s.area[other].sum() >= 0.5 * _HALF * s.area.sum() else None


def _planes(s: Surface) -> list[tuple[Floats, float]]:
    middle = s.points[s.faces].mean(axis=1)
    mass = (middle * s.area[:, None]).sum(axis=0) / s.area.sum()
    box = 0.5 * (s.points.min(axis=0) + s.points.max(axis=0))
    apart = (middle - mass) * np.sqrt(s.area)[:, None]
    main = np.linalg.eigh(apart.T @ apart)[1].T
    return [(np.asarray(n, float), float(at @ n)) for n in (*np.eye(3), *main) for at in (mass, box, np.zeros(3))]


def _image(points: Floats, normal: Floats, offset: float) -> Floats:
    return points - 2 * (points @ normal - offset)[:, None] * normal


def _mirrored(s: Surface, cell: Numbers, tree: cKDTree, near: float, normal: Floats, offset: float) -> Mirror:
    away, image = tree.query(_image(s.points, normal, offset), distance_upper_bound=near)
    image = np.where(away <= near, image, -1)
    image[(image < 0) | (image[np.maximum(image, 0)] != np.arange(len(image)))] = -1
    lone = np.flatnonzero(allowed_edges(s, cell) & (s.twin >= 0) & (image[s.start] >= 0) & (image[s.end] >= 0))
    lone = lone[_images(s, image, lone)[lone] < 0]
    cell = _in_pairs(s, cell, lone)
    edge = np.flatnonzero(allowed_edges(s, cell))
    half = _images(s, image, edge)
    face = _partners(s, cell, edge, half)
    half[face[np.arange(len(half)) // 3] < 0] = -1
    side = s.points[s.faces].mean(axis=1) @ normal - offset
    cells, number = np.unique(cell, return_inverse=True)
    side = np.bincount(number, side * s.area, len(cells))[number]
    first = (face < 0) | (side > side[np.maximum(face, 0)]) | ((side == side[face]) & (cell <= cell[face]))
    return Mirror(normal, offset, cell, face, half, first)


def _images(s: Surface, image: Numbers, edge: Numbers) -> Numbers:
    """The half-edge among all that may mirror that mirrors each of `edge` (k,), as (3 F,), -1 for none; `image` (V,) is that of every point."""
    count = len(s.points)
    key = s.start * count + s.end
    unique, where, times = np.unique(key, return_index=True, return_counts=True)
    # A mirror turns edges round. Of several half-edges from one point to another none is sure.
    a, b = image[s.end[edge]], image[s.start[edge]]
    at = np.minimum(np.searchsorted(unique, a * count + b), len(unique) - 1)
    good = (a >= 0) & (b >= 0) & (unique[at] == a * count + b) & (times[at] == 1)
    out = np.full(len(s.twin), -1)
    out[edge[good]] = where[at[good]]
    out[(out < 0) | (out[np.maximum(out, 0)] != np.arange(len(out)))] = -1
    return out


def _in_pairs(s: Surface, cell: Numbers, lone: Numbers) -> Numbers:
    """Polygons (F,) of which two are one where nothing but a half-edge without an image is between them."""
    cells, number = np.unique(cell, return_inverse=True)
    n = len(cells)
    group = components(n, number[lone // 3], number[s.twin[lone] // 3])
    size = np.bincount(group)
    return np.where(size[group] == 2, n + group, np.arange(n))[number]


def _partners(s: Surface, cell: Numbers, edge: Numbers, half: Numbers) -> Numbers:
    """A face (F,) of the polygon whose every edge mirrors one of each face's polygon, -1 where there is none."""
    cells, number = np.unique(cell, return_inverse=True)
    sides = np.bincount(number[edge // 3], minlength=len(cells))
    hit = edge[half[edge] >= 0]
    other = number[half[hit] // 3]
    low, high = np.full(len(cells), len(cells)), np.full(len(cells), -1)
    np.minimum.at(low, number[hit // 3], other)
    np.maximum.at(high, number[hit // 3], other)
    found = np.bincount(number[hit // 3], minlength=len(cells))
    partner = np.where((found == sides) & (low == high), low, -1)
    partner[(partner >= 0) & (partner[np.maximum(partner, 0)] != np.arange(len(cells)))] = -1
    first = np.zeros(len(cells), np.int64)
    first[number[::-1]] = np.arange(len(cell))[::-1]
    return np.where(partner[number] >= 0, first[np.maximum(partner[number], 0)], -1)


def image_of(m: Mirror, h: Numbers, faces: Mask) -> tuple[Numbers, Mask]:
    """The half-edges that mirror some (k,), and the faces (F,) whose polygons mirror those of some faces (F,)."""
    seen = m.half[h]
    found = m.face[faces]
    return seen[seen >= 0], np.isin(m.cell, m.cell[found[found >= 0]])


def mirrored_seams(s: Surface, m: Mirror, seam: Mask) -> Mask:
    """Seams (3 F,) of both halves, from those of the first (3 F,): its own, their images, and all that lies between the two."""
    out = seam & np.repeat(m.first, 3)
    mine = np.flatnonzero(out & (m.half >= 0))
    out[m.half[mine]] = True
    h = np.flatnonzero(s.twin >= 0)
    between = h[m.first[h // 3] != m.first[s.twin[h] // 3]]
    out[between] = True
    out[h] |= out[s.twin[h]]
    return np.asarray(out)
