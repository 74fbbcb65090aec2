"""Of a surface: what a seam costs where, where one can be, parts of it, and the regions that charts cover."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.components import components
from ..model.scene import Floats
from .topology import Borders, Cut, Mask, Numbers, Surface, after, cut, ranges

_LEVEL, _PLANE = np.radians(0.1), np.cos(np.radians(1.0))  # faces of a flat side bend by less, and all of it from its middle direction
_SIDE, _WORTH = 4, 0.01  # triangles, and share of the area, that a flat side has at least
_SHARP = (np.radians(17.5), np.radians(35.0))  # between these an edge becomes a good place for a seam


def seam_cost(s: Surface) -> Floats:
    """What a seam costs on each half-edge (3 F,): its length, less at sharp edges, most of all at concave ones."""
    sharp = np.clip((np.abs(s.bend) - _SHARP[0]) / (_SHARP[1] - _SHARP[0]), 0.0, 1.0)
    return s.length * np.maximum(1.0 - 0.7 * sharp - 0.1 * sharp * (s.bend < 0), 0.05)


def allowed_edges(s: Surface, cell: Numbers) -> Mask:
    """(3 F,) half-edges that may be seams: no polygon is cut."""
    inside = s.twin >= 0
    inside[inside] = cell[np.flatnonzero(inside) // 3] == cell[s.twin[inside] // 3]
    return ~inside


def part_of(s: Surface, which: Numbers) -> tuple[Surface, Numbers]:
    """The surface of some faces (k,), and the half-edges of the whole that its own stand for."""
    number = np.full(len(s.faces), -1)
    number[which] = np.arange(len(which))
    h = (3 * which[:, None] + np.arange(3)).reshape(-1)
    twin = s.twin[h]
    other = np.where(twin >= 0, number[np.maximum(twin, 0) // 3], -1)
    twin = np.where(other >= 0, 3 * other + twin % 3, -1)
    points, faces = np.unique(s.faces[which], return_inverse=True)
    part = replace(
        s, points=s.points[points], faces=faces.reshape(-1, 3), twin=twin, normal=s.normal[which], area=s.area[which], length=s.length[h], bend=s.bend[h],
        corner=None if s.corner is None else s.corner[points], flat=None if s.flat is None else s.flat[which],
    )  # fmt: skip
    return part, h


def corner_angles(s: Surface) -> Floats:
    """Angles (F, 3) of the faces at their corners."""
    p = s.points[s.faces]
    angle = np.zeros((len(p), 3))
    for k in range(3):
        a, b = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        angle[:, k] = np.arctan2(np.linalg.norm(np.cross(a, b), axis=1), (a * b).sum(axis=1))
    return angle


def defects(s: Surface) -> Floats:
    """What the angles around each point (V,) lack to a full turn; 0 at borders."""
    out: Floats = np.asarray(2 * np.pi - np.bincount(s.faces.reshape(-1), corner_angles(s).reshape(-1), len(s.points)), np.float64)
    edge = s.twin < 0
    out[s.start[edge]] = out[s.end[edge]] = 0.0
    return out


def corners(s: Surface, tip: float) -> Mask:
    """(V,) points at which the angles around a fan of faces lack more than `tip` radians to a full turn: no flat piece has them inside."""
    c = cut(s, np.zeros(len(s.twin), bool))
    lacking = 2 * np.pi - np.bincount(c.rows.reshape(-1), corner_angles(s).reshape(-1), c.count)
    edge = np.flatnonzero(s.twin < 0)
    rows = c.rows.reshape(-1)
    lacking[rows[edge]] = lacking[rows[after(edge)]] = 0.0
    out = np.zeros(len(s.points), bool)
    out[c.point[np.abs(lacking) > tip]] = True
    return out


def flat_sides(s: Surface) -> Mask:
    """(F,) faces of flat sides: of four triangles at least, and not of the smallest."""
    n = len(s.faces)
    h = np.flatnonzero((s.twin >= 0) & (np.abs(s.bend) < _LEVEL))
    side = components(n, h // 3, s.twin[h] // 3)
    large = (np.bincount(side) >= _SIDE) & (np.bincount(side, s.area) >= _WORTH * s.area.sum())
    # A round surface of many faces bends little everywhere.
    mean = np.stack([np.bincount(side, s.area * s.normal[:, k]) for k in range(3)], axis=1)
    mean = mean / np.maximum(np.linalg.norm(mean, axis=1), 1e-300)[:, None]
    level = np.bincount(side, (s.normal * mean[side]).sum(axis=1) < _PLANE) == 0
    return np.asarray((large & level)[side])


def outlines(c: Cut, b: Borders, uv: Floats) -> NDArray[np.object_]:
    """The region (n,) of every chart by its border loops, the longest one outside; empty where it has none."""
    out = np.full(c.charts, shapely.Polygon(), object)
    size = np.diff(b.first)
    which = np.flatnonzero(size >= 3)
    if not len(which):
        return out
    at = uv[c.rows.reshape(-1)[b.edges[ranges(b.first[which], b.first[which + 1])]]]
    first = np.r_[0, np.cumsum(size[which])[:-1]]
    rings = shapely.linearrings(at, indices=np.repeat(np.arange(len(which)), size[which]))
    box = np.prod(np.maximum.reduceat(at, first) - np.minimum.reduceat(at, first), axis=1)
    # For each chart the longest first: the others are its holes.
    order = np.lexsort((np.arange(len(which)), -box, b.chart[which]))
    charts, of = np.unique(b.chart[which][order], return_inverse=True)
    shell = np.r_[True, np.diff(of) > 0]
    rest = np.flatnonzero(~shell)
    rest = rest[np.lexsort((order[rest], of[rest]))]
    turn = np.concatenate([np.flatnonzero(shell), rest])
    turn = turn[np.argsort(of[turn], kind="stable")]
    out[charts] = shapely.polygons(rings[order[turn]], indices=of[turn])
    return out
