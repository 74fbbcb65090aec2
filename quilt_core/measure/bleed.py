"""The bleed proof: down to which mip level does no island's colour reach another?

Every island gets a colour of its own on the map. Empty texels take the colour of the nearest island (the edge padding that a baker lays), the
mip chain is built with a box filter, and each level is sampled bilinearly along the outlines of the islands, as a renderer does. What an island
gets there from other colours is its foreign share. Colours are never drawn: what counts is which island owns which part of a mip texel.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import shapely
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats
from ..uv.analysis import MeshIslands, transform_rows
from .texels import dilated, owners, to_texels

THRESHOLD = 0.02  # foreign share from which a seam shows: 5 of 255 between black and white
_STEP = 0.5  # texels between two samples along an outline


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _shares(owner, x, y, mine, level, foreign, other):  # type: ignore[no-untyped-def]
    """Foreign share (k,) of bilinear samples of a mip level, and the owner of most of it.

    owner (px, px) of level 0, -1 for none; x, y (k,) in texels of level 0; mine (k,) the island that is sampled. Level k has floor(px / 2^k)
    texels a side, as graphics standards define it; each is the mean of the part of the map that it covers, texels cut by its edge by
    their share. Beyond the map its edge texels repeat. Empty texels count as the island's own: they show the ground, no other island.
    O(k 4^level), with the last squares remembered.
    """
    px = owner.shape[0]
    count = max(1, px >> level)
    size = px / count
    of_owner = np.zeros(max(0, owner.max()) + 1)
    seen = np.empty(of_owner.shape[0], np.int64)
    last_r = np.full(4, -1)
    last_c = np.full(4, -1)
    last_i = np.full(4, -1)
    share = np.zeros(4)
    whose = np.zeros(4, np.int64)
    for s in range(x.shape[0]):
        u, v = x[s] / size - 0.5, y[s] / size - 0.5
        c0, r0 = int(np.floor(u)), int(np.floor(v))
        fu, fv = u - c0, v - r0
        total = 0.0
        worst, of = 0.0, -1
        for k in range(4):
            c = min(max(c0 + (k & 1), 0), count - 1)
            r = min(max(r0 + (k >> 1), 0), count - 1)
            w = (fu if k & 1 else 1.0 - fu) * (fv if k >> 1 else 1.0 - fv)
            if w <= 0.0:
                continue
            if last_r[k] != r or last_c[k] != c or last_i[k] != mine[s]:
                top, bottom, left, right = r * size, (r + 1) * size, c * size, (c + 1) * size
                hit = 0.0
                known = 0
                for i in range(int(top), min(px, int(np.ceil(bottom)))):
                    high = min(i + 1.0, bottom) - max(float(i), top)
                    for j in range(int(left), min(px, int(np.ceil(right)))):
                        o = owner[i, j]
                        if o >= 0 and o != mine[s]:
                            part = high * (min(j + 1.0, right) - max(float(j), left))
                            hit += part
                            if of_owner[o] == 0.0:
                                seen[known] = o
                                known += 1
                            of_owner[o] += part
                share[k] = hit / (size * size)
                lead, most = -1, 0.0
                for q in range(known):
                    if of_owner[seen[q]] > most:
                        lead, most = seen[q], of_owner[seen[q]]
                    of_owner[seen[q]] = 0.0
                whose[k] = lead
                last_r[k], last_c[k], last_i[k] = r, c, mine[s]
            total += w * share[k]
            if w * share[k] > worst:
                worst, of = w * share[k], whose[k]
        foreign[s] = total
        other[s] = of


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _reached(x, y, triangles, of, px, out):  # type: ignore[no-untyped-def]
    """Mark in out (n,) whose triangles (T, 3) have the middle of a texel inside, not only on their border; x, y (W,) in texels."""
    for t in range(triangles.shape[0]):
        if out[of[t]]:
            continue
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        low, high = min(y[a], y[b], y[c]), max(y[a], y[b], y[c])
        for r in range(max(0, int(np.floor(low - 0.5)) + 1), min(px, int(np.ceil(high - 0.5)))):
            left, right = np.inf, -np.inf
            for k in range(3):
                p, q = triangles[t, k], triangles[t, (k + 1) % 3]
                if (y[p] - r - 0.5) * (y[q] - r - 0.5) <= 0.0 and y[p] != y[q]:
                    at = x[p] + (r + 0.5 - y[p]) / (y[q] - y[p]) * (x[q] - x[p])
                    left, right = min(left, at), max(right, at)
            if max(0.0, np.floor(left - 0.5) + 1.0) < min(float(px), np.ceil(right - 0.5)):
                out[of[t]] = True
                break


@dataclass(frozen=True)
class Bleed:
    """What the proof found on one tile, over all n islands.

    level (n,) the first mip level at which another island's colour is more than the threshold, -1 for never, -2 for islands that are not on this
    tile; at (n, 2) where, in UV; share (n,) how much; other (n,) whose colour it is. `levels`: of the map's mip chain; `clean`: the last level that
    is clean for all, -1 where not even the full map is; `on_map`: the share of all outlines that foreign colours reach on the full map; `thumb`: floor(log2 padding), the
    habit; `twice`: texels that two islands cover. `thin` (n,):
    islands that cover no texel's middle; nothing of theirs is on the map, so no padding helps them, and the others are judged without them (level -1).
    """

    level: NDArray[np.int64]
    at: Floats
    share: Floats
    other: NDArray[np.int64]
    levels: int
    clean: int
    on_map: float
    thumb: int
    twice: int
    thin: NDArray[np.bool_]


def thumb(padding_px: float) -> int:
    """The last mip level at which a padding is still a texel wide, by the rule of thumb floor(log2 padding)."""
    return math.floor(math.log2(padding_px)) if padding_px >= 1 else -1


def _outline_samples(regions: NDArray[np.object_], px: int) -> tuple[Floats, NDArray[np.int64]]:
    """Points (k, 2) in UV half a texel apart along the outlines of regions, and the region (k,) of each."""
    dense = shapely.segmentize(regions, _STEP / px)
    xy, owner = shapely.get_coordinates(dense, return_index=True)
    return xy, owner


def bleed(
    pieces: list[MeshIslands], transforms: list[Floats] | None, regions: NDArray[np.object_], px: int, padding_px: float, corner: tuple[int, int] = (0, 0),
    only: NDArray[np.bool_] | None = None, twins: NDArray[np.int64] | None = None, threshold: float = THRESHOLD, reach: float = math.inf,
) -> Bleed:  # fmt: skip
    """Prove one tile.

    Parameters
    ----------
    transforms : similarity per island and piece; None for the UVs as they were read
    regions : (n,) all islands as they lie; corner : lower left corner of the tile
    only : (n,) the islands of this sheet; twins : (n,) group of islands that share their colour on purpose, -1 for none
    reach : texels of edge padding that the baker lays; infinite for all that is empty
    """
    n = len(regions)
    box = shapely.bounds(regions)
    with np.errstate(invalid="ignore"):
        inside = (box[:, 0] < corner[0] + 1) & (box[:, 2] > corner[0]) & (box[:, 1] < corner[1] + 1) & (box[:, 3] > corner[1])
    inside &= np.ones(n, bool) if only is None else only
    colour = np.arange(n)
    if twins is not None:
        for group in np.unique(twins[twins >= 0]):
            colour[twins == group] = np.flatnonzero(twins == group)[0]
    drawn = _triangles(pieces, transforms, inside, colour)
    map_, twice = owners(*drawn, px, corner)
    # What lies under others owns no texel and is not thin all the same.
    reached = np.zeros(n, bool)
    reached[map_[map_ >= 0]] = True
    _reached(*to_texels(drawn[0], px, corner), drawn[1], drawn[2], px, reached)
    thin = inside & ~reached[colour]
    map_, _, _ = dilated(map_, reach)
    levels = px.bit_length()
    level, share, other = np.where(inside, -1, -2), np.zeros(n), np.full(n, -1, np.int64)
    at = np.zeros((n, 2))
    points, of = _outline_samples(np.where(inside & ~thin, regions, shapely.Polygon()), px)
    x, y = to_texels(points, px, corner)
    on = (x >= 0) & (x <= px) & (y >= 0) & (y <= px)
    x, y, of, points = x[on], y[on], of[on], points[on]
    on_map = 0.0
    for k in range(levels):
        open_ = level[of] == -1
        if not open_.any():
            break
        # Neighbouring samples tell the same at a small level's scale: 16 for each texel of this level are enough.
        take = np.flatnonzero(open_)[:: max(1, (1 << k) // 8)]
        foreign, whose = np.empty(len(take)), np.empty(len(take), np.int64)
        _shares(map_, x[take], y[take], colour[of[take]].astype(np.int32), k, foreign, whose)
        bad = np.flatnonzero(foreign > threshold)
        if k == 0:
            on_map = len(bad) / len(take)
        order = bad[np.argsort(-foreign[bad], kind="stable")]
        island, first = np.unique(of[take[order]], return_index=True)
        worst = order[first]
        level[island], share[island], other[island] = k, foreign[worst], whose[worst]
        at[island] = points[take[worst]]
    found = level[level >= 0]
    clean = int(found.min()) - 1 if len(found) else levels - 1
    return Bleed(level, at, share, other, levels, clean, on_map, thumb(padding_px), int(twice.sum()), thin)


def _triangles(
    pieces: list[MeshIslands], transforms: list[Floats] | None, inside: NDArray[np.bool_], colour: NDArray[np.int64]
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """UVs, triangles and colours of the islands that are on the tile."""
    uvs, triangles, numbers = [np.zeros((0, 2))], [np.zeros((0, 3), np.int64)], [np.zeros(0, np.int64)]
    row = start = 0
    for k, piece in enumerate(pieces):
        moved = piece.uvs if transforms is None else transform_rows(piece.uvs, piece.islands.of_row, transforms[k])
        of = piece.islands.of_triangle
        use = of >= 0
        use[use] = inside[start + of[use]]
        uvs.append(moved)
        triangles.append(piece.mesh.channels[piece.channel].triangles[use].astype(np.int64) + row)
        numbers.append(colour[start + of[use]])
        row, start = row + len(moved), start + piece.islands.count
    return np.concatenate(uvs), np.concatenate(triangles), np.concatenate(numbers)
