"""Exact compaction: all islands moved a little at once, so that the tile gets as small as it can.

A linear programme over the shifts of all islands and the side S of the tile. Two edges of two islands
have a closest pair of points; the strip between these, across their connection, parts the edges, and keeps
them parted when the islands shift as long as the shifts along it leave the padding. So one row for every
near pair of edges is enough, and a solution is feasible exactly, not only to first order.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numba import njit
from numpy.typing import NDArray
from scipy.sparse import coo_matrix

from ..model.scene import Floats
from .shapes import SIMPLIFY, Shapes

_MOST_ROWS = 400_000
_FEW_ROWS = 5_000


@dataclass(frozen=True)
class Gaps:
    """Padding and margin in units as straight lines of the side S: at + per * S."""

    pad_at: float
    pad_per: float
    margin_at: float
    margin_per: float

    def pad(self, side: float) -> float:
        """Padding in units between simplified outlines."""
        return self.pad_at + self.pad_per * side

    def margin(self, side: float) -> float:
        """Margin in units of simplified outlines."""
        return self.margin_at + self.margin_per * side


@dataclass(frozen=True)
class State:
    """A layout in units: centres (n, 2) within their tile, pose (n,), tile (n,), and the side of the tiles.

    A tile whose map has r times the reference resolution is r times as wide: it takes the same density.
    """

    at: Floats
    pose: NDArray[np.int64]
    tile: NDArray[np.int64]
    side: float


@dataclass(frozen=True)
class Frame:
    """What bounds a layout beside its gaps: the tiles' `ratio` (tiles,) of resolution, and the islands `held` (n,).

    Held islands keep their place in the tile. In units they are `factor` (n,) of their own units large at the side
    `held_side`, and shrink and grow with the side; with no `held_side` (a density is held) nothing changes size.
    """

    ratio: Floats
    held: NDArray[np.bool_]
    factor: Floats
    held_side: float | None = None

    def size(self, side: float) -> Floats:
        """Factor (n,) on each island's own units."""
        grown = self.factor if self.held_side is None else self.factor * (side / self.held_side)
        return np.where(self.held, grown, 1.0)

    def moved(self, state: State, side: float) -> State:
        """The state in tiles of another side: held islands where they belong, the others spread in proportion."""
        share = side / state.side
        if self.held_side is not None:
            return replace(state, at=state.at * share, side=side)
        return replace(state, at=np.where(self.held[:, None], state.at, state.at * share), side=side)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _cross(x, y, a, b, c, d):  # type: ignore[no-untyped-def]
    """Whether the edges a-b and c-d cross each other."""
    ab_c = (x[b] - x[a]) * (y[c] - y[a]) - (y[b] - y[a]) * (x[c] - x[a])
    ab_d = (x[b] - x[a]) * (y[d] - y[a]) - (y[b] - y[a]) * (x[d] - x[a])
    cd_a = (x[d] - x[c]) * (y[a] - y[c]) - (y[d] - y[c]) * (x[a] - x[c])
    cd_b = (x[d] - x[c]) * (y[b] - y[c]) - (y[d] - y[c]) * (x[b] - x[c])
    return (ab_c > 0) != (ab_d > 0) and (cd_a > 0) != (cd_b > 0)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _near_edges(x, y, follows, first, held, box, pi, pj, reach, out_i, out_f):  # type: ignore[no-untyped-def]
    """For every near pair of edges of two islands: (i, j), unit vector from j to i, distance. -1 if no room.

    Crossing edges have a negative distance. With a held island there is a row for each end of its edge: the end's
    and the closest point's position along the vector come fourth and fifth.

    Cost: edges of one island near the other's box, times the other's near this one's box.
    """
    n = 0
    size = 0
    for i in range(first.shape[0] - 1):
        size = max(size, first[i + 1] - first[i])
    near_a, near_b = np.empty(size, np.int64), np.empty(size, np.int64)
    for p in range(pi.shape[0]):
        i, j = pi[p], pj[p]
        lx, ly = max(box[i, 0], box[j, 0]) - reach, max(box[i, 1], box[j, 1]) - reach
        hx, hy = min(box[i, 2], box[j, 2]) + reach, min(box[i, 3], box[j, 3]) + reach
        na = nb = 0
        for side in range(2):
            s = i if side == 0 else j
            for v in range(first[s], first[s + 1]):
                w = follows[v]
                if max(x[v], x[w]) < lx or min(x[v], x[w]) > hx or max(y[v], y[w]) < ly or min(y[v], y[w]) > hy:
                    continue
                if side == 0:
                    near_a[na] = v
                    na += 1
                else:
                    near_b[nb] = v
                    nb += 1
        for ea in range(na):
            a, b = near_a[ea], follows[near_a[ea]]
            for eb in range(nb):
                c, d = near_b[eb], follows[near_b[eb]]
                if min(x[a], x[b]) > max(x[c], x[d]) + reach or min(x[c], x[d]) > max(x[a], x[b]) + reach:
                    continue
                if min(y[a], y[b]) > max(y[c], y[d]) + reach or min(y[c], y[d]) > max(y[a], y[b]) + reach:
                    continue
                best = reach * reach
                vx = vy = qx = qy = 0.0
                for case in range(4):
                    if case == 0:
                        q, e, f, sign = a, c, d, 1.0
                    elif case == 1:
                        q, e, f, sign = b, c, d, 1.0
                    elif case == 2:
                        q, e, f, sign = c, a, b, -1.0
                    else:
                        q, e, f, sign = d, a, b, -1.0
                    ex, ey = x[f] - x[e], y[f] - y[e]
                    px, py = x[q] - x[e], y[q] - y[e]
                    length2 = ex * ex + ey * ey
                    t = 0.0 if length2 <= 0.0 else min(1.0, max(0.0, (px * ex + py * ey) / length2))
                    px -= t * ex
                    py -= t * ey
                    dist2 = px * px + py * py
                    if dist2 < best:
                        best, vx, vy = dist2, sign * px, sign * py
                        qx, qy = (x[e] + t * ex, y[e] + t * ey) if sign > 0 else (x[q], y[q])
                dist = math.sqrt(best)
                if dist >= reach or dist < 1e-9:
                    continue
                vx, vy = vx / dist, vy / dist
                if _cross(x, y, a, b, c, d):
                    # The end that pokes through goes back the way it came.
                    vx, vy, dist = -vx, -vy, -dist
                same = False
                fixed = held[i] or held[j]
                for r in range(max(0, n - 6), n):
                    if (
                        not fixed
                        and out_i[r, 0] == i
                        and out_i[r, 1] == j
                        and abs(out_f[r, 0] - vx) < 1e-12
                        and abs(out_f[r, 1] - vy) < 1e-12
                    ):
                        out_f[r, 2] = min(out_f[r, 2], dist)
                        same = True
                        break
                if same:
                    continue
                ends = 2 if fixed else 1
                if n + ends > out_i.shape[0]:
                    return -1
                for end in range(ends):
                    out_i[n, 0], out_i[n, 1] = i, j
                    out_f[n, 0], out_f[n, 1], out_f[n, 2] = vx, vy, dist
                    v = (a if end == 0 else b) if held[i] else (c if end == 0 else d)
                    out_f[n, 3] = vx * x[v] + vy * y[v]
                    out_f[n, 4] = vx * qx + vy * qy
                    n += 1
    return n


def _outlines(shapes: Shapes, state: State, frame: Frame) -> tuple[Floats, Floats]:
    owner = np.repeat(np.arange(shapes.count), np.diff(shapes.first))
    x, y = shapes.along(state.pose)
    size = frame.size(state.side)[owner]
    return state.at[owner, 0] + size * x, state.at[owner, 1] + size * y


def _rows(shapes: Shapes, state: State, gaps: Gaps, frame: Frame, reach: float) -> tuple[coo_matrix, Floats] | None:
    """The programme's rows over (x shifts, y shifts, side): matrix, limit."""
    n = shapes.count
    x, y = _outlines(shapes, state, frame)
    cut = shapes.first[:-1]
    box = np.column_stack([f.reduceat(v, cut) for f in (np.minimum, np.maximum) for v in (x, y)])
    far = gaps.pad(state.side) + 2.8285 * reach
    boxes = shapely.box(box[:, 0], box[:, 1], box[:, 2], box[:, 3])
    i, j = shapely.STRtree(boxes).query(boxes, predicate="dwithin", distance=far)
    use = (i < j) & (state.tile[i] == state.tile[j]) & ~(frame.held[i] & frame.held[j])
    out_i, out_f = np.empty((_MOST_ROWS, 2), np.int64), np.empty((_MOST_ROWS, 5))
    rows = _near_edges(x, y, shapes.follows, shapes.first, frame.held, box, i[use], j[use], far, out_i, out_f)
    if rows < 0:
        return None
    a, b, f = out_i[:rows, 0], out_i[:rows, 1], out_f[:rows]
    free = np.flatnonzero(~frame.held)
    r, q, one = np.arange(rows), np.arange(len(free)), np.ones(len(free))
    # A point of a held island at h along the vector is at h * side / side now: that joins the padding's share of the side.
    moves = frame.held & (frame.held_side is not None)
    ha, hb = moves[a], moves[b]
    per_side = gaps.pad_per + (hb * 1.0 - ha) * f[:, 3] / state.side
    limit = f[:, 2] - gaps.pad_at - ha * (f[:, 4] + f[:, 2]) + hb * f[:, 4]
    row = np.concatenate([r, r, r, r, r, *(rows + k * len(free) + q for k in range(4) for _ in range(2))])
    side = np.full(len(free), 2 * n)
    col = np.concatenate([a, a + n, b, b + n, np.full(rows, 2 * n), free, side, free + n, side, free, side, free + n, side])
    m, wide = gaps.margin_per, frame.ratio[state.tile[free]]
    value = np.concatenate([-f[:, 0], -f[:, 1], f[:, 0], f[:, 1], per_side, -one, m * one, -one, m * one] + [one, m - wide, one, m - wide])
    borders = [box[free, k] - gaps.margin_at for k in (0, 1)] + [-box[free, k] - gaps.margin_at for k in (2, 3)]
    return coo_matrix((value, (row, col)), shape=(rows + 4 * len(free), 2 * n + 1)), np.concatenate([limit, *borders])


def step(shapes: Shapes, state: State, gaps: Gaps, frame: Frame, reach: float, grow: float = 1.0) -> State | None:
    """One linear programme: shifts of at most `reach` units, the side as small as possible; None if it fails.

    The side may grow to `grow` times its value, for layouts that do not keep the gaps yet.
    """
    n = shapes.count
    made = _rows(shapes, state, gaps, frame, reach)
    while reach > 0.8 and (made is None or made[0].shape[0] > _FEW_ROWS + 4 * n):
        # Shorter shifts have fewer rows: several quick steps get farther than one slow one.
        reach *= 0.5
        made = _rows(shapes, state, gaps, frame, reach)
    if made is None:
        return None
    matrix, limit = made
    cost = np.zeros(2 * n + 1)
    cost[-1] = 1.0
    room = np.tile(np.where(frame.held, 0.0, reach), 2)
    bounds = np.column_stack([-room, room])
    bounds = np.vstack([bounds, [0.9 * state.side, grow * state.side]])
    # The simplex method is quicker on small programmes, and now and then a hundred times slower on large ones.
    large = matrix.shape[0] > 4000
    options = {"time_limit": 15.0 if large else 2.0}
    from scipy.optimize import linprog  # loads for as long as a small packing takes

    found = linprog(cost, A_ub=matrix.tocsc(), b_ub=limit, bounds=bounds, method="highs-ipm" if large else "highs-ds", options=options)
    if found.x is None or found.status != 0:
        return None
    side = float(found.x[-1])
    at = state.at + np.column_stack([found.x[:n], found.x[n : 2 * n]])
    if frame.held_side is not None:
        at[frame.held] = state.at[frame.held] * (side / state.side)
    return replace(state, at=at, side=side)


def compact(shapes: Shapes, state: State, gaps: Gaps, frame: Frame, steps: int = 6, reach: float = 3.0, grow: float = 1.0) -> State | None:
    """The layout drawn together: several steps, each around where the last one ended; None when the first fails.

    With `grow` above 1 the layout may break the gaps at first; it is mended in the first step or not at all.
    """
    better = step(shapes, state, gaps, frame, reach, grow)
    if better is None:
        return None
    for _ in range(steps - 1):
        gain = 1.0 - better.side / state.side
        state = better
        if abs(gain) < 2e-4:
            break
        found = step(shapes, state, gaps, frame, reach)
        if found is None or found.side > state.side:
            break
        better = found
    return better


def exact_gaps(padding_px: float, margin_px: float, map_px: float, hold_side: float | None) -> Gaps:
    """Gaps between simplified outlines that promise `padding_px` and `margin_px` between the true ones.

    With a held density the tile's side in units is `hold_side`, and so is the size of a pixel.
    """
    # 0.0006 px covers the rounding of 32-bit UVs at 8192 px and of the decimals of text formats.
    pad, margin = padding_px + 0.0006, margin_px + 0.0006
    if hold_side is None:
        return Gaps(2 * SIMPLIFY, pad / map_px, SIMPLIFY, margin / map_px)
    return Gaps(2 * SIMPLIFY + pad * hold_side / map_px, 0.0, SIMPLIFY + margin * hold_side / map_px, 0.0)
