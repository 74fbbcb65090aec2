"""Charts laid flat: conformal first, then by the symmetric Dirichlet energy, which no fold can pass.

All charts of a batch stand in one block-diagonal system; steps, energies and the end are each chart's own. Sources, from memory: least squares conformal
maps (Levy et al. 2002); Tutte's embedding (Floater 1997); scalable locally injective mappings (Rabinovich et al. 2017) with the step bound of Smith and
Schaefer (2015). Lengths are such that each chart has an area of 1, and are scaled back at the end.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csc_matrix
from scipy.sparse.linalg import splu

from ..model.scene import Floats
from ..uv.islands import triangle_areas
from .topology import Borders, Cut, Numbers, Surface

_PULL = 1e-6  # towards where a row is: keeps the system regular
_HELD = 1e6  # the same for rows that stay
_NEEDLE = 1e-4  # least height of a triangle over its longest side, in the plane that it is compared with
_SAFE = 0.8  # of the way to the first fold
_SMALLER = 0.6  # of the faces of a system are live: below, it is made anew without the others
_ENOUGH = 1e-4  # less energy than this gained in a step: the chart is done

Enough = Callable[[Floats, Floats], NDArray[np.bool_]]


@dataclass(frozen=True)
class Flat:
    """uv (W, 2) at the scale of the surface; greatest, least (F,) singular values of the map from the surface to the plane, at the scale that suits each chart;
    folded (F,) faces that are turned over or have no area."""

    uv: Floats
    greatest: Floats
    least: Floats
    folded: NDArray[np.bool_]


def frames(s: Surface, which: Numbers | None = None) -> Floats:
    """Each triangle in a plane of its own (F, 3, 2): the first corner at the origin, the second on the x axis; needles a little wider than they are."""
    p = s.points[s.faces if which is None else s.faces[which]]
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    length = np.linalg.norm(a, axis=1)
    x = a / np.maximum(length, 1e-300)[:, None]
    along = (b * x).sum(axis=1)
    height = np.sqrt(np.maximum((b * b).sum(axis=1) - along**2, 0.0))
    longest = np.maximum(length, np.maximum(np.linalg.norm(b, axis=1), np.linalg.norm(p[:, 2] - p[:, 1], axis=1)))
    out = np.zeros((len(p), 3, 2))
    out[:, 1, 0], out[:, 2, 0], out[:, 2, 1] = np.maximum(length, 1e-12 * longest), along, np.maximum(height, _NEEDLE * longest)
    return out


def _gradients(flat: Floats) -> tuple[Floats, Floats, Floats]:
    """Of triangles (F, 3, 2): derivatives along x and y as factors (F, 3) of the values at the corners, and areas (F,)."""
    x, y = flat[:, :, 0], flat[:, :, 1]
    double = (x[:, 1] - x[:, 0]) * (y[:, 2] - y[:, 0]) - (x[:, 2] - x[:, 0]) * (y[:, 1] - y[:, 0])
    dx = np.stack([y[:, 1] - y[:, 2], y[:, 2] - y[:, 0], y[:, 0] - y[:, 1]], axis=1) / double[:, None]
    dy = np.stack([x[:, 2] - x[:, 1], x[:, 0] - x[:, 2], x[:, 1] - x[:, 0]], axis=1) / double[:, None]
    return dx, dy, 0.5 * double


class _System:
    """The sparse pattern of a batch: where the 4 x 9 numbers of every face go. The order that keeps factors small is found once."""

    def __init__(self, rows: Numbers, count: int) -> None:
        self.count = count
        i, j = np.repeat(rows, 3, axis=1), np.tile(rows, (1, 3))
        at = np.concatenate(
            [np.stack([i, j]).reshape(2, -1) + np.array([[a * count], [b * count]]) for a in (0, 1) for b in (0, 1)], axis=1
        )
        # u and v of a row stand beside each other: the factors stay near the diagonal.
        at = np.concatenate([2 * (at % count) + at // count, np.tile(np.arange(2 * count), (2, 1))], axis=1)
        self._place(at[1] * (2 * count) + at[0])
        self.order: Numbers | None = None  # the new place (2 W,) of every unknown

    def _place(self, key: Numbers) -> None:
        """Lay the pattern out by columns; `key` (k,) is column x unknowns + row of every number that goes in."""
        n = 2 * self.count
        self.unique, slot = np.unique(key, return_inverse=True)
        self.slot = slot.reshape(-1)
        column = self.unique // n
        self.indptr = np.searchsorted(column, np.arange(n + 1)).astype(np.int32)
        self.indices = (self.unique % n).astype(np.int32)
        self.diagonal = np.flatnonzero(self.indices == column)

    def solve(self, blocks: Floats, diagonal: Floats | float, right: Floats) -> Floats:
        """The solution (W, 2) for blocks (4, F, 3, 3) and a diagonal that is added; right (W, 2)."""
        n = 2 * self.count
        values = np.concatenate([blocks.reshape(4, -1).reshape(-1), np.broadcast_to(diagonal, n)])
        data: Floats = np.bincount(self.slot, values, len(self.unique)).astype(np.float64)
        factors = self._factors(data)
        flat = right.reshape(-1)
        if self.order is None:
            found = np.asarray(factors.solve(flat))
            self._reorder(np.asarray(factors.perm_c, np.int64))
            return found.reshape(-1, 2)
        turned = np.empty(n)
        turned[self.order] = flat
        return np.asarray(factors.solve(turned))[self.order].reshape(-1, 2)

    def _factors(self, data: Floats) -> Any:
        how = "MMD_AT_PLUS_A" if self.order is None else "NATURAL"
        n = 2 * self.count
        for floor in (0.0, 1e-12):
            # Faces that are nearly folded may leave no digits for others: then a little is added everywhere.
            if floor:
                data = data.copy()
                data[self.diagonal] += floor * float(np.abs(data).max())
            try:
                return splu(
                    csc_matrix((data, self.indices, self.indptr), shape=(n, n)),
                    permc_spec=how,
                    diag_pivot_thresh=0.0,
                    options={"SymmetricMode": True},
                )
            except RuntimeError:
                if floor:
                    raise
        raise AssertionError

    def _reorder(self, order: Numbers) -> None:
        n = 2 * self.count
        old = self.slot
        row, column = self.unique % n, self.unique // n
        self._place(order[column] * n + order[row])
        self.slot = self.slot[old]
        self.order = order


def flatten(
    s: Surface, c: Cut, b: Borders, iterations: int = 25, start: Floats | None = None, stop: Callable[[], bool] = lambda: False,
    hopeless: float = np.inf, held: NDArray[np.bool_] | None = None, like: Floats | None = None, until: Enough | None = None,
) -> Flat:  # fmt: skip
    """Lay all charts flat.

    Parameters
    ----------
    iterations : at most, of the second stage
    start : (W, 2) UVs without folds to begin with, at the scale of the surface; None to begin from nothing
    stop : asked between the steps; what is there by then is given
    hopeless : mean energy above which a chart is given up, since it will not do
    held : (W,) rows that stay where `start` has them
    like : (F, 3, 2) triangles that the faces should be like, in place of their own shape in space
    until : from the singular values, charts (n,) that lie flat enough: they are laid no further

    Returns
    -------
    charts that are no discs (closed, or with a handle) are folded
    """
    flat = frames(s) if like is None else like
    area = np.bincount(c.chart, s.area, c.charts)
    unit = 1.0 / np.sqrt(np.maximum(area, 1e-300))
    flat = flat * unit[c.chart][:, None, None]
    dx, dy, size = _gradients(flat)
    system = _System(c.rows, c.count)
    if start is None:
        uv = _conformal(system, c, dx, dy, size, s.points[c.point] * unit[c.chart_of_row][:, None])
        bad = np.bincount(c.chart, triangle_areas(uv, c.rows) <= 1e-12 * size, c.charts) > 0
        if bad.any():
            uv = _circles(s, c, b, uv, bad)
    else:
        uv = start * unit[c.chart_of_row][:, None]
    uv = _refine(system, c, dx, dy, size, uv, iterations, stop, hopeless, held, until)
    big, small, _ = _singular(uv, c.rows, dx, dy)
    folded = triangle_areas(uv, c.rows) <= 1e-12 * size
    return Flat(uv / unit[c.chart_of_row][:, None], big, small, folded)


def _laplacian(dx: Floats, dy: Floats, size: Floats) -> Floats:
    """(F, 3, 3) of the Dirichlet energy of every face."""
    return size[:, None, None] * (dx[:, :, None] * dx[:, None, :] + dy[:, :, None] * dy[:, None, :])


def _conformal(system: _System, c: Cut, dx: Floats, dy: Floats, size: Floats, points: Floats) -> Floats:
    """The map that keeps angles best, with two far rows of each chart pinned."""
    lap = _laplacian(dx, dy, size)
    # The area of the image, as a form in u and v: what the Dirichlet energy is above it is the conformal energy.
    turn = 0.5 * np.array([[0, 1, -1], [-1, 0, 1], [1, -1, 0]], float)
    sides = np.broadcast_to(turn, lap.shape)
    blocks = np.stack([lap, -sides, sides, lap])
    pins = _far_pairs(c, points)
    at = np.concatenate([pins[:, 0], pins[:, 1]])
    apart = np.linalg.norm(points[pins[:, 1]] - points[pins[:, 0]], axis=1)
    heavy = np.zeros((system.count, 2))
    heavy[at] = 1e8
    right = np.zeros((system.count, 2))
    right[pins[:, 1], 0] = 1e8 * apart
    uv = system.solve(blocks, (heavy + 1e-12).reshape(-1), right)
    uv = np.nan_to_num(uv)
    total = np.bincount(c.chart, triangle_areas(uv, c.rows), c.charts)
    scale = 1.0 / np.sqrt(np.maximum(np.abs(total), 1e-12))
    uv = uv * scale[c.chart_of_row][:, None]
    mirrored = total < 0
    uv[mirrored[c.chart_of_row], 1] *= -1
    return uv


def _far_pairs(c: Cut, points: Floats) -> Numbers:
    """Two rows (n, 2) of every chart that lie far from each other."""
    first = np.full(c.charts, -1)
    first[c.chart_of_row[::-1]] = np.arange(c.count)[::-1]
    order = np.argsort(c.chart_of_row, kind="stable")
    ends = np.searchsorted(c.chart_of_row[order], np.arange(c.charts + 1))

    def farthest(of: Numbers) -> Numbers:
        far = np.linalg.norm(points - points[of[c.chart_of_row]], axis=1)
        best = np.maximum.reduceat(far[order], ends[:-1])
        hit = np.flatnonzero(far[order] >= best[c.chart_of_row[order]])
        out = np.empty(c.charts, np.int64)
        out[c.chart_of_row[order[hit]][::-1]] = order[hit][::-1]
        return out

    one = farthest(first)
    return np.column_stack([one, farthest(one)])


def _circles(s: Surface, c: Cut, b: Borders, uv: Floats, bad: NDArray[np.bool_]) -> Floats:
    """Charts that a conformal map folds, laid into a circle: the longest border on it, every other row in the middle of its neighbours."""
    out = uv.copy()
    lengths = np.add.reduceat(s.length[b.edges], b.first[:-1]) if len(b.edges) else np.zeros(0)
    row = c.rows.reshape(-1)
    fixed = np.zeros(c.count, bool)
    outer = np.full(c.charts, -1)
    for loop in np.argsort(lengths):
        outer[b.chart[loop]] = loop
    for chart in np.flatnonzero(bad & (outer >= 0)):
        edges = b.edges[b.first[outer[chart]] : b.first[outer[chart] + 1]]
        along = np.cumsum(s.length[edges]) - s.length[edges]
        angle = 2 * np.pi * along / max(float(s.length[edges].sum()), 1e-300)
        at = row[edges]
        out[at] = np.column_stack([np.cos(angle), np.sin(angle)]) / np.sqrt(np.pi)
        fixed[at] = True
    mine = bad[c.chart_of_row] & (outer[c.chart_of_row] >= 0)
    free = np.flatnonzero(mine & ~fixed)
    if not len(free):
        return out
    faces = np.flatnonzero(bad[c.chart] & (outer[c.chart] >= 0))
    i = np.concatenate([c.rows[faces].reshape(-1), np.roll(c.rows[faces], -1, axis=1).reshape(-1)])
    j = np.concatenate([np.roll(c.rows[faces], -1, axis=1).reshape(-1), c.rows[faces].reshape(-1)])
    # Inner borders are closed by a row in their middle.
    extra, more_i, more_j = 0, [i], [j]
    for loop in range(len(lengths)):
        if bad[b.chart[loop]] and loop != outer[b.chart[loop]]:
            at = row[b.edges[b.first[loop] : b.first[loop + 1]]]
            hub = np.full(len(at), c.count + extra)
            more_i += [at, hub]
            more_j += [hub, at]
            extra += 1
    i, j = np.concatenate(more_i), np.concatenate(more_j)
    number = np.full(c.count + extra, -1)
    unknown = np.concatenate([free, c.count + np.arange(extra)])
    number[unknown] = np.arange(len(unknown))
    pairs = np.unique(np.column_stack([i, j]), axis=0)
    i, j = pairs[:, 0], pairs[:, 1]
    use = number[i] >= 0
    i, j = i[use], j[use]
    inner = number[j] >= 0
    degree = np.bincount(number[i], minlength=len(unknown)).astype(float)
    right = np.zeros((len(unknown), 2))
    np.add.at(right, number[i[~inner]], out[j[~inner]])
    n = len(unknown)
    matrix = csc_matrix(
        (np.r_[-np.ones(int(inner.sum())), degree], (np.r_[number[i[inner]], np.arange(n)], np.r_[number[j[inner]], np.arange(n)])),
        shape=(n, n),
    )
    found = np.asarray(splu(matrix).solve(right))
    out[free] = found[: len(free)]
    return out


def _singular(uv: Floats, rows: Numbers, dx: Floats, dy: Floats) -> tuple[Floats, Floats, Floats]:
    """Greatest and least singular values (F,) of every face's map, the least one negative where it is turned over; and the maps (F, 4)."""
    p = uv[rows]
    a, b = (dx * p[:, :, 0]).sum(axis=1), (dy * p[:, :, 0]).sum(axis=1)
    c, d = (dx * p[:, :, 1]).sum(axis=1), (dy * p[:, :, 1]).sum(axis=1)
    e, f, g, h = 0.5 * (a + d), 0.5 * (a - d), 0.5 * (c + b), 0.5 * (c - b)
    q, r = np.hypot(e, h), np.hypot(f, g)
    return q + r, q - r, np.stack([a, b, c, d], axis=1)


def energy(big: Floats, small: Floats) -> Floats:
    """Symmetric Dirichlet energy (F,) over its least, 1 where lengths stay; infinite at and beyond a fold."""
    with np.errstate(divide="ignore", over="ignore"):
        found = 0.25 * (big**2 + small**2 + 1 / big**2 + 1 / small**2)
    return np.where(small > 1e-9, found, np.inf)


def _refine(
    system: _System,
    c: Cut,
    dx: Floats,
    dy: Floats,
    size: Floats,
    uv: Floats,
    iterations: int,
    stop: Callable[[], bool],
    hopeless: float,
    held: NDArray[np.bool_] | None = None,
    until: Enough | None = None,
) -> Floats:
    """Iterations that lower the energy of every chart without ever folding a face. Charts that are done, or that will stay above an energy that is
    `hopeless`, leave the system once it would be much smaller without them."""
    big, small, maps = _singular(uv, c.rows, dx, dy)
    now = np.bincount(c.chart, size * energy(big, small), c.charts)
    live = np.isfinite(now)
    if until is not None:
        live &= ~until(big, small)
    faces, rows = np.arange(len(c.rows)), np.arange(c.count)
    local = c.rows
    for turn in range(iterations):
        if not live.any() or stop():
            break
        on = live[c.chart[faces]]
        if on.sum() < _SMALLER * len(faces):
            faces = faces[on]
            rows, flat = np.unique(c.rows[faces], return_inverse=True)
            local = flat.reshape(-1, 3)
            system = _System(local, len(rows))
        mine = np.where(live[c.chart[faces]], size[faces], 0.0)
        chart = c.chart_of_row[rows]
        pull = np.where(live[chart], _PULL / np.bincount(c.chart_of_row, minlength=c.charts)[chart], 1.0)
        if held is not None:
            pull[held[rows]] = _HELD
        step = np.zeros_like(uv)
        step[rows] = _direction(system, local, dx[faces], dy[faces], mine, uv[rows], big[faces], small[faces], maps[faces], pull) - uv[rows]
        step[~live[c.chart_of_row]] = 0.0
        if held is not None:
            step[held] = 0.0
        length = np.minimum(1.0, _SAFE * _first_fold(uv, step, c))
        for _ in range(12):
            moved = uv + step * length[c.chart_of_row][:, None]
            tb, ts, _ = _singular(moved, c.rows, dx, dy)
            then = np.bincount(c.chart, size * energy(tb, ts), c.charts)
            better = (then < now) | ~live
            if better.all():
                break
            length[~better] *= 0.5
        length[~better] = 0.0
        uv = uv + step * length[c.chart_of_row][:, None]
        big, small, maps = _singular(uv, c.rows, dx, dy)
        then = np.bincount(c.chart, size * energy(big, small), c.charts)
        gain = np.where(live, now - np.where(live, then, 0.0), 0.0)
        live &= gain > _ENOUGH
        if until is not None:
            live &= ~until(big, small)
        if turn >= 2:
            live &= then - 0.75 * gain < hopeless
        now = then
    return uv


def _direction(
    system: _System, rows: Numbers, dx: Floats, dy: Floats, size: Floats, uv: Floats, big: Floats, small: Floats, maps: Floats, pull: Floats
) -> Floats:
    """Where the weighted nearest rotations pull all rows (W, 2); `size` (F,) is how much each face counts, `pull` (W,) how much a row stays."""
    a, b, cc, d = maps.T
    e, h = a + d, cc - b
    norm = np.maximum(np.hypot(e, h), 1e-300)
    cos, sin = e / norm, h / norm
    # The stretch tensor S = J R^T is symmetric; its eigenvectors are the directions that the weights hold for.
    s11, s12, s22 = a * cos - b * sin, a * sin + b * cos, cc * sin + d * cos
    w1, w2 = _weight(big), _weight(small)
    gap = 0.5 * (big - small)
    with np.errstate(divide="ignore", invalid="ignore"):
        x = np.where(gap > 1e-12, 0.5 * (s11 - s22) / gap, 0.0)
        y = np.where(gap > 1e-12, s12 / gap, 0.0)
    mean, half = 0.5 * (w1 + w2), 0.5 * (w1 - w2)
    p11, p12, p22 = size * (mean + half * x), size * (half * y), size * (mean - half * x)
    lap = dx[:, :, None] * dx[:, None, :] + dy[:, :, None] * dy[:, None, :]
    blocks = np.stack([p11[:, None, None] * lap, p12[:, None, None] * lap, p12[:, None, None] * lap, p22[:, None, None] * lap])
    # R = [[cos, -sin], [sin, cos]]; the pull of every face on its corners.
    ru, rv = dx * cos[:, None] - dy * sin[:, None], dx * sin[:, None] + dy * cos[:, None]
    right = np.zeros((system.count, 2))
    for k in range(3):
        right[:, 0] += np.bincount(rows[:, k], p11 * ru[:, k] + p12 * rv[:, k], system.count)
        right[:, 1] += np.bincount(rows[:, k], p12 * ru[:, k] + p22 * rv[:, k], system.count)
    return system.solve(blocks, np.repeat(pull, 2), right + pull[:, None] * uv)


def _weight(s: Floats) -> Floats:
    """Square of the proxy's weight at a singular value: (s - s^-3) / (s - 1), which is 4 at 1."""
    s = np.clip(s, 1e-4, 1e4)
    near = np.abs(s - 1) < 1e-4
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(near, 4.0, (s - s**-3.0) / np.where(near, 1.0, s - 1))


def _first_fold(uv: Floats, step: Floats, c: Cut) -> Floats:
    """For every chart, how far along the step (n,) the first of its faces loses its area; infinite for never."""
    p, q = uv[c.rows], step[c.rows]
    e0, e1, f0, f1 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0], q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]

    def cross(x: Floats, y: Floats) -> Floats:
        return x[:, 0] * y[:, 1] - x[:, 1] * y[:, 0]

    k0, k1, k2 = cross(e0, e1), cross(e0, f1) + cross(f0, e1), cross(f0, f1)
    root = np.sqrt(np.maximum(k1**2 - 4 * k0 * k2, 0.0))
    real = k1**2 - 4 * k0 * k2 >= 0
    with np.errstate(divide="ignore", invalid="ignore"):
        # The least root above 0 in the form that loses no digits.
        t = 2 * k0 / np.where(-k1 + root > 0, -k1 + root, np.nan)
        other = 2 * k0 / np.where(-k1 - root > 0, -k1 - root, np.nan)
    least = np.fmin(np.where(t > 0, t, np.inf), np.where(other > 0, other, np.inf))
    least = np.where(real & np.isfinite(least), least, np.inf)
    out = np.full(c.charts, np.inf)
    np.minimum.at(out, c.chart, least)
    return out
