"""Similarities of the plane, rows (n, 5): angle (radians), mirror (1 or -1, applied first, to u), scale, offset u, offset v.

With M = diag(-1, 1): M R(a) = R(-a) M, which is all that the products below need.
"""

from __future__ import annotations

import numpy as np

from .scene import Floats


def composed(outer: Floats, inner: Floats) -> Floats:
    """outer(inner(x)), row by row.

    Parameters
    ----------
    outer, inner : (n, 5)

    Returns
    -------
    (n, 5)
    """
    out = np.empty_like(inner)
    out[:, 0] = outer[:, 0] + outer[:, 1] * inner[:, 0]
    out[:, 1] = outer[:, 1] * inner[:, 1]
    out[:, 2] = outer[:, 2] * inner[:, 2]
    out[:, 3:] = applied(outer, inner[:, 3:])
    return out


def inverse(similarities: Floats) -> Floats:
    """The similarity that undoes each row."""
    out = np.zeros_like(similarities)
    out[:, 0] = -similarities[:, 1] * similarities[:, 0]
    out[:, 1] = similarities[:, 1]
    out[:, 2] = 1.0 / similarities[:, 2]
    out[:, 3:] = -applied(out, similarities[:, 3:])
    return out


def applied(similarities: Floats, points: Floats) -> Floats:
    """Points (n, 2), each moved by its row.

    Parameters
    ----------
    similarities : (n, 5); points : (n, 2)

    Returns
    -------
    (n, 2)
    """
    c, s = np.cos(similarities[:, 0]), np.sin(similarities[:, 0])
    u, v = points[:, 0] * similarities[:, 1], points[:, 1]
    return similarities[:, 2:3] * np.column_stack([c * u - s * v, s * u + c * v]) + similarities[:, 3:]


def cos_sin(angle: Floats) -> tuple[Floats, Floats]:
    """Cosine and sine, exact at multiples of 90 degrees."""
    c, s = np.cos(angle), np.sin(angle)
    quarter = np.abs(c * s) < 1e-9
    return np.where(quarter, np.round(c), c), np.where(quarter, np.round(s), s)


def least_squares(one: Floats, other: Floats, weight: Floats) -> tuple[complex, complex, complex]:
    """The turn and size w, as a number of the complex plane, that brings points nearest to others about the means a and b of the two: w (x - a) + b.

    Parameters
    ----------
    one, other : (k, 2), point by point; weight : (k,)

    Returns
    -------
    w, a, b; w is 1 where all points are one

    Notes
    -----
    The slope of a regression line, w = sum(conj(x) y) / sum(|x|^2) about the means.
    """
    x, y, m = one @ [1, 1j], other @ [1, 1j], np.maximum(weight, 1e-300)
    a, b = complex((m * x).sum() / m.sum()), complex((m * y).sum() / m.sum())
    spread = float((m * np.abs(x - a) ** 2).sum())
    return (complex((m * np.conj(x - a) * (y - b)).sum()) / spread if spread > 0 else 1.0 + 0j), a, b


def nearest(one: Floats, other: Floats, mirror: float) -> Floats:
    """The similarity (1, 5) that brings points (k, 2) as near as can be to others, point by point; `mirror` 1 or -1, which it is not to choose."""
    w, a, b = least_squares(one * [mirror, 1.0], other, np.ones(len(one)))
    at = b - w * a
    return np.array([[np.angle(w), mirror, abs(w), at.real, at.imag]])
