"""The inner loops of flattening, compiled: they hold no lock, so that charts can be laid side by side in threads.

Arrays throughout: rows (F, 3) of the faces, dx and dy (F, 3) factors of the values at the corners that give derivatives.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from ..model.scene import Floats
from .topology import Numbers

_ROUND = 1e-12  # singular values nearer to each other have no directions


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _map(uv: Floats, rows: Numbers, dx: Floats, dy: Floats, f: int) -> tuple[float, float, float, float]:
    """A face's map from its own plane to that of the UVs, row by row."""
    a = b = c = d = 0.0
    for k in range(3):
        u, v = uv[rows[f, k], 0], uv[rows[f, k], 1]
        a += dx[f, k] * u
        b += dy[f, k] * u
        c += dx[f, k] * v
        d += dy[f, k] * v
    return a, b, c, d


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _halves(a: float, b: float, c: float, d: float) -> tuple[float, float]:
    """Half the sum and half the difference of the singular values of a map; the lesser one is below 0 where it is turned over."""
    return 0.5 * math.hypot(a + d, c - b), 0.5 * math.hypot(a - d, c + b)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def singular_values(uv: Floats, rows: Numbers, dx: Floats, dy: Floats) -> tuple[Floats, Floats]:
    """Greatest and least singular values (F,) of every face's map, the least one negative where it is turned over."""
    n = len(rows)
    big, small = np.empty(n), np.empty(n)
    for f in range(n):
        a, b, c, d = _map(uv, rows, dx, dy, f)
        q, r = _halves(a, b, c, d)
        big[f], small[f] = q + r, q - r
    return big, small


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def energies(uv: Floats, rows: Numbers, dx: Floats, dy: Floats, size: Floats, chart: Numbers, charts: int) -> Floats:
    """Symmetric Dirichlet energy of every chart (charts,), weighed by `size` (F,), over its least, 1 where lengths stay; infinite at and beyond a fold."""
    out = np.zeros(charts)
    for f in range(len(rows)):
        a, b, c, d = _map(uv, rows, dx, dy, f)
        q, r = _halves(a, b, c, d)
        if q - r > 1e-9:
            out[chart[f]] += size[f] * 0.25 * ((q + r) ** 2 + (q - r) ** 2 + 1.0 / (q + r) ** 2 + 1.0 / (q - r) ** 2)
        else:
            out[chart[f]] = np.inf
    return out


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _weight(s: float) -> float:
    """Square of the proxy's weight at a singular value: (s - s^-3) / (s - 1), which is 4 at 1."""
    s = min(max(s, 1e-4), 1e4)
    return 4.0 if abs(s - 1.0) < 1e-4 else (s - s**-3.0) / (s - 1.0)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _add(data: Floats, first: Numbers, column: int, slot: int, uu: float, uv: float, vu: float, vv: float) -> None:
    """Add the four numbers between a row (of the matrix) and a column: the first letter is the row's."""
    at, wide = 4 * first[column] + 2 * slot, 2 * (first[column + 1] - first[column])
    data[at] += uu
    data[at + 1] += vu
    data[at + wide] += uv
    data[at + wide + 1] += vv


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def pull_system(
    slot: Numbers, first: Numbers, own: Numbers, place: Numbers, rows: Numbers, dx: Floats, dy: Floats, size: Floats, uv: Floats, pull: Floats,
    data: Floats, right: Floats,
) -> None:  # fmt: skip
    """Fill the system whose solution is where the weighted nearest rotations pull all rows (W, 2); `size` (F,) is how much each face counts, `pull` (W,) how
    much a row stays. `slot`, `first`, `own`, `place`: see `System`; `data` and `right` (W, 2), by places, get the numbers."""
    data[:] = 0.0
    for w in range(len(place)):
        p = place[w]
        right[p, 0], right[p, 1] = pull[w] * uv[w, 0], pull[w] * uv[w, 1]
        _add(data, first, p, own[p], pull[w], 0.0, 0.0, pull[w])
    for f in range(len(rows)):
        if size[f] == 0.0:
            continue
        a, b, c, d = _map(uv, rows, dx, dy, f)
        e, h = a + d, c - b
        norm = max(math.hypot(e, h), 1e-300)
        cos, sin = e / norm, h / norm
        q, r = _halves(a, b, c, d)
        # The stretch tensor S = J R^T is symmetric; its eigenvectors are the directions that the weights hold for.
        s11, s12, s22 = a * cos - b * sin, a * sin + b * cos, c * sin + d * cos
        w1, w2 = _weight(q + r), _weight(q - r)
        x = y = 0.0
        if r > _ROUND:
            x, y = 0.5 * (s11 - s22) / r, s12 / r
        mean, half = 0.5 * (w1 + w2), 0.5 * (w1 - w2)
        p11, p12, p22 = size[f] * (mean + half * x), size[f] * half * y, size[f] * (mean - half * x)
        for i in range(3):
            # R = [[cos, -sin], [sin, cos]]; the pull of the face on its corner.
            ru, rv = dx[f, i] * cos - dy[f, i] * sin, dx[f, i] * sin + dy[f, i] * cos
            p = place[rows[f, i]]
            right[p, 0] += p11 * ru + p12 * rv
            right[p, 1] += p12 * ru + p22 * rv
            for j in range(3):
                lap = dx[f, i] * dx[f, j] + dy[f, i] * dy[f, j]
                _add(data, first, place[rows[f, j]], slot[f, i, j], p11 * lap, p12 * lap, p12 * lap, p22 * lap)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def rotated_sides(uv: Floats, rows: Numbers, dx: Floats, dy: Floats, size: Floats) -> Floats:
    """What the nearest rotation of every face, weighed by `size` (F,), asks of its rows (W, 2): the right side of a system of stiffness."""
    out = np.zeros((len(uv), 2))
    for f in range(len(rows)):
        a, b, c, d = _map(uv, rows, dx, dy, f)
        norm = max(math.hypot(a + d, c - b), 1e-300)
        cos, sin = (a + d) / norm, (c - b) / norm
        for i in range(3):
            out[rows[f, i], 0] += size[f] * (dx[f, i] * cos - dy[f, i] * sin)
            out[rows[f, i], 1] += size[f] * (dx[f, i] * sin + dy[f, i] * cos)
    return out


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def conformal_system(
    slot: Numbers, first: Numbers, own: Numbers, place: Numbers, rows: Numbers, dx: Floats, dy: Floats, size: Floats, heavy: Floats, data: Floats
) -> None:  # fmt: skip
    """Fill the system of the conformal energy: the Dirichlet energy without the area of the image, a form in u and v; `heavy` (W, 2) is added on its
    diagonal. See `pull_system`."""
    data[:] = 0.0
    for w in range(len(place)):
        _add(data, first, place[w], own[place[w]], heavy[w, 0], 0.0, 0.0, heavy[w, 1])
    for f in range(len(rows)):
        for i in range(3):
            for j in range(3):
                lap = size[f] * (dx[f, i] * dx[f, j] + dy[f, i] * dy[f, j])
                turn = 0.0 if i == j else (0.5 if (i + 1) % 3 == j else -0.5)
                _add(data, first, place[rows[f, j]], slot[f, i, j], lap, -turn, turn, lap)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def first_folds(uv: Floats, step: Floats, rows: Numbers, chart: Numbers, charts: int) -> Floats:
    """For every chart, how far along the step (W, 2) the first of its faces loses its area; infinite for never."""
    out = np.full(charts, np.inf)
    for f in range(len(rows)):
        i, j, k = rows[f, 0], rows[f, 1], rows[f, 2]
        ax, ay, bx, by = uv[j, 0] - uv[i, 0], uv[j, 1] - uv[i, 1], uv[k, 0] - uv[i, 0], uv[k, 1] - uv[i, 1]
        cx, cy, ex, ey = step[j, 0] - step[i, 0], step[j, 1] - step[i, 1], step[k, 0] - step[i, 0], step[k, 1] - step[i, 1]
        k0, k1, k2 = ax * by - ay * bx, ax * ey - ay * ex + cx * by - cy * bx, cx * ey - cy * ex
        root = k1 * k1 - 4.0 * k0 * k2
        if root < 0.0:
            continue
        root = math.sqrt(root)
        # The least root above 0 in the form that loses no digits.
        for below in (-k1 + root, -k1 - root):
            if below != 0.0:
                t = 2.0 * k0 / below
                if 0.0 < t < out[chart[f]]:
                    out[chart[f]] = t
    return out
