"""Polygons with any number of corners into triangles, for computing only; the file keeps its polygons."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

MANY = 256  # corners of a face from which its ears are looked for in another way


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _turn(p, h, j, k, u, v, s):  # type: ignore[no-untyped-def]
    """Twice the area of a triangle of corners in the plane of axes u and v, greater than 0 where it turns as the face does."""
    return s * ((p[j, u] - p[h, u]) * (p[k, v] - p[h, v]) - (p[j, v] - p[h, v]) * (p[k, u] - p[h, u]))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _cut_many(p, a, n, u, v, s, out, t):  # type: ignore[no-untyped-def]
    """The same for one face of many corners, from triangle `t` on; returns the next triangle's number.

    Corners are linked, and only those that turn inward are looked for inside an ear: none other can be there where the face does not cross itself.
    A convex face costs O(n), one with r inward corners O(n r).
    """
    before, after = np.empty(n, np.int64), np.empty(n, np.int64)
    inward, place = np.empty(n, np.int64), np.full(n, -1, np.int64)  # the inward corners, and where each stands among them
    count = 0
    for i in range(n):
        before[i], after[i] = (i + n - 1) % n, (i + 1) % n
    for i in range(n):
        if _turn(p, a + before[i], a + i, a + after[i], u, v, s) <= 0:
            inward[count], place[i] = i, count
            count += 1
    m, misses, j = n, 0, 0
    while m > 3:
        h, k = before[j], after[j]
        ear = _turn(p, a + h, a + j, a + k, u, v, s) > 0
        if ear:
            for w in range(count):
                x = inward[w]
                if (
                    x != h and x != j and x != k
                    and _turn(p, a + h, a + j, a + x, u, v, s) > 0
                    and _turn(p, a + j, a + k, a + x, u, v, s) > 0
                    and _turn(p, a + k, a + h, a + x, u, v, s) > 0
                ):  # fmt: skip
                    ear = False
                    break
        if not ear and misses <= m:
            misses += 1
            j = k
            continue
        out[t, 0], out[t, 1], out[t, 2] = a + h, a + j, a + k
        t += 1
        after[h], before[k] = k, h
        m -= 1
        misses = 0
        # The corner that is gone, and its neighbours that turn outward now, can be in nobody's ear any more.
        for x in (h, j, k):
            if place[x] >= 0 and (x == j or _turn(p, a + before[x], a + x, a + after[x], u, v, s) > 0):
                count -= 1
                last = inward[count]
                inward[place[x]], place[last] = last, place[x]
                place[x] = -1
        j = k
    out[t, 0], out[t, 1], out[t, 2] = a + before[j], a + j, a + after[j]
    return t + 1


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _cut_ears(p, faces, out, face_of):  # type: ignore[no-untyped-def]
    """Corner numbers of n - 2 triangles a face, by ear clipping in the plane of the face's Newell normal.

    p (C, 3) positions per corner. Convex faces cost O(n^2), others O(n^2) per ear, so those of many corners are cut by `_cut_many`. A face whose ears
    cannot be found (it crosses itself) is cut as a fan.
    """
    t = 0
    for f in range(faces.shape[0] - 1):
        a, b = faces[f], faces[f + 1]
        n = b - a
        if n < 3:
            continue
        if n == 3:
            out[t, 0], out[t, 1], out[t, 2] = a, a + 1, a + 2
            face_of[t] = f
            t += 1
            continue
        nx = ny = nz = 0.0
        for i in range(n):
            q, r = a + i, a + (i + 1) % n
            nx += (p[q, 1] - p[r, 1]) * (p[q, 2] + p[r, 2])
            ny += (p[q, 2] - p[r, 2]) * (p[q, 0] + p[r, 0])
            nz += (p[q, 0] - p[r, 0]) * (p[q, 1] + p[r, 1])
        # Drop the axis along which the face is thinnest; keep its turning direction.
        if abs(nx) >= abs(ny) and abs(nx) >= abs(nz):
            u, v, s = 1, 2, nx
        elif abs(ny) >= abs(nz):
            u, v, s = 2, 0, ny
        else:
            u, v, s = 0, 1, nz
        s = 1.0 if s >= 0 else -1.0
        if n > MANY:
            end = _cut_many(p, a, n, u, v, s, out, t)
            face_of[t:end] = f
            t = end
            continue
        left = np.empty(n, np.int64)
        for i in range(n):
            left[i] = a + i
        m = n
        misses = 0
        i = 0
        while m > 3:
            h, j, k = left[(i + m - 1) % m], left[i % m], left[(i + 1) % m]
            ear = s * ((p[j, u] - p[h, u]) * (p[k, v] - p[h, v]) - (p[j, v] - p[h, v]) * (p[k, u] - p[h, u])) > 0
            if ear:
                for w in range(m):
                    x = left[w]
                    if x == h or x == j or x == k:
                        continue
                    c1 = s * ((p[j, u] - p[h, u]) * (p[x, v] - p[h, v]) - (p[j, v] - p[h, v]) * (p[x, u] - p[h, u]))
                    c2 = s * ((p[k, u] - p[j, u]) * (p[x, v] - p[j, v]) - (p[k, v] - p[j, v]) * (p[x, u] - p[j, u]))
                    c3 = s * ((p[h, u] - p[k, u]) * (p[x, v] - p[k, v]) - (p[h, v] - p[k, v]) * (p[x, u] - p[k, u]))
                    if c1 > 0 and c2 > 0 and c3 > 0:
                        ear = False
                        break
            if ear or misses > m:
                out[t, 0], out[t, 1], out[t, 2] = h, j, k
                face_of[t] = f
                t += 1
                cut = i % m
                for w in range(cut, m - 1):
                    left[w] = left[w + 1]
                m -= 1
                misses = 0
                i = cut % m
            else:
                misses += 1
                i = (i + 1) % m
        out[t, 0], out[t, 1], out[t, 2] = left[0], left[1], left[2]
        face_of[t] = f
        t += 1
    return t


def triangulate(points: NDArray[np.float64], faces: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Triangles of polygons.

    Parameters
    ----------
    points : (C, 3) the position of every corner
    faces : (F + 1,) offsets of the faces into the corners; faces with under 3 corners give nothing

    Returns
    -------
    (T, 3) corner numbers, (T,) the face each triangle belongs to
    """
    count = int(np.maximum(np.diff(faces) - 2, 0).sum())
    out, face_of = np.zeros((count, 3), np.int64), np.zeros(count, np.int64)
    _cut_ears(points, faces, out, face_of)
    return out, face_of
