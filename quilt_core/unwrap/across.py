"""Long islands cut across into parts of about one length, along the edges that cost least near to where the cuts should be."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from ..errors import QuiltError
from ..model.scene import Floats
from .parting import least_cut
from .parts import allowed_edges, part_of, seam_cost
from .skin import Laying, Skin
from .topology import Mask, cut

MOST_PARTS = 64
_BAND = 0.3  # of a part's length: so far from where it should be a cut may run
_AWAY = 4.0  # how much dearer an edge is at the end of that band


def cut_across(skin: Skin, laying: Laying, island: int, parts: int) -> tuple[Laying, Mask]:
    """Cut an island across its longer side; nothing moves.

    Returns
    -------
    the laying, and the island's faces (F,)

    Raises
    ------
    QuiltError : an island that is not there, a number of parts that makes no sense, or polygons that are too large to be cut between
    """
    if not 2 <= parts <= MOST_PARTS:
        raise QuiltError(f"An island is cut into 2 to {MOST_PARTS} parts.")
    mine = laying.island == island
    faces = np.flatnonzero(mine)
    if not len(faces):
        raise QuiltError("This island is not there any more. Select it anew.")
    s, h = part_of(skin.surface, faces)
    own = laying.seam[h].copy()
    may, cost = allowed_edges(s, skin.cell[faces]), seam_cost(s)
    at = _along(laying.uv[faces])
    middle, low, length = at.mean(axis=1), float(at.min()), float(np.ptp(at))
    edge = 0.5 * (at.reshape(-1) + np.roll(at, -1, axis=1).reshape(-1))
    before = cut(s, own).charts
    for k in range(1, parts):
        goal, band = low + k * length / parts, _BAND * length / parts
        source, sink = np.flatnonzero(middle < goal - band), np.flatnonzero(middle > goal + band)
        if not len(source) or not len(sink):
            continue
        inner = np.flatnonzero((s.twin >= 0) & ~own)
        found = least_cut(s, inner, may, cost * (1 + _AWAY * ((edge - goal) / band) ** 2), source, sink)
        own[found] = own[s.twin[found]] = True
    if cut(s, own).charts == before:
        raise QuiltError("There is no edge across this island between polygons of the file, which are never cut.")
    seam = laying.seam.copy()
    seam[h] = own
    return replace(laying, seam=seam), mine


def _along(uv: Floats) -> Floats:
    """How far each corner (F, 3) of triangles (F, 3, 2) is along the longer side of their smallest box."""
    ring = shapely.get_coordinates(shapely.minimum_rotated_rectangle(shapely.MultiPoint(uv.reshape(-1, 2))))
    if len(ring) < 4:
        raise QuiltError("This island has no area: unwrap it first.")
    sides = np.diff(ring[:3], axis=0)
    long = sides[int(np.argmax(np.linalg.norm(sides, axis=1)))]
    return np.asarray(uv @ (long / np.linalg.norm(long)))
