"""Similarities of islands moved on: turned and scaled about their middles, mirrored, shifted.

A row is angle (radians), mirror (1 or -1, applied first, to u), scale, offset u, offset v: see `sheet.py`.
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats
from ..uv.analysis import MeshIslands, transform_regions


def boxes(piece: MeshIslands, similarities: Floats) -> Floats:
    """Boxes (n, 4) of the islands where a layout puts them; of islands without area, of their points.

    Parameters
    ----------
    similarities : (n, 5) of the islands of the mesh

    Returns
    -------
    (n, 4) least u, least v, greatest u, greatest v
    """
    box = shapely.bounds(transform_regions(piece.outlines.regions, similarities))
    flat = np.isnan(box[:, 0])
    if flat.any():
        # The corners of the box as read, moved: enough for islands that cover no texel.
        b, t = piece.islands.box[flat], similarities[flat]
        c, s = np.cos(t[:, 0]) * t[:, 2], np.sin(t[:, 0]) * t[:, 2]
        u, v = b[:, [0, 2, 0, 2]] * t[:, 1:2], b[:, [1, 1, 3, 3]]
        x, y = c[:, None] * u - s[:, None] * v + t[:, 3:4], s[:, None] * u + c[:, None] * v + t[:, 4:5]
        box[flat] = np.column_stack([x.min(axis=1), y.min(axis=1), x.max(axis=1), y.max(axis=1)])
    return box


def centres(box: Floats) -> Floats:
    """Middles (n, 2) of boxes."""
    return 0.5 * (box[:, :2] + box[:, 2:])


def shifted(similarities: Floats, by: Floats) -> Floats:
    """Moved by (n, 2) UV units.

    Parameters
    ----------
    similarities : (n, 5); by : (n, 2) UV units

    Returns
    -------
    (n, 5) similarities
    """
    out = similarities.copy()
    out[:, 3:] += by
    return out


def scaled(similarities: Floats, about: Floats, factor: Floats | float) -> Floats:
    """Scaled about points (n, 2) by factors (n,).

    Parameters
    ----------
    similarities : (n, 5); about : (n, 2) fixed points; factor : (n,) or one

    Returns
    -------
    (n, 5) similarities
    """
    out, k = similarities.copy(), np.broadcast_to(np.asarray(factor, float), (len(similarities),))
    out[:, 2] *= k
    out[:, 3:] = about + (similarities[:, 3:] - about) * k[:, None]
    return out


def turned(similarities: Floats, about: Floats, angle: Floats) -> Floats:
    """Turned about points (n, 2) by angles (n,) in radians, counter-clockwise.

    Parameters
    ----------
    similarities : (n, 5); about : (n, 2) fixed points; angle : (n,) radians, counter-clockwise

    Returns
    -------
    (n, 5) similarities
    """
    out = similarities.copy()
    c, s = np.cos(angle), np.sin(angle)
    d = similarities[:, 3:] - about
    out[:, 0] += angle
    out[:, 3:] = about + np.column_stack([c * d[:, 0] - s * d[:, 1], s * d[:, 0] + c * d[:, 1]])
    return out


def mirrored(similarities: Floats, about: Floats) -> Floats:
    """Mirrored in u about points (n, 2). With F = diag(-1, 1): F R(a) M = R(-a) F M.

    Parameters
    ----------
    similarities : (n, 5); about : (n, 2) points whose u stays

    Returns
    -------
    (n, 5) similarities
    """
    out = similarities.copy()
    out[:, 0] *= -1
    out[:, 1] *= -1
    out[:, 3] = 2 * about[:, 0] - similarities[:, 3]
    return out


def only(similarities: Floats, changed: Floats, chosen: NDArray[np.bool_]) -> Floats:
    """The changed rows where chosen (n,), the old ones elsewhere.

    Parameters
    ----------
    similarities, changed : (n, 5); chosen : (n,) bool

    Returns
    -------
    (n, 5) similarities
    """
    return np.where(chosen[:, None], changed, similarities)
