"""Points of islands by hand: moved with a soft falloff, lined up, welded, parted. A point is a row of the cut surface: on a seam each side has its own.

Islands lie as their layout places them, so that one move means the same for all of them.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from ..errors import QuiltError
from ..model.scene import Floats
from ..model.similarity import applied, inverse
from ..uv.areas import signed_areas
from .parting import overlapping_faces
from .parts import allowed_edges
from .seams import both_sides
from .skin import Laying, Skin
from .topology import Cut, Mask, Numbers, after, cut

LINES = ("row", "column", "line")
_SAME = 1e-7  # of a tile: points that are nearer lie in one place


def laid_out(laying: Laying, places: Floats) -> Laying:
    """Islands where similarities (n, 5) place them."""
    has = np.flatnonzero(laying.island >= 0)
    uv = laying.uv.copy()
    uv[has] = applied(np.repeat(places[laying.island[has]], 3, axis=0), uv[has].reshape(-1, 2)).reshape(-1, 3, 2)
    return replace(laying, uv=uv)


def taken_back(skin: Skin, now: Laying, before: Laying, touched: Mask, places: Floats) -> Laying:
    """The reverse for faces (F,) of islands that were touched: each piece by the place of the island that most of it was; what lies as before keeps its UVs
    to the bit.

    Parameters
    ----------
    now : as it lies on the sheet now; before : as it was read
    """
    was = laid_out(before, places)
    chart = cut(skin.surface, now.seam).chart
    mine = np.flatnonzero(touched & (before.island >= 0))
    count = int(before.island.max(initial=0)) + 1
    key, slot = np.unique(chart[mine] * count + before.island[mine], return_inverse=True)
    area = np.bincount(slot.reshape(-1), skin.surface.area[mine], len(key))
    heir = np.full(int(chart.max(initial=0)) + 1, -1)
    order = np.argsort(area, kind="stable")
    heir[key[order] // count] = key[order] % count
    # Islands that became one lie in the UVs of that one, and say so.
    island = before.island.copy()
    island[mine] = heir[chart[mine]]
    out = before.uv.copy()
    new = mine[(now.uv[mine] != was.uv[mine]).any(axis=(1, 2)) | (heir[chart[mine]] != before.island[mine])]
    rows = np.repeat(inverse(places)[heir[chart[new]]], 3, axis=0)
    out[new] = applied(rows, now.uv[new].reshape(-1, 2)).reshape(-1, 3, 2)
    return replace(now, uv=out, island=island)


def rows_of(skin: Skin, laying: Laying, corners: Numbers) -> tuple[Cut, Numbers]:
    """The cut surface, and its rows (r,) at corners (k,) of faces, 3 f + k.

    Raises
    ------
    QuiltError : none of them has UVs
    """
    c = cut(skin.surface, laying.seam)
    corners = corners[~laying.bare[corners // 3]]
    if not len(corners):
        raise QuiltError("None of the picked points has UVs. Pick points of islands.")
    return c, np.unique(c.rows.reshape(-1)[corners])


def positions(laying: Laying, c: Cut) -> Floats:
    """UVs (W, 2) of the rows; NaN where they have none."""
    out = np.full((c.count, 2), np.nan)
    out[c.rows.reshape(-1)] = laying.uv.reshape(-1, 2)
    return out


def weights(skin: Skin, laying: Laying, c: Cut, picked: Numbers, reach: float) -> Floats:
    """How much each row (W,) follows picked ones: 1 for these, falling to 0 at a distance of `reach` along the edges of their islands."""
    out = np.zeros(c.count)
    if reach > 0:
        uv = positions(laying, c)
        rows = c.rows[~laying.bare]
        i, j = rows.reshape(-1), np.roll(rows, -1, axis=1).reshape(-1)
        length = np.maximum(np.linalg.norm(uv[i] - uv[j], axis=1), 1e-12)
        pairs, slot = np.unique(np.minimum(i, j) * c.count + np.maximum(i, j), return_inverse=True)
        far = np.full(len(pairs), np.inf)
        np.minimum.at(far, slot.reshape(-1), length)
        graph = coo_matrix((far, (pairs // c.count, pairs % c.count)), shape=(c.count, c.count)).tocsr()
        away = dijkstra(graph, directed=False, indices=picked, limit=reach, min_only=True)
        near = np.isfinite(away)
        out[near] = (1 - (away[near] / reach) ** 2).clip(0) ** 2
    out[picked] = 1.0
    return out


def moved(skin: Skin, laying: Laying, corners: Numbers, by: Floats, reach: float = 0.0, refuse: bool = True) -> tuple[Laying, Mask]:
    """Points moved by (2,), with what is near after them; and the faces (F,) of the islands that changed.

    Raises
    ------
    QuiltError : faces would fold over, or an island overlap itself, where that is to be refused; nothing moves
    """
    c, picked = rows_of(skin, laying, corners)
    uv = positions(laying, c)
    return _placed(skin, laying, c, uv + weights(skin, laying, c, picked, reach)[:, None] * by, refuse)


def lined(skin: Skin, laying: Laying, corners: Numbers, how: str, refuse: bool = True) -> tuple[Laying, Mask]:
    """Points brought onto one line.

    Parameters
    ----------
    how : "row" all at one height, "column" all one below the other, "line" on the straight line between the two that are farthest apart

    Raises
    ------
    QuiltError : see `moved`; fewer than two points
    """
    if how not in LINES:
        raise QuiltError(f"'{how}' is no line: {', '.join(LINES)}.")
    c, picked = rows_of(skin, laying, corners)
    if len(picked) < 2:
        raise QuiltError("Pick two points at least to line them up.")
    uv = positions(laying, c)
    p = uv[picked]
    if how == "line":
        one = p[np.argmax(((p - p.mean(axis=0)) ** 2).sum(axis=1))]
        d = p[np.argmax(((p - one) ** 2).sum(axis=1))] - one
        goal = one + ((p - one) @ d / max(float(d @ d), 1e-300))[:, None] * d
    else:
        k = 1 if how == "row" else 0
        goal = p.copy()
        goal[:, k] = p[:, k].mean()
    out = uv.copy()
    out[picked] = goal
    return _placed(skin, laying, c, out, refuse)


def welded(skin: Skin, laying: Laying, corners: Numbers, near: float, refuse: bool = True) -> tuple[Laying, Mask]:
    """Points brought together with those of the same place in space that lie within a distance on the sheet, in their middle; edges whose both ends lie
    together then are no seams any more.

    Raises
    ------
    QuiltError : see `moved`; there is nothing near to weld them with
    """
    c, picked = rows_of(skin, laying, corners)
    uv = positions(laying, c)
    out = uv.copy()
    done = np.zeros(c.count, bool)
    count = 0
    for row in picked.tolist():
        same = np.flatnonzero((c.point == c.point[row]) & ~done)
        same = same[np.linalg.norm(uv[same] - uv[row], axis=1) <= near]
        if len(same) > 1:
            out[same] = uv[same].mean(axis=0)
            done[same] = True
            count += 1
    if not count:
        raise QuiltError("The other sides of these points lie farther away. Weld from farther, or sew the edges between them.")
    s = skin.surface
    rows = c.rows.reshape(-1)
    h = np.flatnonzero(laying.seam & (s.twin >= 0))
    t = s.twin[h]
    ends = np.maximum(
        np.linalg.norm(out[rows[h]] - out[rows[after(t)]], axis=1), np.linalg.norm(out[rows[after(h)]] - out[rows[t]], axis=1)
    )
    whole = (ends <= _SAME) & (done[rows[h]] | done[rows[after(h)]])
    seam = laying.seam.copy()
    seam[both_sides(s, h[whole])] = False
    new, touched = _placed(skin, laying, c, out, refuse, not whole.any())
    mine = np.isin(laying.island, np.unique(np.r_[laying.island[h[whole] // 3], laying.island[touched]]))
    return replace(new, seam=seam), mine


def parted(skin: Skin, laying: Laying, corners: Numbers) -> tuple[Laying, Mask]:
    """Seams along the edges between picked points, and of a point that has none of these along all of its edges; nothing moves.

    Raises
    ------
    QuiltError : there is no edge that could be parted
    """
    s = skin.surface
    c, picked = rows_of(skin, laying, corners)
    mark = np.zeros(c.count, bool)
    mark[picked] = True
    rows = c.rows.reshape(-1)
    may = allowed_edges(s, skin.cell) & (s.twin >= 0) & ~laying.seam & np.repeat(~laying.bare, 3)
    begin, end = mark[rows], mark[rows[after(np.arange(len(rows)))]]
    between = may & begin & end
    linked = np.zeros(c.count, bool)
    linked[rows[between]] = True
    linked[rows[after(np.flatnonzero(between))]] = True
    alone = mark & ~linked
    h = np.flatnonzero(between | (may & (alone[rows] | alone[rows[after(np.arange(len(rows)))]])))
    if not len(h):
        raise QuiltError("These points are parted already on all sides.")
    seam = laying.seam.copy()
    seam[both_sides(s, h)] = True
    return replace(laying, seam=seam), np.isin(laying.island, laying.island[h // 3]) & (laying.island >= 0)


def _placed(skin: Skin, laying: Laying, c: Cut, uv: Floats, refuse: bool, must: bool = True) -> tuple[Laying, Mask]:
    """The laying with other UVs (W, 2) of rows, and the faces of islands in which any moved; `must` any."""
    was = positions(laying, c)
    changed = (np.isfinite(was) & (uv != was)).any(axis=1)
    faces = changed[c.rows].any(axis=1) & ~laying.bare
    if must and not faces.any():
        raise QuiltError("Nothing moved: the points lie there already.")
    out = laying.uv.copy()
    out[faces] = uv[c.rows[faces]]
    mine = np.isin(laying.island, np.unique(laying.island[faces]))
    if refuse:
        why = _worse(laying, out, mine)
        if why:
            raise QuiltError(f"{why} Move less, or let it fold.")
    return replace(laying, uv=out), mine


def _worse(laying: Laying, uv: Floats, mine: Mask) -> str:
    """What a change of some islands' faces (F,) folds or lays double that was not; empty for nothing."""
    for island in np.unique(laying.island[mine]).tolist():
        faces = np.flatnonzero(laying.island == island)
        before, now = signed_areas(laying.uv[faces]), signed_areas(uv[faces])
        way = 1.0 if before.sum() >= 0 else -1.0
        folds = int(((way * now <= 0) & (way * before > 0)).sum())
        if folds:
            return f"{folds} {'triangle' if folds == 1 else 'triangles'} would fold over."
        if len(overlapping_faces(uv[faces])) > len(overlapping_faces(laying.uv[faces])):
            return "The island would overlap itself."
    return ""
