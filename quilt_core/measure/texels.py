"""Triangles on a grid of texels: which island owns each texel, and the padding that a baker lays around islands.

Texel (row, column) of a map of px x px has its middle at u = (column + 0.5) / px, v = 1 - (row + 0.5) / px: rows go down, as in pictures.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy import ndimage

from ..model.scene import Floats


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _rasterise(x, y, owner, out, twice):  # type: ignore[no-untyped-def]
    """Write the number of each triangle (T,) into the texels (px, px) whose middle it covers; count texels that two owners cover.

    x, y (T, 3) corners in texels, y down; owner (T,); twice (px, px) bool. A middle on an edge belongs to the triangle on its left or above
    (edge functions with a top-left rule), so that triangles that share an edge never both cover a texel. O(texels of the boxes).
    """
    px = out.shape[0]
    for t in range(x.shape[0]):
        ax, ay, bx, by, cx, cy = x[t, 0], y[t, 0], x[t, 1], y[t, 1], x[t, 2], y[t, 2]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        if area < 0.0:
            bx, by, cx, cy = cx, cy, bx, by
        low_c = max(0, int(np.floor(min(ax, bx, cx) - 0.5)))
        high_c = min(px - 1, int(np.ceil(max(ax, bx, cx))))
        low_r = max(0, int(np.floor(min(ay, by, cy) - 0.5)))
        high_r = min(px - 1, int(np.ceil(max(ay, by, cy))))
        for r in range(low_r, high_r + 1):
            v = r + 0.5
            for c in range(low_c, high_c + 1):
                u = c + 0.5
                inside = True
                for k in range(3):
                    if k == 0:
                        px_, py_, qx, qy = ax, ay, bx, by
                    elif k == 1:
                        px_, py_, qx, qy = bx, by, cx, cy
                    else:
                        px_, py_, qx, qy = cx, cy, ax, ay
                    e = (qx - px_) * (v - py_) - (qy - py_) * (u - px_)
                    if e < 0.0 or (e == 0.0 and not ((qy == py_ and qx > px_) or qy < py_)):
                        inside = False
                        break
                if inside:
                    if out[r, c] >= 0 and owner[t] != out[r, c]:
                        twice[r, c] = True
                    out[r, c] = owner[t]


def to_texels(uvs: Floats, px: int, corner: tuple[int, int] = (0, 0)) -> tuple[Floats, Floats]:
    """x and y in texels (y down) of UVs (..., 2) on the tile with this lower left corner.

    Parameters
    ----------
    uvs : (..., 2); px : texels along a side; corner : column and row of the tile

    Returns
    -------
    x (...), y (...) with y down
    """
    return (uvs[..., 0] - corner[0]) * px, (1.0 - (uvs[..., 1] - corner[1])) * px


def owners(
    uvs: Floats, triangles: NDArray[np.integer], number: NDArray[np.integer], px: int, corner: tuple[int, int] = (0, 0)
) -> tuple[NDArray[np.int32], NDArray[np.bool_]]:
    """The number of whatever covers each texel's middle, -1 for nothing; and the texels that two of different numbers cover.

    Parameters
    ----------
    uvs : (W, 2); triangles : (T, 3) rows of `uvs`; number : (T,) such as the island of each triangle
    """
    x, y = to_texels(uvs[triangles], px, corner)
    near = (x.max(axis=1) > 0) & (x.min(axis=1) < px) & (y.max(axis=1) > 0) & (y.min(axis=1) < px)
    out = np.full((px, px), -1, np.int32)
    twice = np.zeros((px, px), bool)
    _rasterise(x[near], y[near], np.ascontiguousarray(number[near], np.int32), out, twice)
    return out, twice


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _cover(x, y, out, weights):  # type: ignore[no-untyped-def]
    """The triangle of every texel whose middle it covers, and the weights of its corners there.

    x, y (T, 3) corners in texels; out (h, w), weights (h, w, 3). A middle on an edge goes to the first triangle. O(texels of the boxes).
    """
    h, w = out.shape
    for t in range(x.shape[0]):
        ax, ay, bx, by, cx, cy = x[t, 0], y[t, 0], x[t, 1], y[t, 1], x[t, 2], y[t, 2]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        low_c, high_c = max(0, int(np.floor(min(ax, bx, cx) - 0.5))), min(w - 1, int(np.ceil(max(ax, bx, cx))))
        low_r, high_r = max(0, int(np.floor(min(ay, by, cy) - 0.5))), min(h - 1, int(np.ceil(max(ay, by, cy))))
        for r in range(low_r, high_r + 1):
            for c in range(low_c, high_c + 1):
                p, q = c + 0.5, r + 0.5
                wb = ((p - ax) * (cy - ay) - (q - ay) * (cx - ax)) / area
                wc = ((bx - ax) * (q - ay) - (by - ay) * (p - ax)) / area
                if wb < -1e-9 or wc < -1e-9 or wb + wc > 1.0 + 1e-9:
                    continue
                edge = wb < 1e-6 or wc < 1e-6 or wb + wc > 1.0 - 1e-6
                if edge and out[r, c] >= 0:
                    continue
                out[r, c] = t
                weights[r, c, 0], weights[r, c, 1], weights[r, c, 2] = 1.0 - wb - wc, wb, wc


def cover(
    uvs: Floats, px: int, corner: tuple[int, int] = (0, 0), window: tuple[int, int, int, int] | None = None
) -> tuple[NDArray[np.int64], Floats]:
    """The triangle (h, w) that covers each texel's middle, -1 for none, and the weights (h, w, 3) of its corners there.

    Parameters
    ----------
    uvs : (T, 3, 2) corners of triangles
    window : first and last but one row and column that are looked at; None for the whole map
    """
    r0, r1, c0, c1 = window if window is not None else (0, px, 0, px)
    x, y = to_texels(uvs, px, corner)
    out, weights = np.full((r1 - r0, c1 - c0), -1, np.int64), np.zeros((r1 - r0, c1 - c0, 3))
    _cover(x - c0, y - r0, out, weights)
    return out, weights


def window_of(uvs: Floats, px: int, corner: tuple[int, int] = (0, 0)) -> tuple[int, int, int, int]:
    """The rows and columns of a map that triangles (T, 3, 2) can reach, for `cover`.

    Parameters
    ----------
    uvs : (T, 3, 2); px : texels along a side; corner : column and row of the tile

    Returns
    -------
    first row, last row, first column, last column, the last ones excluded
    """
    x, y = to_texels(uvs, px, corner)
    r0, c0 = (int(np.clip(np.floor(v.min()), 0, px)) for v in (y, x))
    r1, c1 = (int(np.clip(np.ceil(v.max()), 0, px)) for v in (y, x))
    return r0, max(r0, r1), c0, max(c0, c1)


def dilated(owner: NDArray[np.int32], reach: float = np.inf) -> tuple[NDArray[np.int32], NDArray[np.int32], NDArray[np.int32]]:
    """Owners with the padding of a baker: every empty texel takes the nearest one's within `reach` texels. Also its row and column (px, px).

    Parameters
    ----------
    owner : (px, px) int32, -1 for none; reach : texels

    Returns
    -------
    (px, px) owners, and row and column of the texel that each was taken from
    """
    empty = owner < 0
    if empty.all():
        at = np.indices(owner.shape, np.int32)
        return owner.copy(), at[0], at[1]
    if np.isinf(reach):
        rows, columns = ndimage.distance_transform_edt(empty, return_distances=False, return_indices=True)
        return owner[rows, columns], rows.astype(np.int32), columns.astype(np.int32)
    far, (rows, columns) = ndimage.distance_transform_edt(empty, return_indices=True)
    return np.where(far <= reach, owner[rows, columns], -1), rows.astype(np.int32), columns.astype(np.int32)
