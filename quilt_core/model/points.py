"""Which positions of a mesh are one point. It is decided here once, for islands, seams, welding and proofs alike.

Programs write the last point of a ring by its own sine, so that the two ends of it lie some 1e-16 of its size apart, and duplicate vertices differ by the
rounding of 32 bits.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .components import components
from .material import Floats

NEAR = 1e-6  # of the mesh's size: positions closer than this are meant to be one


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _number_rows(bits):  # type: ignore[no-untyped-def]
    """A number for every distinct row of (N, K) uint64, in order of appearance. Open addressing, O(N K)."""
    n, k = bits.shape
    size = 16
    while size < 2 * n:
        size *= 2
    table = np.full(size, -1, np.int64)
    out = np.empty(n, np.int64)
    first = np.empty(n, np.int64)
    count = 0
    for i in range(n):
        h = np.uint64(1469598103934665603)
        for c in range(k):
            h = (h ^ bits[i, c]) * np.uint64(0x9E3779B97F4A7C15)
            h ^= h >> np.uint64(29)
        at = np.int64(h & np.uint64(size - 1))
        while True:
            seen = table[at]
            if seen < 0:
                table[at] = count
                first[count] = i
                out[i] = count
                count += 1
                break
            same = True
            for c in range(k):
                if bits[first[seen], c] != bits[i, c]:
                    same = False
                    break
            if same:
                out[i] = seen
                break
            at = (at + 1) & (size - 1)
    return out, count


def number_rows(values: Floats) -> tuple[NDArray[np.int64], int]:
    """A number for every distinct row, by exact value: ((N,) numbers, how many). -0 and 0 are equal."""
    return _number_rows(np.ascontiguousarray(values + 0.0).view(np.uint64))  # type: ignore[no-any-return]


def first_of(number: NDArray[np.integer], count: int) -> NDArray[np.int64]:
    """The first row of each number.

    Parameters
    ----------
    number : (n,) from 0 to count - 1

    Returns
    -------
    (count,) rows
    """
    first = np.empty(count, np.int64)
    first[number[::-1]] = np.arange(len(number) - 1, -1, -1)
    return first


def merged_positions(positions: Floats) -> NDArray[np.int64]:
    """A label (V,) for every position (V, 3); those within twice `NEAR` of the size of all of each other have the same.

    Notes
    -----
    Memory goes by V, however many lie at one place: positions share a cell first whose diagonal is that distance, and one of each cell looks for its neighbours. (All
    pairs of a real statue of 195,402 triangles were 8 GB; a stray vertex far away makes every other one near.)
    """
    number, n = number_rows(positions)
    first = first_of(number, n)
    places = positions[first]
    reach = 2 * NEAR * max(float(np.ptp(places, axis=0).max()) if n else 0.0, 1e-30)
    if not _any_near(places, reach):
        return number
    cell, cells = number_rows(np.floor((places - places.min(axis=0)) / (reach / np.sqrt(3))))
    from scipy.spatial import cKDTree  # loads much, and few meshes need it

    pairs = cKDTree(places[first_of(cell, cells)]).query_pairs(reach, output_type="ndarray")
    return components(cells, *pairs.T)[cell][number]


def _any_near(places: Floats, reach: float) -> bool:
    """Whether any two of (n, 3) distinct places may lie within a distance of each other.

    They are compared on eight grids whose cells are two distances wide, each shifted by one along some of the axes, so that no grid line parts a pair in all.
    """
    cells = (places - places.min(axis=0, initial=0.0)) / (2 * reach)
    shifts = np.array(np.meshgrid([0, 0.5], [0, 0.5], [0, 0.5])).reshape(3, 8).T
    return any(number_rows(np.floor(cells + shift))[1] < len(places) for shift in shifts)


def points_of(positions: Floats, triangles: NDArray[np.integer]) -> NDArray[np.int64]:
    """The point that every position is: those that only rounding keeps apart are one, unless that would collapse a triangle.

    Parameters
    ----------
    positions : (V, 3); triangles : (T, 3) rows of them

    Returns
    -------
    (V,) numbers from 0 without gaps
    """
    label, exact = merged_positions(positions), number_rows(positions)[0]
    near, same = (np.stack([of[triangles[:, k]] == of[triangles[:, (k + 1) % 3]] for k in range(3)], axis=1) for of in (label, exact))
    small = np.unique(label[triangles[(near & ~same).any(axis=1)]])
    if not len(small):
        return label
    out = np.where(np.isin(label, small), len(label) + exact, label)
    return np.unique(out, return_inverse=True)[1].reshape(-1).astype(np.int64)
