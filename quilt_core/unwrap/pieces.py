"""A few islands taken out of a skin: laid flat again, fitted to where they were, and checked for folds and overlaps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from ..model.scene import Floats
from ..model.similarity import least_squares
from ..uv.areas import signed_areas, triangle_areas
from .flatten import flatten
from .parting import overlaps
from .parts import outlines, part_of
from .topology import Borders, Cut, Mask, Numbers, Surface, borders, cut

WAYS = ("angles", "sizes", "both")
_ROUNDS = 4  # of making sizes even
_CLOSED, _FOLDS, _OVERLAPS = "it would close the surface so that it cannot lie flat", "triangles would fold over", "it would overlap itself"
_GRAVE = ("", _OVERLAPS, _FOLDS, _CLOSED)


@dataclass(frozen=True)
class Piece:
    """The surface of some faces of a skin, cut, with its borders."""

    surface: Surface
    cut: Cut
    borders: Borders

    def mean(self, uv: Floats) -> Floats:
        """UVs (W, 2) of the rows, each in the middle of where its corners (F, 3, 2) are."""
        rows = self.cut.rows.reshape(-1)
        count = np.maximum(np.bincount(rows, minlength=self.cut.count), 1)
        flat = uv.reshape(-1, 2)
        return np.stack([np.bincount(rows, flat[:, k], self.cut.count) / count for k in (0, 1)], axis=1)

    def folds(self, uv: Floats) -> bool:
        """Whether a face is turned over by UVs (W, 2), or has no area."""
        return bool(self.folded_charts(uv).any())

    def folded_charts(self, uv: Floats) -> Mask:
        """The charts (n,) in which UVs (W, 2) turn a face over, or leave it no area."""
        c, area = self.cut, self.surface.area
        covered = triangle_areas(uv, c.rows)
        density = np.bincount(c.chart, np.abs(covered), c.charts) / np.maximum(np.bincount(c.chart, area, c.charts), 1e-300)
        return np.asarray(np.bincount(c.chart, covered <= 1e-12 * area * density[c.chart], c.charts) > 0)

    def flat(
        self,
        start: Floats | None = None,
        way: str = "both",
        held: Mask | None = None,
        stop: Callable[[], bool] = lambda: False,
        iterations: int = 25,
        scale: float | None = None,
    ) -> Floats:
        """The piece laid flat at the scale of the surface, or at that of `start` where rows are held.

        Parameters
        ----------
        start : (W, 2) without folds, None to begin from nothing
        way : "angles" keeps angles, "sizes" areas, "both" the middle of the two
        held : (W,) rows that stay where `start` has them; scale : of `start` to the surface, None for what it is on the whole
        """
        if start is not None:
            scale = scale or float(np.sqrt(max(_density(self, start), 1e-300)))
            start = start / scale
        keep = scale if held is not None and scale is not None else 1.0
        if way == "angles" and held is None:
            return flatten(self.surface, self.cut, self.borders, 0, None, stop).uv
        found = flatten(self.surface, self.cut, self.borders, iterations, start, stop, held=held).uv
        for _ in range(_ROUNDS if way == "sizes" else 0):
            if self.folds(found):
                break
            # Each face may stay as slanted as it lies, but has its own area again.
            p = found[self.cut.rows]
            like = (p - p[:, :1]) * np.sqrt(self.surface.area / np.maximum(triangle_areas(found, self.cut.rows), 1e-300))[:, None, None]
            # In this frame nothing is turned, so that the first side need not lie along an axis.
            found = flatten(self.surface, self.cut, self.borders, 5, found, stop, held=held, like=like).uv
        return found * keep


def piece_of(s: Surface, faces: Numbers, seam: Mask) -> Piece:
    """Some faces (k,) of a surface, with the seams (3 F,) among them."""
    part, h = part_of(s, faces)
    own = seam[h]
    c = cut(part, own)
    return Piece(part, c, borders(part, c, own))


def staying(piece: Piece, faces: Numbers, outline: bool, points: Numbers) -> Mask:
    """(W,) rows of a piece that stay: its outline if wished, and corners of the skin's faces, of which `faces` (k,) are the piece's."""
    rows = piece.cut.rows.reshape(-1)
    out = np.zeros(piece.cut.count, bool)
    if outline:
        out[rows[piece.borders.edges]] = True
    at = np.searchsorted(faces, points // 3)
    mine = (at < len(faces)) & (faces[np.minimum(at, len(faces) - 1)] == points // 3)
    out[rows[3 * at[mine] + points[mine] % 3]] = True
    return out


def _density(piece: Piece, uv: Floats) -> float:
    """UV area over area."""
    return float(np.abs(triangle_areas(uv, piece.cut.rows)).sum() / max(float(piece.surface.area.sum()), 1e-300))


def faults(piece: Piece, uv: Floats, over: bool = True) -> list[str]:
    """For each chart why UVs (W, 2) cannot be: no border, folds, overlaps; empty where they can.

    Parameters
    ----------
    over : whether charts are looked at for overlaps
    """
    b, c = piece.borders, piece.cut
    closed = (b.loops == 0) | (b.genus > 0)
    folds = piece.folded_charts(uv)
    out = np.select([closed, folds], [_CLOSED, _FOLDS], "").astype(object)
    if over and not (closed | folds).all():
        regions = outlines(c, b, uv)
        covered = np.bincount(c.chart, triangle_areas(uv, c.rows), c.charts)
        doubtful = ~shapely.is_valid(regions) | (np.abs(shapely.area(regions) - covered) > 1e-9 * covered)
        for chart in np.flatnonzero(doubtful & ~closed & ~folds):
            # The sides of a slit that was not moved apart touch: only triangles that share area are an overlap.
            if overlaps(uv[c.rows[c.members[chart]]]):
                out[chart] = _OVERLAPS
    return [str(why) for why in out]


def unsound(piece: Piece, uv: Floats) -> str:
    """Why UVs (W, 2) of a piece cannot be, the worst first; empty where they can."""
    return worst(faults(piece, uv))


def worst(reasons: list[str]) -> str:
    """The gravest of some reasons."""
    return max(reasons, key=_GRAVE.index)


def fitted(own: Floats, goal: Floats, weight: Floats, points: Floats, scale: float | None = None) -> tuple[Floats, float]:
    """Points (n, 2) moved by the similarity that brings `own` (k, 2) nearest to `goal` (k, 2), and the middle distance that is left (least
    squares in complex numbers). With a `scale` it is that one."""
    turn, ma, mb = least_squares(own, goal, weight)
    if scale is not None:
        turn = scale * (turn / abs(turn) if abs(turn) > 0 else 1.0)
    z = turn * (points @ [1, 1j] - ma) + mb
    w, left = np.maximum(weight, 1e-300), np.abs(turn * (own @ [1, 1j] - ma) + mb - goal @ [1, 1j])
    return np.stack([z.real, z.imag], axis=1), float((w * left).sum() / w.sum())


def placed(piece: Piece, uv: Floats, old: Floats, like: Mask) -> Floats:
    """UVs (W, 2) of a piece brought, chart by chart, to where faces `like` (F,) of it were (F, 3, 2), at the density that these had there."""
    out = uv.copy()
    for mine in piece.cut.members:
        use = mine[like[mine]] if like[mine].any() else mine
        p = old[use]
        was = float(np.abs(signed_areas(p)).sum()) / max(float(piece.surface.area[use].sum()), 1e-300)
        now = float(np.abs(triangle_areas(uv, piece.cut.rows[mine])).sum()) / max(float(piece.surface.area[mine].sum()), 1e-300)
        scale = float(np.sqrt(was / max(now, 1e-300)))
        rows = np.unique(piece.cut.rows[mine])
        weight = np.repeat(piece.surface.area[use], 3)
        out[rows] = fitted(uv[piece.cut.rows[use]].reshape(-1, 2), p.reshape(-1, 2), weight, uv[rows], scale)[0]
    return out
