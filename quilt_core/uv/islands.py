"""Triangles into islands: which triangles hang together in the UV plane, and what each island measures.

Two triangles belong to one island when they share a corner, that is a point together with a UV: two vertices
that only differ in their normal are one corner, two that differ in their UV are a seam. What was laid on its
neighbour (see `stacked`) is an island of its own.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..model.components import components
from ..model.points import first_of, number_rows
from ..model.scene import Floats, Ints, Mesh, UvChannel
from .areas import triangle_areas
from .plane import plane_triangles
from .stacked import islands_apart

WELD = 2.0**-21  # UV units: 0.001 px of a 2048 px map
# Area of a needle against the square of its length. UVs of 32 bits are rounded by 6e-8: from a length of 0.6 % of the tile on, what is thinner is rounding.
NEEDLE = 1e-5
ROUNDING = 2.0**-22  # of a coordinate: twice what rounding to 32 bits can move two corners apart by


def weld(keys: Floats, uvs: Floats) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows that are one point: equal keys, and UVs that differ by no more than the noise of 32-bit files.

    Exporters turn v upside down in 32 bits, which leaves the two sides of a seamless edge apart by some 1e-7.
    UVs are compared on four grids of `WELD`, each shifted by half a cell, so that no grid line parts a pair.

    Parameters
    ----------
    keys : (N, K) compared exactly; uvs : (N, 2)

    Returns
    -------
    (N,) label of each row, (L,) one row of each label
    """
    number, count = number_rows(np.hstack([keys, uvs]))
    first = first_of(number, count)
    label = number
    pairs = []
    for shift in ((0.0, 0.0), (0.5, 0.0), (0.0, 0.5), (0.5, 0.5)):
        cells = np.floor(uvs[first] / WELD + np.array(shift))
        group, groups = number_rows(np.hstack([keys[first], cells]))
        if groups < count:
            pairs.append(np.column_stack([np.arange(count), first_of(group, groups)[group]]))
    if pairs:
        a, b = np.concatenate(pairs).T
        joined = components(count, a, b)
        label = joined[number]
        first = first_of(label, int(joined.max()) + 1)
    return label.astype(np.int64), first


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _join(corners, count):  # type: ignore[no-untyped-def]
    """Component number of every triangle, (T, 3) corners joined; union by smaller root, path halving."""
    parent = np.arange(count)
    for t in range(corners.shape[0]):
        for k in range(1, 3):
            a, b = corners[t, 0], corners[t, k]
            while parent[a] != a:
                parent[a] = parent[parent[a]]
                a = parent[a]
            while parent[b] != b:
                parent[b] = parent[parent[b]]
                b = parent[b]
            if a < b:
                parent[b] = a
            else:
                parent[a] = b
    number = np.full(count, -1, np.int32)
    out = np.empty(corners.shape[0], np.int32)
    n = 0
    for t in range(corners.shape[0]):
        a = corners[t, 0]
        while parent[a] != a:
            a = parent[a]
        if number[a] < 0:
            number[a] = n
            n += 1
        out[t] = number[a]
    return out, n


@dataclass(frozen=True)
class Islands:
    """The islands of one mesh in one channel, numbered by their first triangle.

    of_triangle : (T,) island of each triangle, -1 without UVs
    of_row : (W,) island of each UV row, -1 where no triangle uses it
    area, signed_area : (n,) in UV units squared; `area` adds up absolute triangle areas; `signed_area` is 0 for needles, which lie neither way round
    box : (n, 4) least u, least v, greatest u, greatest v
    zero_triangles : triangles that cover nothing in the UV plane
    """

    of_triangle: Ints
    of_row: Ints
    area: Floats
    signed_area: Floats
    box: Floats
    zero_triangles: int

    @property
    def count(self) -> int:
        """How many islands there are."""
        return len(self.area)


def is_zero_area(uvs: Floats, triangles: NDArray[np.integer], areas: Floats) -> NDArray[np.bool_]:
    """(T,) whether a triangle is a line or a point: its height is under 1e-7 of its longest side, or within what rounding to 32 bits moves its corners by.

    Anything flatter cannot be told from a line, and would be another one in every file that is written.

    Parameters
    ----------
    uvs : (W, 2); triangles : (T, 3) rows; areas : (T,) as of `triangle_areas`

    Returns
    -------
    (T,) bool
    """
    p = uvs[triangles]
    longest = np.max([((p[:, k] - p[:, k - 1]) ** 2).sum(axis=1) for k in range(3)], axis=0)
    rounding = ROUNDING * np.abs(p).max(axis=(1, 2), initial=0.0)
    return np.asarray(np.abs(areas) <= 0.5 * np.maximum(1e-7 * longest, rounding * np.sqrt(longest)))


def _joined(mesh: Mesh, channel: UvChannel, has: NDArray[np.bool_]) -> tuple[Ints, int]:
    """Island of every triangle that has UVs, and how many there are."""
    tri = channel.triangles[has].astype(np.int64)
    point = mesh.points[mesh.triangles[has]]
    point_of = np.zeros(len(channel.uvs), np.int64)
    point_of[tri] = point
    label, representatives = weld(point_of[:, None].astype(np.float64), channel.uvs)
    corner = label[tri]
    used = np.zeros(len(label), bool)
    used[tri] = True
    of, count = _join(corner, len(representatives))
    if np.bincount(label[used], minlength=1).max(initial=0) <= 1:
        return of, count
    area = triangle_areas(channel.uvs, tri)
    found = islands_apart(count, corner, tri, channel.uvs[tri], np.where(is_zero_area(channel.uvs, tri, area), 0.0, area))
    return (of, count) if found is None else found


def find_islands(mesh: Mesh, channel: UvChannel, given: Ints | None = None) -> Islands:
    """Islands of a mesh in one of its channels.

    Parameters
    ----------
    given : (T,) the island of each triangle, where it is known from before the UVs were moved

    Notes
    -----
    O(T). Triangles without UVs belong to none.
    """
    has: NDArray[np.bool_] = np.asarray((channel.triangles >= 0).all(axis=1))
    tri = channel.triangles[has]
    if given is None:
        of, n = _joined(mesh, channel, has)
    else:
        of, n = given[has], int(given.max(initial=-1)) + 1
    of_triangle = np.full(len(channel.triangles), -1, np.int32)
    of_triangle[has] = of
    of_row = np.full(len(channel.uvs), -1, np.int32)
    of_row[tri] = of[:, None]
    plane = plane_triangles(mesh, channel)[has]
    areas = triangle_areas(channel.uvs, plane)
    area = np.bincount(of, np.abs(areas), n).astype(np.float64)
    signed = np.bincount(of, areas, n).astype(np.float64)
    box = np.full((n, 4), np.inf)
    used = of_row >= 0
    for k, sign in ((0, 1), (1, 1), (2, -1), (3, -1)):
        np.minimum.at(box[:, k], of_row[used], sign * channel.uvs[used, k % 2])
    box[:, 2:] *= -1
    # The winding of a needle is lost when its UVs are rounded to 32 bits, and would be another one in every file that is written.
    long = (box[:, 2:] - box[:, :2]).max(axis=1, initial=0.0)
    signed[area <= NEEDLE * long**2] = 0.0
    return Islands(of_triangle, of_row, area, signed, box, int(is_zero_area(channel.uvs, plane, areas).sum()))
