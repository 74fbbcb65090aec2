"""Two surfaces walked at once, by how their faces hang together: no positions, so bent and scaled parts are known again."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .topology import Numbers, Surface

_ROUNDS = 8  # how far away neighbours count for a point's colour


def colours(s: Surface) -> NDArray[np.uint64]:
    """A number for every point (V,) that is the same for points whose surroundings hang together in the same way (colour refinement: Weisfeiler and Leman
    1968, from memory); others share one by chance only."""
    n = len(s.points)
    i, j = np.r_[s.start, s.end], np.r_[s.end, s.start]
    out = (2 * np.bincount(i, minlength=n)).astype(np.uint64)
    rim = s.twin < 0
    out[s.start[rim]] |= np.uint64(1)
    out[s.end[rim]] |= np.uint64(1)
    for _ in range(_ROUNDS):
        mixed = out * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> np.uint64(29)
        mixed *= np.uint64(0xBF58476D1CE4E5B9)
        mixed ^= mixed >> np.uint64(32)
        around = np.zeros(n, np.uint64)
        np.add.at(around, i, mixed[j])
        out = out * np.uint64(31) + around
    return out


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def walked(
    faces1: Numbers, twin1: Numbers, faces2: Numbers, twin2: Numbers, h1: int, h2: int, turned: bool, points2: int
) -> tuple[Numbers, Numbers]:  # pragma: no cover - compiled
    """Faces (k,) of the second surface that are reached from half-edge `h2`, and the corners (k, 3) of the first that theirs are, where `h1` begins where `h2` does.

    turned : the first is walked the other way round, as the mirror image; empty where the two do not hang together in the same way
    """
    none = np.zeros(0, np.int64), np.zeros((0, 3), np.int64)
    point = np.full(points2, -1)
    back = np.full(faces1.max() + 1, -1)
    first = np.full(len(faces2), -1)  # corner of the first that a face's corner 0 is
    used = np.zeros(len(faces1), np.bool_)
    found = [0 for _ in range(0)]
    stack = [(h1, h2)]
    while len(stack) > 0:
        # Corner a of the first is corner b of the second.
        a, b = stack.pop()
        f, g = a // 3, b // 3
        step = 2 if turned else 1
        zero = 3 * f + (a % 3 + step * (3 - b % 3)) % 3
        if first[g] >= 0:
            if first[g] != zero:
                return none
            continue
        if used[f]:
            return none
        used[f] = True
        first[g] = zero
        found.append(g)
        for k in range(3):
            ca = 3 * f + (zero % 3 + step * k) % 3
            va, vb = faces1[f, ca % 3], faces2[g, k]
            if (point[vb] >= 0 and point[vb] != va) or (back[va] >= 0 and back[va] != vb):
                return none
            point[vb] = va
            back[va] = vb
            # The side from corner k to the next one: in the mirror it runs to corner ca.
            side = 3 * f + (ca % 3 + 2) % 3 if turned else ca
            ta, tb = twin1[side], twin2[3 * g + k]
            if (ta < 0) != (tb < 0):
                return none
            if tb >= 0:
                # Half-edge tb begins where side k ends.
                stack.append((3 * (ta // 3) + (ta % 3 + 1) % 3 if turned else ta, tb))
    out = np.empty((len(found), 3), np.int64)
    for n in range(len(found)):
        zero = first[found[n]]
        for k in range(3):
            out[n, k] = 3 * (zero // 3) + (zero % 3 + (2 * k if turned else k)) % 3
    return np.array(found, np.int64), out
