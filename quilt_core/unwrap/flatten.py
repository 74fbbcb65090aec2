"""Charts laid flat: conformal first, then by the symmetric Dirichlet energy, which no fold can pass.

All charts of a batch stand in one block-diagonal system; steps, energies and the end are each chart's own. Sources, from memory: least squares conformal
maps (Levy et al. 2002); Tutte's embedding (Floater 1997); scalable locally injective mappings (Rabinovich et al. 2017) with the step bound of Smith and
Schaefer (2015). Lengths are such that each chart has an area of 1, and are scaled back at the end.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csc_matrix
from scipy.sparse.linalg import splu

from ..model.scene import Floats
from ..uv.areas import triangle_areas
from .kernels import energies, first_folds, singular_values
from .system import System
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


def gradients(flat: Floats) -> tuple[Floats, Floats, Floats]:
    """Of triangles (F, 3, 2): derivatives along x and y as factors (F, 3) of the values at the corners, and areas (F,)."""
    x, y = flat[:, :, 0], flat[:, :, 1]
    double = (x[:, 1] - x[:, 0]) * (y[:, 2] - y[:, 0]) - (x[:, 2] - x[:, 0]) * (y[:, 1] - y[:, 0])
    dx = np.stack([y[:, 1] - y[:, 2], y[:, 2] - y[:, 0], y[:, 0] - y[:, 1]], axis=1) / double[:, None]
    dy = np.stack([x[:, 2] - x[:, 1], x[:, 0] - x[:, 2], x[:, 1] - x[:, 0]], axis=1) / double[:, None]
    return dx, dy, 0.5 * double


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
    dx, dy, size = gradients(flat)
    system = System(c.rows, c.count)
    if start is None:
        uv = _conformal(system, c, dx, dy, size, s.points[c.point] * unit[c.chart_of_row][:, None])
        bad = np.bincount(c.chart, triangle_areas(uv, c.rows) <= 1e-12 * size, c.charts) > 0
        if bad.any():
            uv = _circles(s, c, b, uv, bad)
    else:
        uv = start * unit[c.chart_of_row][:, None]
    uv = _refine(system, c, dx, dy, size, uv, iterations, stop, hopeless, held, until)
    big, small = singular_values(uv, c.rows, dx, dy)
    folded = triangle_areas(uv, c.rows) <= 1e-12 * size
    return Flat(uv / unit[c.chart_of_row][:, None], big, small, folded)


def _conformal(system: System, c: Cut, dx: Floats, dy: Floats, size: Floats, points: Floats) -> Floats:
    """The map that keeps angles best, with two far rows of each chart pinned."""
    pins = _far_pairs(c, points)
    at = np.concatenate([pins[:, 0], pins[:, 1]])
    apart = np.linalg.norm(points[pins[:, 1]] - points[pins[:, 0]], axis=1)
    heavy = np.zeros((system.count, 2))
    heavy[at] = 1e8
    right = np.zeros((system.count, 2))
    right[pins[:, 1], 0] = 1e8 * apart
    uv = system.conformal(dx, dy, size, heavy + 1e-12, right)
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


def _refine(
    system: System, c: Cut, dx: Floats, dy: Floats, size: Floats, uv: Floats, iterations: int, stop: Callable[[], bool], hopeless: float,
    held: NDArray[np.bool_] | None = None, until: Enough | None = None,
) -> Floats:  # fmt: skip
    """Iterations that lower the energy of every chart without ever folding a face. Charts that are done, or that will stay above an energy that is
    `hopeless`, leave the system once it would be much smaller without them."""
    uv = uv.copy()
    big, small = singular_values(uv, c.rows, dx, dy)
    now = energies(uv, c.rows, dx, dy, size, c.chart, c.charts)
    live = np.isfinite(now)
    if until is not None:
        live &= ~until(big, small)
    share = _PULL / np.maximum(np.bincount(c.chart_of_row, minlength=c.charts), 1)
    faces, rows, local = np.arange(len(c.rows)), np.arange(c.count), c.rows
    for turn in range(iterations):
        if not live.any() or stop():
            break
        on = live[c.chart[faces]]
        if on.sum() < _SMALLER * len(faces):
            faces = faces[on]
            kept, flat = np.unique(local[on], return_inverse=True)
            local, rows = flat.reshape(-1, 3), rows[kept]
            system = system.part(local, kept)
        ours, of, chart, at = (dx[faces], dy[faces]), c.chart[faces], c.chart_of_row[rows], uv[rows]
        pull = np.where(live[chart], share[chart], 1.0)
        if held is not None:
            pull[held[rows]] = _HELD
        step = system.pulled(*ours, np.where(live[of], size[faces], 0.0), at, pull) - at
        step[~live[chart] if held is None else ~live[chart] | held[rows]] = 0.0
        length = np.minimum(1.0, _SAFE * first_folds(at, step, local, of, c.charts))
        for _ in range(12):
            then = energies(at + step * length[chart][:, None], local, *ours, size[faces], of, c.charts)
            better = (then < now) | ~live
            if better.all():
                break
            length[~better] *= 0.5
        length[~better] = 0.0
        uv[rows] = at = at + step * length[chart][:, None]
        big[faces], small[faces] = singular_values(at, local, *ours)
        then = np.where(better, then, now)
        gain = np.subtract(now, then, out=np.zeros_like(now), where=live)
        live &= gain > _ENOUGH
        if until is not None:
            live &= ~until(big, small)
        if turn >= 2:
            live &= then - 0.75 * gain < hopeless
        now = then
    return uv
