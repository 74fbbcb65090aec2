"""Numba kernels on placed islands: convex pieces for shared area, outline segments for distance.

All of them are pure functions of the two islands of a pair, so that a pair measured alone and the same pair measured among all others give
the same bits: that is what lets an incremental measure equal a full one.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _turn(angle):  # type: ignore[no-untyped-def]
    """Cosine and sine, exact at multiples of 90 degrees."""
    c, s = math.cos(angle), math.sin(angle)
    if abs(c * s) < 1e-9:
        c, s = np.round(c), np.round(s)
    return c, s


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def place_points(points, first, rows, which, out):  # type: ignore[no-untyped-def]
    """Points of the islands `which` (k,), moved by their similarities.

    points (P, 2 m) m points a line; first (n + 1,) lines of each island; rows (n, 5); out (lines of `which`, 2 m) in their order. O(lines).
    """
    at = 0
    for w in which:
        c, s = _turn(rows[w, 0])
        mirror, scale, u0, v0 = rows[w, 1], rows[w, 2], rows[w, 3], rows[w, 4]
        for p in range(first[w], first[w + 1]):
            for k in range(0, points.shape[1], 2):
                u, v = points[p, k] * mirror, points[p, k + 1]
                out[at, k] = scale * (c * u - s * v) + u0
                out[at, k + 1] = scale * (s * u + c * v) + v0
            at += 1


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def boxes_of(points, first, rows, which, out):  # type: ignore[no-untyped-def]
    """Boxes (k, 4) of the islands `which` (k,) as `rows` (n, 5) place them; NaN for those without points. O(points)."""
    for q in range(which.shape[0]):
        w = which[q]
        if first[w] == first[w + 1]:
            out[q, :] = np.nan
            continue
        c, s = _turn(rows[w, 0])
        mirror, scale, u0, v0 = rows[w, 1], rows[w, 2], rows[w, 3], rows[w, 4]
        a, b, e, f = np.inf, np.inf, -np.inf, -np.inf
        for p in range(first[w], first[w + 1]):
            u, v = points[p, 0] * mirror, points[p, 1]
            x = scale * (c * u - s * v) + u0
            y = scale * (s * u + c * v) + v0
            a, b, e, f = min(a, x), min(b, y), max(e, x), max(f, y)
        out[q, 0], out[q, 1], out[q, 2], out[q, 3] = a, b, e, f


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _clip(a, b, px, py, qx, qy):  # type: ignore[no-untyped-def]
    """Area of the common part of two triangles and its centroid, relative to the first corner of `a` (Sutherland and Hodgman 1974).

    a, b (6,) corners, either way round; px, py, qx, qy (9,) scratch.
    """
    ox, oy = a[0], a[1]
    ax1, ay1, ax2, ay2 = a[2] - ox, a[3] - oy, a[4] - ox, a[5] - oy
    if ax1 * ay2 - ay1 * ax2 < 0.0:
        ax1, ay1, ax2, ay2 = ax2, ay2, ax1, ay1
    px[0], py[0], px[1], py[1], px[2], py[2] = 0.0, 0.0, ax1, ay1, ax2, ay2
    n = 3
    bx0, by0, bx1, by1, bx2, by2 = b[0] - ox, b[1] - oy, b[2] - ox, b[3] - oy, b[4] - ox, b[5] - oy
    if (bx1 - bx0) * (by2 - by0) - (by1 - by0) * (bx2 - bx0) < 0.0:
        bx1, by1, bx2, by2 = bx2, by2, bx1, by1
    for k in range(3):
        if k == 0:
            ex, ey, fx, fy = bx0, by0, bx1, by1
        elif k == 1:
            ex, ey, fx, fy = bx1, by1, bx2, by2
        else:
            ex, ey, fx, fy = bx2, by2, bx0, by0
        dx, dy = fx - ex, fy - ey
        m = 0
        hx, hy = px[n - 1], py[n - 1]
        hs = dx * (hy - ey) - dy * (hx - ex)
        for i in range(n):
            gx, gy = px[i], py[i]
            gs = dx * (gy - ey) - dy * (gx - ex)
            if (gs >= 0.0) != (hs >= 0.0):
                t = hs / (hs - gs)
                qx[m], qy[m] = hx + t * (gx - hx), hy + t * (gy - hy)
                m += 1
            if gs >= 0.0:
                qx[m], qy[m] = gx, gy
                m += 1
            hx, hy, hs = gx, gy, gs
        n = m
        if n < 3:
            return 0.0, 0.0, 0.0
        for i in range(n):
            px[i], py[i] = qx[i], qy[i]
    area = 0.0
    cx, cy = 0.0, 0.0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        cross = px[i] * py[j] - px[j] * py[i]
        area += cross
        cx += px[i]
        cy += py[i]
    return 0.5 * area, cx / n + ox, cy / n + oy


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def shared_areas(tri, first, box, i, j, area, at):  # type: ignore[no-untyped-def]
    """Area (k,) that the islands of each pair share, and a place (k, 2) inside the largest shared piece.

    tri (T, 6) placed convex pieces that do not overlap within an island; first (n + 1,); box (n, 4); i < j (k,). Pieces outside the
    other island's box are passed over. O(pieces of i near j x pieces of j near i).
    """
    px, py, qx, qy = np.empty(9), np.empty(9), np.empty(9), np.empty(9)
    for q in range(i.shape[0]):
        a, b = i[q], j[q]
        l0, l1 = max(box[a, 0], box[b, 0]), max(box[a, 1], box[b, 1])
        h0, h1 = min(box[a, 2], box[b, 2]), min(box[a, 3], box[b, 3])
        total, best = 0.0, 0.0
        for s in range(first[a], first[a + 1]):
            s0, s2 = min(tri[s, 0], tri[s, 2], tri[s, 4]), max(tri[s, 0], tri[s, 2], tri[s, 4])
            if s2 <= l0 or s0 >= h0:
                continue
            s1, s3 = min(tri[s, 1], tri[s, 3], tri[s, 5]), max(tri[s, 1], tri[s, 3], tri[s, 5])
            if s3 <= l1 or s1 >= h1:
                continue
            for t in range(first[b], first[b + 1]):
                if max(tri[t, 0], tri[t, 2], tri[t, 4]) <= s0 or min(tri[t, 0], tri[t, 2], tri[t, 4]) >= s2:
                    continue
                if max(tri[t, 1], tri[t, 3], tri[t, 5]) <= s1 or min(tri[t, 1], tri[t, 3], tri[t, 5]) >= s3:
                    continue
                found, x, y = _clip(tri[s], tri[t], px, py, qx, qy)
                total += found
                if found > best:
                    best = found
                    at[q, 0], at[q, 1] = x, y
        area[q] = total


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _closest_points(a, b):  # type: ignore[no-untyped-def]
    """Squared distance of two segments and the middle between their closest points; 0 where they cross. a, b (4,)."""
    ax, ay, bx, by = a[0], a[1], a[2], a[3]
    cx, cy, dx, dy = b[0], b[1], b[2], b[3]
    rx, ry, sx, sy = bx - ax, by - ay, dx - cx, dy - cy
    cross = rx * sy - ry * sx
    if cross != 0.0:
        t = ((cx - ax) * sy - (cy - ay) * sx) / cross
        u = ((cx - ax) * ry - (cy - ay) * rx) / cross
        if 0.0 <= t <= 1.0 and 0.0 <= u <= 1.0:
            return 0.0, ax + t * rx, ay + t * ry
    best, mx, my = np.inf, 0.0, 0.0
    for k in range(4):
        if k == 0:
            x, y, ex, ey, fx, fy = ax, ay, cx, cy, sx, sy
        elif k == 1:
            x, y, ex, ey, fx, fy = bx, by, cx, cy, sx, sy
        elif k == 2:
            x, y, ex, ey, fx, fy = cx, cy, ax, ay, rx, ry
        else:
            x, y, ex, ey, fx, fy = dx, dy, ax, ay, rx, ry
        length = fx * fx + fy * fy
        w = 0.0 if length == 0.0 else min(1.0, max(0.0, ((x - ex) * fx + (y - ey) * fy) / length))
        gx, gy = ex + w * fx, ey + w * fy
        d = (x - gx) * (x - gx) + (y - gy) * (y - gy)
        if d < best:
            best, mx, my = d, 0.5 * (x + gx), 0.5 * (y + gy)
    return best, mx, my


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def distances(seg, first, box, i, j, reach, distance, at):  # type: ignore[no-untyped-def]
    """Distance (k,) of the outlines of each pair and the middle (k, 2) of the gap; infinite where it is `reach` (k,) or more.

    seg (S, 4) placed segments; first (n + 1,); box (n, 4). Segments farther than the least so far from the other's box are passed over.
    """
    for q in range(i.shape[0]):
        a, b = i[q], j[q]
        limit = reach[q] * reach[q]
        found = False
        for s in range(first[a], first[a + 1]):
            s0, s2 = min(seg[s, 0], seg[s, 2]), max(seg[s, 0], seg[s, 2])
            s1, s3 = min(seg[s, 1], seg[s, 3]), max(seg[s, 1], seg[s, 3])
            dx = max(0.0, box[b, 0] - s2, s0 - box[b, 2])
            dy = max(0.0, box[b, 1] - s3, s1 - box[b, 3])
            if dx * dx + dy * dy >= limit:
                continue
            for t in range(first[b], first[b + 1]):
                dx = max(0.0, min(seg[t, 0], seg[t, 2]) - s2, s0 - max(seg[t, 0], seg[t, 2]))
                if dx * dx >= limit:
                    continue
                dy = max(0.0, min(seg[t, 1], seg[t, 3]) - s3, s1 - max(seg[t, 1], seg[t, 3]))
                if dx * dx + dy * dy >= limit:
                    continue
                d, x, y = _closest_points(seg[s], seg[t])
                if d < limit:
                    limit, found = d, True
                    at[q, 0], at[q, 1] = x, y
        distance[q] = math.sqrt(limit) if found else np.inf


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def insert_best(island, other, value, at, partner, best, place):  # type: ignore[no-untyped-def]
    """Put entries (k,) into the short lists of their islands, the least `value` first, of equal ones the lower partner.

    partner (n, D) int32, -1 beyond the end; best (n, D); place (n, D, 2) float32. O(k D).
    """
    size = partner.shape[1]
    for q in range(island.shape[0]):
        a, b, v = island[q], other[q], value[q]
        k = size
        while k > 0 and (partner[a, k - 1] < 0 or v < best[a, k - 1] or (v == best[a, k - 1] and b < partner[a, k - 1])):
            k -= 1
        if k == size:
            continue
        for m in range(size - 1, k, -1):
            partner[a, m], best[a, m] = partner[a, m - 1], best[a, m - 1]
            place[a, m, 0], place[a, m, 1] = place[a, m - 1, 0], place[a, m - 1, 1]
        partner[a, k], best[a, k] = b, v
        place[a, k, 0], place[a, k, 1] = at[q, 0], at[q, 1]


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def drop_partners(gone, partner, best, place, shortened):  # type: ignore[no-untyped-def]
    """Take the partners that are `gone` (n,) out of all short lists; `shortened` (n,) tells which lists were full and lost one. O(n D)."""
    n, size = partner.shape
    for a in range(n):
        m = 0
        full = size > 0 and partner[a, size - 1] >= 0
        for k in range(size):
            b = partner[a, k]
            if b < 0:
                break
            if gone[b]:
                continue
            if m < k:
                partner[a, m], best[a, m] = b, best[a, k]
                place[a, m, 0], place[a, m, 1] = place[a, k, 0], place[a, k, 1]
            m += 1
        if full and m < size:
            shortened[a] = True
        for k in range(m, size):
            partner[a, k] = -1
            best[a, k] = 0.0
            place[a, k, 0], place[a, k, 1] = 0.0, 0.0
