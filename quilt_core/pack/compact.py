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
from scipy.optimize import linprog
from scipy.sparse import coo_matrix

from ..scene import Floats
from .shapes import SIMPLIFY, Shapes, cos_sin

_MOST_ROWS = 400_000


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
    """A layout in units: centres (n, 2) within their tile, turn (n,), tile (n,), and the side of every tile."""

    at: Floats
    turn: NDArray[np.int64]
    tile: NDArray[np.int64]
    side: float


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _near_edges(x, y, follows, first, box, pi, pj, reach, out_i, out_f):  # type: ignore[no-untyped-def]
    """For every near pair of edges of two islands: (i, j), unit vector from j to i, distance. -1 if no room.

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
                vx = vy = 0.0
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
                dist = math.sqrt(best)
                if dist >= reach or dist < 1e-9:
                    continue
                vx, vy = vx / dist, vy / dist
                same = False
                for r in range(max(0, n - 6), n):
                    if out_i[r, 0] == i and out_i[r, 1] == j and abs(out_f[r, 0] - vx) < 1e-12 and abs(out_f[r, 1] - vy) < 1e-12:
                        out_f[r, 2] = min(out_f[r, 2], dist)
                        same = True
                        break
                if same:
                    continue
                if n >= out_i.shape[0]:
                    return -1
                out_i[n, 0], out_i[n, 1] = i, j
                out_f[n, 0], out_f[n, 1], out_f[n, 2] = vx, vy, dist
                n += 1
    return n


def _turned(shapes: Shapes, state: State) -> tuple[Floats, Floats]:
    owner = np.repeat(np.arange(shapes.count), np.diff(shapes.first))
    c, s = cos_sin(shapes.angle)
    c, s = c[state.turn][owner], s[state.turn][owner]
    x = state.at[owner, 0] + c * shapes.xy[:, 0] - s * shapes.xy[:, 1]
    y = state.at[owner, 1] + s * shapes.xy[:, 0] + c * shapes.xy[:, 1]
    return x, y


def step(shapes: Shapes, state: State, gaps: Gaps, reach: float) -> State | None:
    """One linear programme: shifts of at most `reach` units, the side as small as possible; None if it fails."""
    n = shapes.count
    x, y = _turned(shapes, state)
    cut = shapes.first[:-1]
    box = np.column_stack([f.reduceat(v, cut) for f in (np.minimum, np.maximum) for v in (x, y)])
    pad = gaps.pad(state.side)
    far = pad + 2.8285 * reach
    boxes = shapely.box(box[:, 0], box[:, 1], box[:, 2], box[:, 3])
    i, j = shapely.STRtree(boxes).query(boxes, predicate="dwithin", distance=far)
    use = (i < j) & (state.tile[i] == state.tile[j])
    out_i, out_f = np.empty((_MOST_ROWS, 2), np.int64), np.empty((_MOST_ROWS, 3))
    rows = _near_edges(x, y, shapes.follows, shapes.first, box, i[use], j[use], far, out_i, out_f)
    if rows < 0:
        return None
    a, b, f = out_i[:rows, 0], out_i[:rows, 1], out_f[:rows]
    r, q, one, side = np.arange(rows), np.arange(n), np.ones(n), np.full(n, 2 * n)
    row = np.concatenate([r, r, r, r, r, *(rows + k * n + q for k in range(4) for _ in range(2))])
    col = np.concatenate([a, a + n, b, b + n, np.full(rows, 2 * n), q, side, q + n, side, q, side, q + n, side])
    m = gaps.margin_per
    value = np.concatenate(
        [-f[:, 0], -f[:, 1], f[:, 0], f[:, 1], np.full(rows, gaps.pad_per), -one, m * one, -one, m * one]
        + [one, (m - 1) * one, one, (m - 1) * one]
    )
    limit = np.concatenate(
        [f[:, 2] - gaps.pad_at, *(box[:, k] - gaps.margin_at for k in (0, 1)), *(-box[:, k] - gaps.margin_at for k in (2, 3))]
    )
    matrix = coo_matrix((value, (row, col)), shape=(rows + 4 * n, 2 * n + 1)).tocsc()
    cost = np.zeros(2 * n + 1)
    cost[-1] = 1.0
    bounds = np.column_stack([np.full(2 * n + 1, -reach), np.full(2 * n + 1, reach)])
    bounds[-1] = 0.9 * state.side, state.side
    method = "highs-ipm" if n > 600 else "highs-ds"
    found = linprog(cost, A_ub=matrix, b_ub=limit, bounds=bounds, method=method, options={"time_limit": 20.0})
    if found.x is None or found.status != 0:
        return None
    return replace(state, at=state.at + np.column_stack([found.x[:n], found.x[n : 2 * n]]), side=float(found.x[-1]))


def compact(shapes: Shapes, state: State, gaps: Gaps, steps: int = 6, reach: float = 3.0) -> State:
    """The layout drawn together: several steps, each around where the last one ended. Never a larger side."""
    for _ in range(steps):
        better = step(shapes, state, gaps, reach)
        if better is None or better.side > state.side:
            break
        gain = 1.0 - better.side / state.side
        state = better
        if gain < 2e-4:
            break
    return state


def exact_gaps(padding_px: float, margin_px: float, map_px: float, hold_side: float | None) -> Gaps:
    """Gaps between simplified outlines that promise `padding_px` and `margin_px` between the true ones.

    With a held density the tile's side in units is `hold_side`, and so is the size of a pixel.
    """
    # 0.0006 px covers the rounding of 32-bit UVs at 8192 px and of the decimals of text formats.
    pad, margin = padding_px + 0.0006, margin_px + 0.0006
    if hold_side is None:
        return Gaps(2 * SIMPLIFY, pad / map_px, SIMPLIFY, margin / map_px)
    return Gaps(2 * SIMPLIFY + pad * hold_side / map_px, 0.0, SIMPLIFY + margin * hold_side / map_px, 0.0)
