"""The sparse systems that lay charts flat: two unknowns for every row of UVs."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.sparse import csc_matrix, identity
from scipy.sparse.linalg import splu

from ..model.scene import Floats
from .kernels import conformal_system, pull_system
from .topology import Numbers, ranges

_SYMMETRIC = {"SymmetricMode": True}


class System:
    """The pattern of a system over the rows of UVs of some faces, in an order that keeps its factors small.

    place : (W,) of every row in that order
    first : (W + 1,) where the numbers of each place's column begin in the pattern of rows against rows, sorted by columns
    slot : (F, 3, 3) of each face's corner i against its corner j: where in the column of j the row i stands
    own : (W,) where in its column each place itself stands

    u and v of a row are neighbours: the column of a row becomes two, each with two numbers for one of the pattern.
    """

    def __init__(self, rows: Numbers, count: int, place: Numbers | None = None) -> None:
        self.rows, self.count = rows, count
        if place is None:
            self._lay_out(np.arange(count))
            place = self._small_order()
        self._lay_out(place)

    def part(self, rows: Numbers, kept: Numbers) -> System:
        """The system of some of the faces: `kept` (k,) are the rows that are left, `rows` (f, 3) the faces in their numbers. The order stays."""
        return System(rows, len(kept), np.argsort(np.argsort(self.place[kept])))

    def _lay_out(self, place: Numbers) -> None:
        n = self.count
        at = place[self.rows]
        key = np.concatenate([(at[:, None, :] * n + at[:, :, None]).reshape(-1), np.arange(n) * (n + 1)])
        unique, slot = np.unique(key, return_inverse=True)
        column = unique // n
        self.place, self._row = place, unique % n
        self.first = np.searchsorted(column, np.arange(n + 1))
        inside = slot.reshape(-1) - self.first[key // n]
        self.slot, self.own = inside[:-n].reshape(-1, 3, 3), inside[len(key) - n :]
        size = np.diff(self.first)
        self._indptr = np.concatenate([[0], np.cumsum(np.repeat(2 * size, 2))]).astype(np.int32)
        both = (2 * (unique % n)[:, None] + np.arange(2)).reshape(-1)
        self._indices = both[ranges(np.repeat(2 * self.first[:-1], 2), np.repeat(2 * self.first[1:], 2))].astype(np.int32)
        self._data = np.empty(len(self._indices))

    def _small_order(self) -> Numbers:
        """The place (W,) of every row in an order of minimum degree."""
        n = self.count
        size = np.diff(self.first)
        column = np.repeat(np.arange(n), size)
        data = np.where(self._row == column, np.repeat(size, size) + 1.0, -1.0)
        factors = splu(
            csc_matrix((data, self._row, self.first), shape=(n, n)), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options=_SYMMETRIC
        )
        return np.asarray(factors.perm_c, np.int64)

    def pulled(self, dx: Floats, dy: Floats, size: Floats, uv: Floats, pull: Floats) -> Floats:
        """Where the weighted nearest rotations pull all rows (W, 2); see `pull_system`."""
        right = np.empty((self.count, 2))
        pull_system(self.slot, self.first, self.own, self.place, self.rows, dx, dy, size, uv, pull, self._data, right)
        return self._solved(right)

    def conformal(self, dx: Floats, dy: Floats, size: Floats, heavy: Floats, right: Floats) -> Floats:
        """Rows (W, 2) of least conformal energy, with `heavy` (W, 2) on the diagonal, and the right side (W, 2)."""
        conformal_system(self.slot, self.first, self.own, self.place, self.rows, dx, dy, size, heavy, self._data)
        turned = np.empty_like(right)
        turned[self.place] = right
        return self._solved(turned)

    def _solved(self, right: Floats) -> Floats:
        """The solution (W, 2), by rows, for a right side by places."""
        return np.asarray(self._factors().solve(right.reshape(-1))).reshape(-1, 2)[self.place]

    def _factors(self) -> Any:
        n = 2 * self.count
        matrix = csc_matrix((self._data, self._indices, self._indptr), shape=(n, n))
        try:
            return _factored(matrix)
        except RuntimeError:
            # Faces that are nearly folded may leave no digits for others: then a little is added everywhere.
            return _factored(matrix + identity(n, format="csc") * (1e-12 * float(np.abs(self._data).max())))


def _factored(matrix: csc_matrix) -> Any:
    return splu(matrix, permc_spec="NATURAL", diag_pivot_thresh=0.0, options=_SYMMETRIC)
