"""Small holes closed while charts are made, and opened again: with faces in them they keep their shape in the plane."""

from __future__ import annotations

import numpy as np

from ..formats.holes import holes_of
from ..model.components import components
from .flatten import Flat
from .topology import Borders, Cut, Mask, Numbers, Surface, borders, cut, surface_of


def closed(s: Surface, cell: Numbers) -> tuple[Surface, Numbers]:
    """A surface whose small holes are closed by faces behind its own, and the polygon of every face: one for each hole.

    Half-edges of the surface keep their numbers.
    """
    h = np.flatnonzero(s.twin < 0)
    start, end, n = s.start, s.end, len(s.points)
    part = components(n, start, end)
    holes = holes_of(s.points, start[h], end[h], s.normal[h // 3], part)
    if not holes:
        return s, cell
    faces = np.concatenate([s.faces, *(hole.ring[hole.triangles] for hole in holes)])
    first = int(cell.max(initial=-1)) + 1
    cell = np.concatenate([cell, *(np.full(len(hole.triangles), first + k) for k, hole in enumerate(holes))])
    return surface_of(s.points, faces, cell), cell


def opened(s: Surface, seam: Mask, done: tuple[Cut, Borders, Flat]) -> tuple[Cut, Borders, Flat]:
    """How a surface lies whose closed form was laid, without the faces that closed it.

    Parameters
    ----------
    seam : (3 F,) half-edges of the surface
    """
    n = len(s.faces)
    before, _, flat = done
    c = cut(s, seam)
    uv = np.zeros((c.count, 2))
    uv[c.rows] = flat.uv[before.rows[:n]]
    return c, borders(s, c, seam), Flat(uv, flat.greatest[:n], flat.least[:n], flat.folded[:n])
