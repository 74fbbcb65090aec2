"""Islands laid out as one reads: in rows from the upper left, with even gaps, in an order that somebody can follow."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats

_ROUNDS = 40  # of halving between a size that fits and one that does not


def in_rows(sizes: Floats, gap: float, margin: float) -> tuple[Floats, float]:
    """Lay boxes out in rows in a square of side 1, in the order that they have.

    Parameters
    ----------
    sizes : (n, 2) width and height; gap : between neighbours, and between rows; margin : to the border

    Returns
    -------
    lower left corners (n, 2), and the factor that all boxes are made smaller by where they do not fit as they are (1 where they do); islands of a row stand
    on its lower edge
    """
    sizes = np.asarray(sizes, np.float64).reshape(-1, 2)
    room = max(1 - 2 * margin, 1e-9)
    if not len(sizes):
        return np.zeros((0, 2)), 1.0
    found = _rows(sizes, gap, room)
    if found is not None:
        return _corners(found, sizes, gap, margin), 1.0
    low, high = 0.0, 1.0
    for _ in range(_ROUNDS):
        middle = 0.5 * (low + high)
        if _rows(middle * sizes, gap, room) is None:
            high = middle
        else:
            low = middle
    found = _rows(low * sizes, gap, room)
    if found is None:
        # So many that the gaps alone need more room: they are made smaller with the islands.
        corners, factor = in_rows(sizes, 0.5 * gap, margin) if gap > 1e-12 else (np.full_like(sizes, margin), 1e-9)
        return corners, factor
    return _corners(found, low * sizes, gap, margin), low


def _rows(sizes: Floats, gap: float, room: float) -> list[list[int]] | None:
    """Which boxes stand in which row; None where they need more room than a square of that side."""
    rows: list[list[int]] = []
    used = height = tall = 0.0
    for k, (w, h) in enumerate(sizes.tolist()):
        if rows and used + gap + w <= room + 1e-12:
            rows[-1].append(k)
            used += gap + w
            tall = max(tall, h)
        else:
            height += tall + (gap if len(rows) else 0.0)
            rows.append([k])
            used, tall = w, h
        if w > room + 1e-12:
            return None
    return rows if height + tall <= room + 1e-12 else None


def _corners(rows: list[list[int]], sizes: Floats, gap: float, margin: float) -> Floats:
    out = np.zeros_like(sizes)
    top = 1 - margin
    for row in rows:
        base = top - float(sizes[row, 1].max())
        left = margin
        for k in row:
            out[k] = left, base
            left += float(sizes[k, 0]) + gap
        top = base - gap
    return out


def along(path: Floats, points: Floats) -> NDArray[np.float64]:
    """How far along a line (k, 3) of corners the places on it are that are nearest to points (n, 3)."""
    if len(path) < 2:
        return np.linalg.norm(points - path[:1], axis=1) if len(path) else np.zeros(len(points))
    start, d = path[:-1], np.diff(path, axis=0)
    length = np.linalg.norm(d, axis=1)
    before = np.r_[0.0, np.cumsum(length)[:-1]]
    t = np.clip(((points[:, None] - start) * d).sum(axis=2) / np.maximum(length**2, 1e-300), 0, 1)
    away = np.linalg.norm(start + t[:, :, None] * d - points[:, None], axis=2)
    best = np.argmin(away, axis=1)
    row = np.arange(len(points))
    return np.asarray(before[best] + t[row, best] * length[best])
