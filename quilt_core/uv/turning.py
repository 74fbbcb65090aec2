"""How directions in the plane of UVs lie in other UVs of the same triangles."""

from __future__ import annotations

import numpy as np

from ..model.scene import Floats


def linear_maps(new: Floats, old: Floats) -> Floats:
    """(T, 4) how directions of the old UV plane lie in the new one, row by row, less the scale: the nearest rotation, mirrored or not.

    Parameters
    ----------
    new, old : (T, 3, 2) UVs of the same triangles

    Returns
    -------
    (T, 4) a, b, c, d of [[a, b], [c, d]], of determinant 1 or -1

    Notes
    -----
    Of J = [[a, b], [c, d]] the nearest rotation has the direction (a + d, c - b), the nearest reflection (a - d, b + c); the sign of the
    determinant tells which of them J is.
    """
    e0, e1 = old[:, 1] - old[:, 0], old[:, 2] - old[:, 0]
    f0, f1 = new[:, 1] - new[:, 0], new[:, 2] - new[:, 0]
    det = e0[:, 0] * e1[:, 1] - e0[:, 1] * e1[:, 0]
    safe = np.where(np.abs(det) > 1e-30, det, 1.0)
    a, b = (f0[:, 0] * e1[:, 1] - f1[:, 0] * e0[:, 1]) / safe, (f1[:, 0] * e0[:, 0] - f0[:, 0] * e1[:, 0]) / safe
    c, d = (f0[:, 1] * e1[:, 1] - f1[:, 1] * e0[:, 1]) / safe, (f1[:, 1] * e0[:, 0] - f0[:, 1] * e1[:, 0]) / safe
    straight = a * d - b * c >= 0
    cos, sin = np.where(straight, a + d, a - d), np.where(straight, c - b, b + c)
    size = np.hypot(cos, sin)
    cos, sin = np.where(size > 0, cos / np.where(size > 0, size, 1), 1.0), np.where(size > 0, sin / np.where(size > 0, size, 1), 0.0)
    sign = np.where(straight, 1.0, -1.0)
    return np.column_stack([cos, -sin * sign, sin, cos * sign])


def frame_maps(new: Floats, old: Floats, places: Floats) -> Floats:
    """(T, 4) how vectors of a normal map have to turn so that the surface is lit as before, row by row, for frames that are made from the UVs.

    Parameters
    ----------
    new, old : (T, 3, 2) UVs of the same triangles; places : (T, 3, 3) of their corners

    Returns
    -------
    (T, 4) a, b, c, d of [[a, b], [c, d]]; where a triangle has no area, see `linear_maps`

    Notes
    -----
    A frame (MikkTSpace) has the surface's normal, the direction along u, and one across both, towards v. Where UVs are stretched, that across is not the
    direction along v, so a turn of the UVs is another turn of the frame.
    """
    before, after = _frames(old, places), _frames(new, places)
    out = np.einsum("tik,tjk->tij", after, before).reshape(-1, 4)
    good = np.isfinite(out).all(axis=1)
    if not good.all():
        out[~good] = linear_maps(new[~good], old[~good])
    return np.asarray(out)


def _frames(uv: Floats, places: Floats) -> Floats:
    """(T, 2, 3) directions along u, and across it towards v, in the planes of triangles; not finite where there is no area."""
    p, q = places[:, 1] - places[:, 0], places[:, 2] - places[:, 0]
    (a, c), (b, d) = (uv[:, 1] - uv[:, 0]).T, (uv[:, 2] - uv[:, 0]).T
    with np.errstate(divide="ignore", invalid="ignore"):
        det = (a * d - b * c)[:, None]
        along_u, along_v = (p * d[:, None] - q * c[:, None]) / det, (q * a[:, None] - p * b[:, None]) / det
        side = along_u / np.linalg.norm(along_u, axis=1, keepdims=True)
        across = along_v - side * (along_v * side).sum(axis=1, keepdims=True)
        return np.stack([side, across / np.linalg.norm(across, axis=1, keepdims=True)], axis=1)
