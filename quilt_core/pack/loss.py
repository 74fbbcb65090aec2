"""How much two islands lie in each other, as the search weighs it.

The smaller island's points ask the larger one's distance field: the sum of length x (padding - distance) over
all points nearer than the padding, its square root, times both islands' weights by size. The root keeps small
contacts from being ignored, the weight keeps large islands from being treated like small ones (an overlap proxy
with a shape penalty, after Gardeyn and Wauters 2025, from memory; measured in docs/packing.md).
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

_ZERO, _ONE = np.float32(0.0), np.float32(1.0)


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator]
def _outside(point, cluster, group, grid, begin, end, off, w, h, cell, pad, m00, m01, m10, m11, tx, ty, grow, most, coarse):  # type: ignore[no-untyped-def]
    """Points of island a against a field that they should keep out of. Nothing beyond the grid counts.

    m, t map a's units to grid nodes; `cell` and `pad` in the field's units; `grow` turns a's lengths into those.
    """
    total = _ZERO
    wide, high = np.float32(w - 1), np.float32(h - 1)
    slack = np.float32(0.75) * cell
    half = np.float32(0.5)
    for g in range(begin, end):
        u = m00 * group[g].x + m01 * group[g].y + tx
        v = m10 * group[g].x + m11 * group[g].y + ty
        r = group[g].radius * grow
        beyond = max(max(-u, u - wide), max(-v, v - high))
        if beyond > _ZERO:
            if beyond * cell > r:
                continue
        else:
            d = grid[off + int(v + half) * w + int(u + half)]
            if d - slack > r + pad:
                continue
            if d + slack < -r:
                total += group[g].length * (pad - d)
                if total > most:
                    return total
                continue
        for k in range(group[g].begin, group[g].end):
            u = m00 * cluster[k].x + m01 * cluster[k].y + tx
            v = m10 * cluster[k].x + m11 * cluster[k].y + ty
            r = cluster[k].radius * grow
            beyond = max(max(-u, u - wide), max(-v, v - high))
            if beyond > _ZERO:
                if beyond * cell > r or coarse:
                    continue
            else:
                d = grid[off + int(v + half) * w + int(u + half)]
                if d - slack > r + pad:
                    continue
                if d + slack < -r or coarse:
                    if d < pad:
                        total += cluster[k].length * (pad - d)
                    continue
            for p in range(cluster[k].begin, cluster[k].end):
                u = m00 * point[p].x + m01 * point[p].y + tx
                v = m10 * point[p].x + m11 * point[p].y + ty
                if u < _ZERO or v < _ZERO or u >= wide or v >= high:
                    continue
                iu, iv = int(u), int(v)
                fu, fv = u - np.float32(iu), v - np.float32(iv)
                q = off + iv * w + iu
                d = (grid[q] * (_ONE - fu) + grid[q + 1] * fu) * (_ONE - fv) + (grid[q + w] * (_ONE - fu) + grid[q + w + 1] * fu) * fv
                if d < pad:
                    total += point[p].length * (pad - d)
        if total > most:
            return total
    return total


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator]
def _within(point, cluster, group, grid, begin, end, off, w, h, cell, pad, m00, m01, m10, m11, tx, ty, grow, most, coarse):  # type: ignore[no-untyped-def]
    """Points of island a against the depths of a hole that they should all lie in; beyond the grid, the way back counts."""
    total = _ZERO
    wide, high = np.float32(w) - np.float32(1.001), np.float32(h) - np.float32(1.001)
    slack = np.float32(0.75) * cell
    half = np.float32(0.5)
    for k in range(group[begin].begin, group[end - 1].end):
        u = m00 * cluster[k].x + m01 * cluster[k].y + tx
        v = m10 * cluster[k].x + m11 * cluster[k].y + ty
        cu, cv = min(max(u, _ZERO), wide), min(max(v, _ZERO), high)
        d = grid[off + int(cv + half) * w + int(cu + half)] - (abs(u - cu) + abs(v - cv)) * cell
        r = cluster[k].radius * grow
        if d - slack > r + pad:
            continue
        if d + slack < -r or coarse:
            if d < pad:
                total += cluster[k].length * (pad - d)
        else:
            for p in range(cluster[k].begin, cluster[k].end):
                u = m00 * point[p].x + m01 * point[p].y + tx
                v = m10 * point[p].x + m11 * point[p].y + ty
                cu, cv = min(max(u, _ZERO), wide), min(max(v, _ZERO), high)
                iu, iv = int(cu), int(cv)
                fu, fv = cu - np.float32(iu), cv - np.float32(iv)
                q = off + iv * w + iu
                d = (grid[q] * (_ONE - fu) + grid[q + 1] * fu) * (_ONE - fv) + (grid[q + w] * (_ONE - fu) + grid[q + w + 1] * fu) * fv
                d -= (abs(u - cu) + abs(v - cv)) * cell
                if d < pad:
                    total += point[p].length * (pad - d)
        if total > most:
            return total
    return total


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator]
def pair_loss(f, sa, i, xi, yi, ki, sb, j, xj, yj, kj, pad, most, coarse):  # type: ignore[no-untyped-def]
    """Loss of islands i and j at centres (x, y) in poses k, 0 when they keep `pad` units. Exact up to `most`, above it a lower bound.

    `sa`, `sb`: factor on each island's own units (not 1 for islands that are held while the others are scaled).
    With `coarse` a cluster counts as its middle.
    """
    if f.island[i].diameter * sa > f.island[j].diameter * sb:
        i, xi, yi, ki, sa, j, xj, yj, kj, sb = j, xj, yj, kj, sb, i, xi, yi, ki, sa
    a, b = f.island[i], f.island[j]
    p, q = f.pose[ki], f.pose[kj]
    cell = b.cell
    per_node = 1.0 / (sb * cell)
    by = sa * per_node
    m00, m01 = np.float32((q[0] * p[0] + q[2] * p[2]) * by), np.float32((q[0] * p[1] + q[2] * p[3]) * by)
    m10, m11 = np.float32((q[1] * p[0] + q[3] * p[2]) * by), np.float32((q[1] * p[1] + q[3] * p[3]) * by)
    dx, dy = xi - xj, yi - yj
    tx = np.float32((q[0] * dx + q[2] * dy) * per_node - b.left / cell)
    ty = np.float32((q[1] * dx + q[3] * dy) * per_node - b.low / cell)
    grow, gap = np.float32(sa / sb), np.float32(pad / sb)
    shape = a.weight * b.weight
    unit = np.float32(sa * sb)
    cut = np.float32((most / shape) ** 2 / unit) if most < 1e15 else np.float32(1e30)
    w, h = int(b.wide), int(b.high)
    off = b.at if b.hollow < 0 else b.filled
    if tx >= _ZERO and ty >= _ZERO and tx <= np.float32(w - 1) and ty <= np.float32(h - 1):
        # Most pairs are told apart by the smaller one's circle alone.
        node = int(ty + np.float32(0.5)) * w + int(tx + np.float32(0.5))
        clear = a.radius * grow + gap + np.float32(0.75) * cell
        if f.grid[off + node] > clear or (b.hollow >= 0 and f.grid[b.hollow + node] > clear):
            return 0.0
    total = _outside(
        f.point, f.cluster, f.group, f.grid, a.begin, a.end, off, w, h, cell, gap, m00, m01, m10, m11, tx, ty, grow, cut, coarse
    )
    if b.hollow >= 0 and total > _ZERO:
        cut = min(cut, total)
        inside = _within(
            f.point, f.cluster, f.group, f.grid, a.begin, a.end, b.hollow, w, h, cell, gap, m00, m01, m10, m11, tx, ty, grow, cut, coarse
        )
        total = min(total, inside)
    if total <= np.float32(1e-6):
        return 0.0
    return math.sqrt(total * unit) * shape
