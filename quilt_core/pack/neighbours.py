"""Where islands lie while they are moved, and which others are near a box: all boxes are compared at once, in vector instructions."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats
from .fields import Ints

_BLOCK = 16  # boxes are padded to a multiple of this
_SLACK = np.float32(1e-3)  # units; boxes are kept in single precision

SPOT = np.dtype(
    [("x", "f8"), ("y", "f8"), ("lx", "f8"), ("ly", "f8"), ("hx", "f8"), ("hy", "f8"), ("size", "f8")]
    + [("pose", "i4"), ("tile", "i2"), ("held", "?"), ("moving", "?")]
)


class Scene(NamedTuple):
    """What stays the same during one call of `separate`: `side` (tiles,), margin and padding in units; and what the kernels note.

    `box` (4, 16 m) least x, least y, greatest x, greatest y of every island, tiles `apart` units from each other in x;
    infinite while an island is moving, so that it is near to nothing. `near` (n,) room for numbers of islands, `mask`
    (16 m,) for answers, which are read as `words` of 8.
    """

    side: Floats
    margin: float
    pad: float
    apart: float
    box: NDArray[np.float32]
    near: Ints
    mask: NDArray[np.uint8]
    words: NDArray[np.uint64]


def scene(side: Floats, margin: float, pad: float, count: int) -> Scene:
    """A scene for `count` islands."""
    room = -(-count // _BLOCK) * _BLOCK
    box, mask = np.full((4, room), np.inf, np.float32), np.zeros(room, np.uint8)
    return Scene(side, margin, pad, float(side.max()) * 1.2 + 4 * pad, box, np.zeros(count, np.int64), mask, mask.view(np.uint64))


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def put(f, s, at, i, x, y, k, t):  # type: ignore[no-untyped-def]
    """Write a place and the box there; the island is at rest then."""
    spot, e = at[i], f.extent[i, k]
    spot.x, spot.y, spot.pose, spot.tile = x, y, k, t
    spot.lx, spot.ly, spot.hx, spot.hy = x + e[0] * spot.size, y + e[1] * spot.size, x + e[2] * spot.size, y + e[3] * spot.size
    rest(s, at, i)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def rest(s, at, i):  # type: ignore[no-untyped-def]
    """An island counts again for the others."""
    spot = at[i]
    away = spot.tile * s.apart
    spot.moving = False
    s.box[0, i], s.box[1, i], s.box[2, i], s.box[3, i] = spot.lx + away, spot.ly, spot.hx + away, spot.hy


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def lift(s, at, i):  # type: ignore[no-untyped-def]
    """An island is moving: it is near to nothing."""
    at[i].moving = True
    s.box[0, i] = np.float32(np.inf)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def near_to(s, lx, ly, hx, hy, t):  # type: ignore[no-untyped-def]
    """Numbers of the islands whose boxes meet a box in tile t, into s.near; how many."""
    out, mask, words = s.near, s.mask, s.words
    lows_x, lows_y, highs_x, highs_y = s.box[0], s.box[1], s.box[2], s.box[3]
    away = t * s.apart
    ax, ay = np.float32(lx + away) - _SLACK, np.float32(ly) - _SLACK
    bx, by = np.float32(hx + away) + _SLACK, np.float32(hy) + _SLACK
    # A plain loop over all that only writes bytes is what the compiler turns into vector instructions.
    for q in range(lows_x.shape[0]):
        mask[q] = np.uint8(lows_x[q] < bx) & np.uint8(highs_x[q] > ax) & np.uint8(lows_y[q] < by) & np.uint8(highs_y[q] > ay)
    n = 0
    for w in range(words.shape[0]):
        if words[w] != 0:
            for q in range(8 * w, 8 * w + 8):
                if mask[q]:
                    out[n] = q
                    n += 1
    return n


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def clamped(f, s, at, i, x, y, k, t):  # type: ignore[no-untyped-def]
    """The place nearest to (x, y) at which island i lies within the tile's margin; and whether there is one."""
    e, z = f.extent[i, k], at[i].size
    lx, hx = s.margin - e[0] * z, s.side[t] - s.margin - e[2] * z
    ly, hy = s.margin - e[1] * z, s.side[t] - s.margin - e[3] * z
    return min(max(x, lx), hx), min(max(y, ly), hy), hx >= lx and hy >= ly


def spots(x: Floats, y: Floats, pose: Ints, tile: Ints, size: Floats, held: NDArray[np.bool_]) -> NDArray[np.void]:
    """Records of where the islands are."""
    out = np.zeros(len(x), SPOT)
    for name, value in (("x", x), ("y", y), ("pose", pose), ("tile", tile), ("size", size), ("held", held)):
        out[name] = value
    return out
