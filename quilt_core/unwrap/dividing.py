"""Charts that do not lie flat, slit or split until they do."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, dijkstra

from ..model.scene import Floats
from .parting import overlapping_faces, separated
from .parts import allowed_edges, part_of, seam_cost
from .shorter import along_least_cuts, cells_of
from .slits import between_borders, sewn_where_they_touch, to_corners
from .threads import Stop
from .topology import Mask, Numbers, Surface
from .trial import NEARLY_ALL, Wish, judge, laid, tried

_ROUNDS = 14
_BAND = 0.25  # of the root of the smaller half's area: how far from where it is found a cut between halves may go
_MOST_PAIRS = 20_000  # of faces that lie over each other: with more a chart is split


def _halves(s: Surface, faces: Numbers, wish: Wish, must: Mask) -> Numbers:
    """Two labels (k,) for the faces of a chart, each half as alike in place and direction as can be, by ways along the surface."""
    part, h = part_of(s, faces)
    cells, cell, edge = cells_of(part, wish.cell[faces], must[h])
    n = len(cells.area)
    if n < 2:
        return np.zeros(len(faces), np.int64)
    area = np.maximum(cells.area, 1e-300)
    at = cells.at / np.sqrt(area.sum())
    normal = np.stack([np.bincount(cell, part.area * part.normal[:, k], n) for k in range(3)], axis=1) / area[:, None]
    keep = ~must[h][edge]
    i, j = cells.a[keep], cells.b[keep]
    if not len(i):
        return cell % 2
    step = np.linalg.norm(at[i] - at[j], axis=1) + np.linalg.norm(normal[i] - normal[j], axis=1) + 1e-9
    graph = coo_matrix((step, (i, j)), shape=(n, n)).tocsr()
    graph = graph.maximum(graph.T)
    parts, of = connected_components(graph, directed=False)
    if parts > 1:
        return of[cell].astype(np.int64)
    one = int(np.argmax(dijkstra(graph, directed=False, indices=0)))
    two = int(np.argmax(dijkstra(graph, directed=False, indices=one)))
    side = np.zeros(n, bool)
    for _ in range(3):
        far = dijkstra(graph, directed=False, indices=[one, two])
        side = far[1] < far[0]
        if side.all() or not side.any():
            break
        one, two = (int(_central(at, normal, area, m)) for m in (~side, side))
        if one == two:
            break
    if side.all() or not side.any():
        side = np.arange(n) >= n // 2
    # Needles side by side, each nearer to one end, would leave a comb.
    return along_least_cuts(cells, side.astype(np.int64), _BAND)[cell]


def _central(at: Floats, normal: Floats, area: Floats, mine: Mask) -> np.intp:
    """The cell nearest to the middle of some of them, in place and direction."""
    w = area[mine][:, None]
    both = np.hstack([at, normal])
    mean = (both[mine] * w).sum(axis=0) / w.sum()
    return np.flatnonzero(mine)[np.argmin(((both[mine] - mean) ** 2).sum(axis=1))]


def _free(s: Surface, faces: Numbers, uv: Floats, seam: Mask, wish: Wish) -> bool:
    """Part a chart that lies flat, but over itself: along the least cut between the sheets. Whether that was all it needed; UVs (k, 3, 2) of its faces."""
    pairs = overlapping_faces(uv)
    return bool(len(pairs)) and len(pairs) < _MOST_PAIRS and separated(s, wish.cell, faces, pairs, seam) == 0


def divided(
    s: Surface, seam: Mask, wish: Wish, stop: Stop, share: float = NEARLY_ALL, trial: bool = True, pending: Numbers | None = None
) -> Mask:
    """Seams under which every chart lies flat: what does not is slit, and split where that did not help. What is no trial is laid to the end each time.
    Only charts of `pending` faces (k,) are looked at, where there are any."""
    seam, may, cost = seam.copy(), allowed_edges(s, wish.cell), seam_cost(s)
    pending = np.arange(len(s.faces)) if pending is None else pending
    tried_before: set[tuple[str, int]] = set()
    for turn in range(_ROUNDS + 8):
        part, h = part_of(s, pending)
        if trial:
            c, b, f, found = tried(part, seam[h], 8 if turn < _ROUNDS else 20, stop, wish, share)
        else:
            c, b, f = laid(part, seam[h], 25, stop)
            found = judge(part, c, b, f, wish, share)
        if found.good.all():
            return seam
        left = []
        for chart in np.flatnonzero(~found.good).tolist():
            faces = pending[c.members[chart]]
            left.append(faces)

            def once(what: str, faces: Numbers = faces) -> bool:
                key = (what, int(faces[0]))
                fresh = key not in tried_before
                tried_before.add(key)
                return fresh

            if b.genus[chart] == 0:
                if found.hides[chart] and once("corners") and to_corners(s, faces, seam, may, cost):
                    continue
                if b.loops[chart] > 1 and not found.keeps[chart] and once("borders") and between_borders(s, faces, seam, may, cost):
                    continue
            if found.keeps[chart]:
                uv = f.uv[c.rows[c.members[chart]]]
                if once("touch") and sewn_where_they_touch(s, faces, uv, seam, wish.must):
                    continue
                if _free(s, faces, uv, seam, wish):
                    continue
            halves = np.full(len(s.faces), -1)
            halves[faces] = _halves(s, faces, wish, wish.must)
            inside = (3 * faces[:, None] + np.arange(3)).reshape(-1)
            twin = s.twin[inside]
            other = halves[np.maximum(twin, 0) // 3]
            between = (twin >= 0) & (other >= 0) & (other != halves[inside // 3])
            seam[inside[between]] = True
        pending = np.concatenate(left)
    return seam
