"""An island relaxed by hand, dab after dab: a small patch around each dab moves towards where it would lie flat, and never over a fold.

A dab solves for the closest rotations of the patch's triangles with its rim held (as rigid as possible: Liu et al. 2008, from memory) and walks that way, the less the farther
from its middle, up to the first fold and only where the symmetric Dirichlet energy falls. When the brush is lifted, what it touched is solved exactly.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import csc_matrix
from scipy.sparse.linalg import splu

from ..errors import QuiltError
from ..model.scene import Floats
from ..uv.areas import triangle_areas
from .flatten import frames, gradients
from .kernels import energies, first_folds, rotated_sides
from .pieces import piece_of, staying, unsound
from .skin import Laying, Skin, sign_of
from .topology import Mask, Numbers

MOST = 20_000  # dabs of a stroke
_NONE = np.zeros(0, np.int64)
_STEPS = 2  # of a dab: the factors of its patch serve for all of them
_HALVES = 8  # of a step, until the energy falls
_SAFE = 0.8  # of the way to the first fold
_EXACT = 8  # iterations of the exact solve


@dataclass(frozen=True)
class Dab:
    """Where the brush was, in the island's own UVs (2,), its radius there, and its strength above 0 up to 1."""

    at: Floats
    radius: float
    strength: float


def dabs_of(rows: list[list[float]]) -> list[Dab]:
    """Dabs from four numbers each: u, v, radius, strength.

    Raises
    ------
    QuiltError : not finite, no radius, a strength that is none, or too many
    """
    if len(rows) > MOST:
        raise QuiltError(f"A stroke has at most {MOST:,} dabs. Lift the brush now and then.")
    if any(len(d) != 4 or not all(map(math.isfinite, d)) or not (d[2] > 0 and 0 < d[3] <= 1 and max(map(abs, d)) < 1e9) for d in rows):
        raise QuiltError("A dab of the brush is a place, a radius above 0, and a strength above 0 up to 1.")
    return [Dab(np.array(d[:2], float), d[2], d[3]) for d in rows]


class Brush:
    """An island under a brush.

    uv : (W, 2) of its rows, as if it were not mirrored
    """

    def __init__(self, skin: Skin, laying: Laying, island: int, held: bool = False, points: Numbers = _NONE) -> None:
        """held : whether the outline stays; points : corners (k,) of faces, 3 f + k, that stay

        Raises
        ------
        QuiltError : the island is not there
        """
        self.skin, self.lies = skin, laying
        self.faces = np.flatnonzero(laying.island == island)
        if not len(self.faces):
            raise QuiltError("This island is not there any more. Take the brush to it anew.")
        self.piece = piece_of(skin.surface, self.faces, laying.seam)
        self.sign = np.array([sign_of(laying, island), 1.0])
        self.rows, self.count = self.piece.cut.rows, self.piece.cut.count
        self.before = self.uv = self.piece.mean(laying.uv[self.faces] * self.sign)
        self.stay = staying(self.piece, self.faces, held, points)
        area = float(self.piece.surface.area.sum())
        scale = np.sqrt(float(np.abs(triangle_areas(self.uv, self.rows)).sum()) / max(area, 1e-300))
        self.dx, self.dy, self.size = gradients(frames(self.piece.surface) * max(scale, 1e-300))
        order = np.argsort(self.rows.reshape(-1), kind="stable")
        self._first = np.searchsorted(self.rows.reshape(-1)[order], np.arange(self.count + 1))
        self._face_of = order // 3
        self.touched = np.zeros(self.count, bool)
        self.strength = 0.0

    def around(self, rows: Numbers) -> Numbers:
        """The faces (k,) of the piece that have any of some rows."""
        mark = np.zeros(len(self.rows), bool)
        for a, b in zip(self._first[rows].tolist(), self._first[rows + 1].tolist(), strict=True):
            mark[self._face_of[a:b]] = True
        return np.flatnonzero(mark)

    def dab(self, d: Dab) -> Numbers:
        """Relax what lies under the brush; the rows (k,) that moved."""
        away = np.hypot(*(self.uv - d.at * self.sign).T)
        free = np.flatnonzero((away < d.radius) & ~self.stay)
        if not len(free):
            return free
        patch = self.around(free)
        local, inner = np.unique(self.rows[patch], return_inverse=True)
        part = _Patch(self, patch, inner.reshape(-1, 3), local, np.isin(local, free))
        weight = d.strength * (1 - (away[local] / d.radius) ** 2).clip(0) ** 2
        was = self.uv[local]
        now = part.relaxed(was, np.where(part.free, weight, 0.0))
        moved = local[(now != was).any(axis=1)]
        if len(moved):
            self.uv = self.uv.copy()
            self.uv[local] = now
            self.touched[moved] = True
            self.strength = max(self.strength, d.strength)
        return moved

    def settled(self) -> None:
        """Solve exactly what was touched, with all else held; a weak brush goes only so much of the way.

        Raises
        ------
        QuiltError : the island would overlap itself now, which it did not before
        """
        if self.touched.any():
            self.uv = self._exact()
        if unsound(self.piece, self.uv) and not unsound(self.piece, self.before):
            raise QuiltError("The island would overlap itself there. Hold its outline, or cut it first.")

    def _exact(self) -> Floats:
        mine = self.around(np.flatnonzero(self.touched))
        faces = self.faces[mine]
        piece = piece_of(self.skin.surface, faces, self.lies.seam)
        row = np.empty(piece.cut.count, np.int64)
        row[piece.cut.rows] = self.rows[mine]
        start = self.uv[row]
        if piece.folds(start):
            return self.uv
        # At the scale of the whole island, so that what is too dense comes right as well.
        size = float(np.sqrt(self.size.sum() / max(float(self.piece.surface.area.sum()), 1e-300)))
        found = piece.flat(start, "both", ~self.touched[row], iterations=_EXACT, scale=size)
        for share in self.strength * 0.5 ** np.arange(_HALVES):
            out = self.uv.copy()
            # What is held stays to the bit, whatever the solver's rounding.
            out[row] = np.where(self.touched[row][:, None], start + share * (found - start), start)
            if not piece.folds(out[row]):
                return out
        return self.uv

    def laying(self) -> Laying:
        """How all lies now; corners that nothing moved keep their UVs to the bit."""
        moved = (self.uv != self.before).any(axis=1)[self.rows]
        out = self.lies.uv.copy()
        out[self.faces] = np.where(moved[:, :, None], self.uv[self.rows] * self.sign, out[self.faces])
        return replace(self.lies, uv=out)

    def corners(self, rows: Numbers) -> tuple[Numbers, Floats]:
        """The corners (k,) of faces, 3 f + k, of some rows, and their UVs (k, 2)."""
        mark = np.zeros(self.count, bool)
        mark[rows] = True
        at = np.flatnonzero(mark[self.rows.reshape(-1)])
        return 3 * self.faces[at // 3] + at % 3, self.uv[self.rows.reshape(-1)[at]] * self.sign


class _Patch:
    """Some faces of an island, rows (F, 3) in numbers of their own, of which those that are free (w,) move."""

    def __init__(self, b: Brush, faces: Numbers, rows: Numbers, local: Numbers, free: Mask) -> None:
        self.rows, self.free = rows, free
        self.dx, self.dy, self.size = b.dx[faces], b.dy[faces], b.size[faces]
        self.chart = np.zeros(len(faces), np.int64)
        n = len(local)
        stiff = self.size[:, None, None] * (self.dx[:, :, None] * self.dx[:, None, :] + self.dy[:, :, None] * self.dy[:, None, :])
        i, j = np.repeat(rows, 3, axis=1).reshape(-1), np.tile(rows, 3).reshape(-1)
        self.number = np.full(n, -1)
        self.number[free] = np.arange(int(free.sum()))
        # A little towards where a row is keeps it regular where nothing holds it.
        self.pull = 1e-6 * float(self.size.sum()) / n / max(float(self.size.mean()), 1e-300)
        inner = free[i] & free[j]
        k = int(free.sum())
        matrix = csc_matrix((stiff.reshape(-1)[inner], (self.number[i[inner]], self.number[j[inner]])), shape=(k, k))
        diagonal = csc_matrix((np.full(k, self.pull), (np.arange(k), np.arange(k))), shape=(k, k))
        self.factors = splu(matrix + diagonal, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        rim = free[i] & ~free[j]
        self.rim = csc_matrix((stiff.reshape(-1)[rim], (self.number[i[rim]], j[rim])), shape=(k, n))

    def energy(self, uv: Floats) -> float:
        """Symmetric Dirichlet; infinite with a fold."""
        return float(energies(uv, self.rows, self.dx, self.dy, self.size, self.chart, 1)[0])

    def folds(self, uv: Floats) -> int:
        """How many faces are turned over."""
        return int((triangle_areas(uv, self.rows) <= 1e-12 * self.size).sum())

    def relaxed(self, uv: Floats, weight: Floats) -> Floats:
        """Rows (w, 2) moved on, by how much each may (w,)."""
        now = self.energy(uv)
        if not np.isfinite(now):
            return self._unfolded(uv)
        for _ in range(_STEPS):
            right = rotated_sides(uv, self.rows, self.dx, self.dy, self.size)[self.free] - self.rim @ uv + self.pull * uv[self.free]
            step = np.zeros_like(uv)
            step[self.free] = np.asarray(self.factors.solve(right)) - uv[self.free]
            step *= weight[:, None]
            if not np.isfinite(step).all():
                break
            length = min(1.0, _SAFE * float(first_folds(uv, step, self.rows, self.chart, 1)[0]))
            for _ in range(_HALVES):
                then = self.energy(uv + length * step)
                if then < now:
                    uv, now = uv + length * step, then
                    break
                length *= 0.5
            else:
                break
        return uv

    def _unfolded(self, uv: Floats) -> Floats:
        """Where faces are folded: towards the middles of neighbours, as far as fewer are."""
        n = len(uv)
        i, j = self.rows.reshape(-1), np.roll(self.rows, -1, axis=1).reshape(-1)
        links = csc_matrix((np.ones(2 * len(i)), (np.r_[i, j], np.r_[j, i])), shape=(n, n))
        links.data[:] = 1.0
        target = uv.copy()
        k = np.flatnonzero(self.free)
        degree = np.asarray(links.sum(axis=1)).reshape(-1)
        system = csc_matrix((degree[k], (np.arange(len(k)), np.arange(len(k)))), shape=(len(k), len(k))) - links[k][:, k]
        held = links[k][:, ~self.free] @ uv[~self.free]
        if not (~self.free).any():
            return uv
        target[k] = splu(csc_matrix(system)).solve(held)
        was = self.folds(uv)
        for share in (1.0, 0.5, 0.25):
            out = uv + share * (target - uv)
            if self.folds(out) < was:
                return out
        return uv
