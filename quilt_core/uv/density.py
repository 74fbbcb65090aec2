"""Texel density: how many texels of a map lie on one metre of surface.

D = map size x sqrt(UV area / world area), in px/m (arithmetic). For a map of W x H px the size is sqrt(W H).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats, Mesh, MeshObject
from .islands import Islands


@dataclass(frozen=True)
class Spread:
    """Median (by world area), least and greatest density of some islands, in px/m."""

    median: float
    least: float
    greatest: float


def world_areas(mesh: Mesh, placing: MeshObject) -> Floats:
    """Area (T,) of the triangles of a placed mesh in square metres, under any scale, shear or mirroring.

    Parameters
    ----------
    placing : the object that places the mesh

    Returns
    -------
    (T,) square metres
    """
    p = mesh.positions @ placing.world[:3, :3].T
    a, b, c = (p[mesh.triangles[:, k]] for k in range(3))
    return 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)


def island_world_areas(islands: Islands, triangle_areas: Floats) -> Floats:
    """World area (n,) of each island.

    Parameters
    ----------
    triangle_areas : (T,) square metres

    Returns
    -------
    (n,) square metres
    """
    has = islands.of_triangle >= 0
    return np.bincount(islands.of_triangle[has], triangle_areas[has], islands.count).astype(np.float64)


def densities(uv_area: Floats, world_area: Floats, map_px: float | Floats) -> Floats:
    """Density (n,) in px/m at one map size or (n,) of them; NaN where one of the areas is zero and there is none.

    Parameters
    ----------
    uv_area : (n,) of the unit tile; world_area : (n,) square metres; map_px : texels along a side, one or (n,)

    Returns
    -------
    (n,) px/m, NaN for none
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        d = map_px * np.sqrt(uv_area / world_area)
    return np.where((uv_area > 0) & (world_area > 0), d, np.nan)


def spread(density: Floats, weight: Floats) -> Spread | None:
    """Spread of densities (n,), the median weighted; None when no island has a density.

    Parameters
    ----------
    density : (n,) px/m, NaN for none; weight : (n,) square metres

    Returns
    -------
    see `Spread`
    """
    good = np.isfinite(density) & (weight > 0)
    if not good.any():
        return None
    d, w = density[good], weight[good]
    order = np.argsort(d)
    middle = int(np.searchsorted(np.cumsum(w[order]), 0.5 * w.sum()))
    return Spread(float(d[order][min(middle, len(d) - 1)]), float(d.min()), float(d.max()))


def spreads(density: Floats, weight: Floats, starts: NDArray[np.integer]) -> list[Spread | None]:
    """`spread` of many runs of densities at once, with the same results: run k is `density[starts[k]:starts[k + 1]]`.

    Parameters
    ----------
    density, weight : (n,); starts : (k + 1,) from 0 to n
    """
    count = len(starts) - 1
    owner = np.repeat(np.arange(count), np.diff(starts))
    good = np.flatnonzero(np.isfinite(density) & (weight > 0))
    order = good[np.lexsort((density[good], owner[good]))]
    d, of = density[order], owner[order]
    bounds = np.searchsorted(of, np.arange(count + 1))
    summed = np.concatenate([[0.0], np.cumsum(weight[order])])
    # A weight's share of its run: where it first reaches a half is the median.
    out: list[Spread | None] = []
    for k in range(count):
        a, b = int(bounds[k]), int(bounds[k + 1])
        if a == b:
            out.append(None)
            continue
        half = summed[a] + 0.5 * (summed[b] - summed[a])
        middle = int(np.searchsorted(summed[a + 1 : b + 1], half)) if b > a + 1 else 0
        out.append(Spread(float(d[a + min(middle, b - a - 1)]), float(d[a]), float(d[b - 1])))
    return out


def even_scales(uv_area: Floats, world_area: Floats, group: NDArray[np.integer] | None = None) -> Floats:
    """Linear factor (n,) for each island that brings all to one density of 1 UV unit per metre.

    Islands without area on one side take the factor of the median of the rest (of their group, where that
    has one), so that they stay in proportion to what surrounds them.

    Parameters
    ----------
    uv_area, world_area : (n,); group : (n,) number of the group of each island

    Returns
    -------
    (n,) factors
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.sqrt(world_area / uv_area)
    good = np.isfinite(factor) & (factor > 0)
    if not good.any():
        return np.ones(len(factor))
    factor = np.where(good, factor, np.nan)
    if group is not None:
        for g in np.unique(group[~good]):
            mine = group == g
            if good[mine].any():
                factor[mine & ~good] = np.nanmedian(factor[mine])
    factor[np.isnan(factor)] = np.nanmedian(factor)
    return factor
