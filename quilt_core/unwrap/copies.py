"""Objects of one shape: which point and which face of one is which of the other, however it was moved, turned, scaled or mirrored; and its UVs copied."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations, product

import numpy as np
from scipy.spatial import cKDTree

from ..model.scene import Floats
from .skin import Laying, Skin
from .topology import Numbers, Surface

_NEAR = 2e-4  # of the diagonal: how far a point may lie from the one that it is to be
_SAMPLE = 300  # points that a turn is tried with first


@dataclass(frozen=True)
class Same:
    """How a surface is another one again: corner (F, 3) of the first, 3 f + k, that every corner of a face of the second is; mirrored : whether it is the
    other's mirror image."""

    corner: Numbers
    mirrored: bool


def same_shape(one: Surface, two: Surface) -> Same | None:
    """Whether two surfaces are of one shape, with the same triangles in whatever order.

    Tried are the turns by right angles, and those that lay the main axes onto each other, with their mirror images; turns first. Places of points decide:
    where a shape is its own image, that of the first turn that fits.
    """
    if len(one.points) != len(two.points) or len(one.faces) != len(two.faces):
        return None
    a, b = _centred(one), _centred(two)
    tree = cKDTree(b)
    near = _NEAR * float(np.linalg.norm(np.ptp(b, axis=0)))
    sample = a[:: max(1, len(a) // _SAMPLE)]
    for turn in _turns(a, b):
        if (tree.query(sample @ turn.T, distance_upper_bound=near)[0] > near).any():
            continue
        away, to = tree.query(a @ turn.T, distance_upper_bound=near)
        if (away <= near).all() and len(np.unique(to)) == len(b):
            corner = _corners(one, two, to)
            if corner is not None:
                return Same(corner, bool(np.linalg.det(turn) < 0))
    return None


def _centred(s: Surface) -> Floats:
    """Points about their middle, at the size at which they are 1 away from it in the mean square."""
    p = s.points - s.points.mean(axis=0)
    return np.asarray(p / max(float(np.sqrt((p * p).sum(axis=1).mean())), 1e-300))


def _turns(a: Floats, b: Floats) -> list[Floats]:
    """Turns (3, 3), then mirror images."""
    axes = np.eye(3)
    found = [
        np.asarray(axes[list(order)] * np.array(signs)[:, None])
        for order in permutations(range(3))
        for signs in product((1.0, -1.0), repeat=3)
    ]
    main_a, main_b = np.linalg.eigh(a.T @ a)[1], np.linalg.eigh(b.T @ b)[1]
    found += [main_b @ np.diag(signs) @ main_a.T for signs in product((1.0, -1.0), repeat=3)]
    found.sort(key=lambda t: (np.linalg.det(t) < 0, -float(np.trace(t))))
    return found


def _corners(one: Surface, two: Surface, to: Numbers) -> Numbers | None:
    """See `Same`, for the point (V,) of the second that each of the first is; None where a triangle of the second is none of the first."""
    mine, other = to[one.faces], two.faces
    order, also = (np.argsort(f, axis=1, kind="stable") for f in (mine, other))
    key, asked = (_key(np.take_along_axis(f, o, axis=1), len(two.points)) for f, o in ((mine, order), (other, also)))
    by = np.argsort(key, kind="stable")
    # Of faces with the same corners, in the order in which they stand.
    asked_by = np.argsort(asked, kind="stable")
    if not np.array_equal(key[by], asked[asked_by]):
        return None
    face = np.empty(len(other), np.int64)
    face[asked_by] = by
    out = np.empty((len(other), 3), np.int64)
    np.put_along_axis(out, also, 3 * face[:, None] + order[face], axis=1)
    return out


def _key(corners: Numbers, count: int) -> Numbers:
    return np.asarray((corners[:, 0] * count + corners[:, 1]) * count + corners[:, 2])


def copied(source: Laying, skin: Skin, same: Same) -> Laying:
    """How a surface lies as the other one does; the mirror image of one lies mirrored, so that its front stays in front."""
    corner = same.corner.reshape(-1)
    uv = source.uv.reshape(-1, 2)[corner].reshape(-1, 3, 2)
    if same.mirrored:
        uv = uv * np.array([-1.0, 1.0]) + np.array([np.nanmin(source.uv[..., 0]) + np.nanmax(source.uv[..., 0]), 0.0])
    n = len(skin.kept)
    h = np.arange(3 * n)
    begin, end = corner, corner[h - h % 3 + (h + 1) % 3]
    # The same side runs the other way round in the mirror.
    side = np.where(end % 3 == (begin + 1) % 3, begin, end)
    seam = source.seam[side]
    twin = skin.surface.twin
    seam &= twin >= 0
    seam[twin[twin >= 0]] |= seam[twin >= 0]
    return Laying(uv, seam, source.island[corner[::3] // 3])
