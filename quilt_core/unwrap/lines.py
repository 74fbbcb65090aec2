"""Edges of an island near to a line that is drawn across it where it lies."""

from __future__ import annotations

import numpy as np
import shapely

from ..errors import QuiltError
from ..model.scene import Floats
from .parts import allowed_edges, outlines
from .pieces import piece_of
from .skin import Laying, Skin
from .slits import cheapest_ways
from .topology import Borders, Cut, Numbers, after


def along_line(skin: Skin, laying: Laying, island: int, line: Floats) -> Numbers:
    """The half-edges of the way through an island that keeps nearest to a line: from border to border, or from where the line begins inside it.

    Parameters
    ----------
    line : (2, 2) its ends, in the island's own UVs

    Raises
    ------
    QuiltError : an island that is not there, or that the line does not cross
    """
    faces = np.flatnonzero(laying.island == island)
    if not len(faces):
        raise QuiltError("This island is not there any more. Draw the line anew.")
    piece = piece_of(skin.surface, faces, laying.seam)
    uv = piece.mean(laying.uv[faces])
    rows = piece.cut.rows.reshape(-1)
    border = np.unique(rows[piece.borders.edges])
    begin, goal = (_nearest(uv, border if at_border else np.unique(rows), p) for p, at_border in _ends(piece.cut, piece.borders, uv, line))
    use = np.flatnonzero(allowed_edges(piece.surface, skin.cell[faces]))
    a, b = uv[rows[use]], uv[rows[after(use)]]
    long = np.linalg.norm(a - b, axis=1)
    away = np.maximum(_away(a, line), _away(b, line))
    cost = long * (1 + (away / max(float(long.mean()), 1e-300)) ** 2)
    way = cheapest_ways(piece.cut, use, cost, np.array([begin]), np.array([goal]))
    if not len(way):
        raise QuiltError("The line does not cross this island from one side to another. Draw it longer.")
    return np.asarray(3 * faces[way // 3] + way % 3)


def _ends(c: Cut, b: Borders, uv: Floats, line: Floats) -> list[tuple[Floats, bool]]:
    """Where the way along a line begins and ends, and whether that is at the border."""
    region = shapely.union_all(outlines(c, b, uv))
    inside = shapely.intersection(shapely.LineString(line), region)
    found = shapely.get_coordinates(inside)
    if len(found) < 2:
        raise QuiltError("The line does not cross this island. Draw it from one side to the other.")
    along = (found - line[0]) @ (line[1] - line[0])
    return [
        (found[int(k)], not bool(np.allclose(found[int(k)], p))) for k, p in zip((np.argmin(along), np.argmax(along)), line, strict=True)
    ]


def _nearest(uv: Floats, rows: Numbers, place: Floats) -> int:
    return int(rows[int(np.argmin(((uv[rows] - place) ** 2).sum(axis=1)))])


def _away(at: Floats, line: Floats) -> Floats:
    """Distances (k,) of points from the straight line through two."""
    way = (line[1] - line[0]) / max(float(np.linalg.norm(line[1] - line[0])), 1e-300)
    d = at - line[0]
    return np.asarray(np.abs(d[:, 0] * way[1] - d[:, 1] * way[0]))
