"""First guesses of charts: cells (polygons, which are never cut) merged while their normals fit a cone.

Sources, from memory: merging by the gain of a functional (Koepfler, Lopez and Morel 1994); the cone as a proxy (Julius, Kraevoy and Sheffer 2005).
"""

from __future__ import annotations

import numpy as np

from ..model.components import components
from ..model.scene import Floats
from .parts import allowed_edges, seam_cost
from .topology import Mask, Numbers, Surface, cut
from .trial import Wish

_WEAK, _STRONG = np.radians(17.5), np.radians(35.0)  # bends of feature lines


def covariances(moments: Floats, means: Floats, area: Floats) -> Floats:
    """(n, 3, 3) of normals, from sums of their products and of themselves."""
    a = np.maximum(area, 1e-300)[:, None]
    mean = means / a
    return moments / a[:, :, None] - mean[:, :, None] * mean[:, None, :]


def regions_of(s: Surface, wish: Wish, coarse: float = 1.0) -> Numbers:
    """A first label (F,) for every face: cells merged while the misfit to a cone that a union costs is less than the seam that it saves."""
    cells, label = np.unique(wish.cell, return_inverse=True)
    n = len(cells)
    h = np.flatnonzero((s.twin > np.arange(len(s.twin))) & ~wish.must)
    a, b = label[h // 3], label[s.twin[h] // 3]
    cost = seam_cost(s)[h]
    keep = a != b
    a, b, cost = a[keep], b[keep], cost[keep]
    area = np.bincount(label, s.area, n)
    means = np.stack([np.bincount(label, s.area * s.normal[:, k], n) for k in range(3)], axis=1)
    moments = np.stack([np.bincount(label, s.area * s.normal[:, i] * s.normal[:, j], n) for i in range(3) for j in range(3)], axis=1)
    of = np.arange(n)  # region of every cell
    last = 0.02 * coarse * (wish.stretch - 1) * np.sqrt(s.area.sum())

    def misfit(mom: Floats, mean: Floats, size: Floats) -> Floats:
        found = covariances(mom.reshape(-1, 3, 3), mean, size)
        values = np.linalg.eigvalsh(found)
        return size * (np.maximum(values[:, 0], 0.0) + 0.05 * np.maximum(values.sum(axis=1), 0.0))

    for level in range(12, -1, -1):
        limit = last / 2**level
        while len(a):
            low, high = np.minimum(a, b), np.maximum(a, b)
            pairs, slot = np.unique(low * n + high, return_inverse=True)
            shared = np.bincount(slot, cost)
            i, j = pairs // n, pairs % n
            growth = (
                misfit(moments[i] + moments[j], means[i] + means[j], area[i] + area[j])
                - misfit(moments[i], means[i], area[i])
                - misfit(moments[j], means[j], area[j])
            )
            score = growth / np.maximum(shared, 1e-300)
            # Pairs that are the best of both are merged at once; ties by number, so that there always is one.
            best = np.full(n, np.inf)
            np.minimum.at(best, i, score)
            np.minimum.at(best, j, score)
            mutual = np.flatnonzero((score <= best[i]) & (score <= best[j]) & (score < limit))
            taken = np.zeros(n, bool)
            chosen = []
            for k in mutual.tolist():
                if not taken[i[k]] and not taken[j[k]]:
                    taken[i[k]] = taken[j[k]] = True
                    chosen.append(k)
            if not chosen:
                break
            into = np.arange(n)
            into[j[chosen]] = i[chosen]
            for sums in (area, means, moments):
                np.add.at(sums, i[chosen], sums[j[chosen]])
                sums[j[chosen]] = 0
            of = into[of]
            a, b = into[a], into[b]
            keep = a != b
            a, b, cost = a[keep], b[keep], cost[keep]
    return of[label]


def seams_between(s: Surface, label: Numbers, must: Mask) -> Mask:
    """(3 F,) half-edges between faces of different labels, and those that must be."""
    inner = s.twin >= 0
    out = must.copy()
    h = np.flatnonzero(inner)
    out[h] |= label[h // 3] != label[s.twin[h] // 3]
    return out


def between_lines(s: Surface, wish: Wish, weak: float = _WEAK, strong: float = _STRONG) -> Numbers:
    """Labels (F,) of the regions between feature lines: edges of polygons that are bent by more than `weak` and hang together with one bent by more than
    `strong`. Lines that end in a region part nothing."""
    h = np.flatnonzero((s.twin >= 0) & (np.abs(s.bend) > weak) & allowed_edges(s, wish.cell))
    n = len(s.points)
    line = components(n, s.start[h], s.end[h])
    held = np.zeros(n, bool)
    held[line[s.start[h[np.abs(s.bend[h]) > strong]]]] = True
    seam = wish.must.copy()
    seam[h] |= held[line[s.start[h]]]
    return cut(s, seam).chart
