"""Faults and proof of a layout: overlaps, gaps, margins, islands outside, mirrored islands."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import shapely
from numpy.typing import NDArray

from ..prove.gaps import LEAST_OVERLAP, Overlaps, closest, margin_of, overlaps
from ..scene import Floats
from ..sheet import MeshIslands, transform_regions
from ..tiles import Grid, corners_of
from ..twins import is_twin

_OVERLAP_PX = 0.01  # shared texels below this are rounding
_EDGE = 1e-6  # UV units that an island may stick out of its tile: rounding of 32-bit files


@dataclass(frozen=True)
class TileGaps:
    """The smallest gap and margin in px of one tile, infinite where there is nothing to measure between, and the islands that they are at."""

    gap_px: float
    pair: tuple[int, int]
    margin_px: float
    outermost: int


@dataclass(frozen=True)
class LayoutProof:
    """Measured figures of a layout at a map size.

    overlap_pairs: islands that share texels, two and two; overlap_self: islands that cover themselves twice;
    overlap_px: texels so shared; gap and margin in px (None where there is nothing to measure between);
    outside: islands not wholly inside one UDIM tile; flipped: mirrored islands; `cut`: pairs were too many to
    measure all. `coverage` by tile number 0 = 1001; `shared`: all pairs that share area, in UV units; `twins`: pairs that
    share texels on purpose, which count neither as overlaps nor for the gap; `tiles`: gaps and margins by tile number, islands through all n.
    """

    islands: int
    overlap_pairs: int
    overlap_self: int
    overlap_px: float
    cut: bool
    gap_px: float | None
    margin_px: float | None
    outside: int
    flipped: int
    coverage: dict[int, tuple[float, int]]
    shared: Overlaps
    twins: int = 0
    tiles: dict[int, TileGaps] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        """No overlap of any kind, and nothing outside or astride tiles."""
        return not (self.overlap_pairs or self.overlap_self or self.outside)


def flipped(piece: MeshIslands, table: Floats | None = None) -> NDArray[np.bool_]:
    """(n,) whether an island reads mirrored on its object: UV orientation against the side that is seen.

    A placing with a negative determinant turns the seen side, so its islands are flipped when others are not;
    an island counts when any placing of its mesh shows it mirrored.
    """
    sign = piece.islands.signed_area * (1.0 if table is None else table[:, 1])
    return np.any([(-sign if o.mirrored else sign) < 0 for o in piece.objects], axis=0)


def outside(box: Floats, columns: int | None = None, rows: int | None = None) -> NDArray[np.bool_]:
    """(n,) islands whose box is not inside one tile of the grid (all of UDIM's 10 columns when not given)."""
    tile = np.floor(0.5 * (box[:, :2] + box[:, 2:]))
    astride = ((box[:, :2] < tile - _EDGE) | (box[:, 2:] > tile + 1 + _EDGE)).any(axis=1)
    beyond = (tile[:, 0] >= (columns or 10)) | (tile[:, 1] >= (rows or 100))
    return astride | (tile < 0).any(axis=1) | beyond


def prove(
    pieces: list[MeshIslands],
    tables: list[Floats] | None,
    map_px: int,
    tiles: tuple[int, int] | None = None,
    twins: NDArray[np.int64] | None = None,
    only: NDArray[np.bool_] | None = None,
    tile_px: dict[int, int] | None = None,
) -> LayoutProof:
    """Measure a layout of several pieces that share one sheet.

    Parameters
    ----------
    tables : similarity per island and piece; None for the UVs as they were read
    tiles : columns and rows of the sheet; None for any UDIM tile
    twins : (n,) group of islands that share their texels on purpose, -1 for none
    tile_px : UDIM number to px, of tiles that have another resolution than `map_px`
    only : (n,) the islands that lie on this sheet; None for all. Pairs in `shared` count through all n
    """
    if not pieces or (only is not None and not only.any()):
        return LayoutProof(0, 0, 0, 0.0, False, None, None, 0, 0, {}, Overlaps(np.zeros((0, 2), np.int64), np.zeros(0)))
    moved = [p.outlines.regions if tables is None else transform_regions(p.outlines.regions, tables[i]) for i, p in enumerate(pieces)]
    regions = np.concatenate(moved)
    scale = [np.ones(p.islands.count) if tables is None else tables[i][:, 2] for i, p in enumerate(pieces)]
    own = np.concatenate([p.outlines.self_overlap * s**2 for p, s in zip(pieces, scale, strict=True)])
    mirrored = np.concatenate([flipped(p, None if tables is None else tables[i]) for i, p in enumerate(pieces)])
    group = np.full(len(regions), -1) if twins is None else twins
    mine = np.arange(len(regions)) if only is None else np.flatnonzero(only)
    regions, own, mirrored, group = regions[mine], own[mine], mirrored[mine], group[mine]
    shared = overlaps(regions, LEAST_OVERLAP)
    meant = _meant(regions, group, shared)
    box = shapely.bounds(regions)
    px = Grid(map_px, tile_px=tile_px or {}).px_of(box)
    own = own * px**2
    texels = shared.area * px[shared.pairs[:, 0]] ** 2
    seen = (texels > _OVERLAP_PX) & ~meant
    lower = shared.pairs[meant].max(axis=1, initial=-1)
    found = _by_tile(regions, px, mine, lower, shared.pairs[~meant])
    gap = min((t.gap_px for t in found.values()), default=np.inf)
    margin = min((t.margin_px for t in found.values()), default=np.inf)
    box = box[~np.isnan(box[:, 0])]
    return LayoutProof(
        islands=len(regions),
        overlap_pairs=int(seen.sum()),
        overlap_self=int((own > _OVERLAP_PX).sum()),
        overlap_px=float(texels[seen].sum() + own[own > _OVERLAP_PX].sum()),
        cut=shared.cut,
        gap_px=gap if np.isfinite(gap) else None,
        margin_px=margin if np.isfinite(margin) else None,
        outside=int(outside(box, *(tiles or (None, None))).sum()),
        flipped=int(mirrored.sum()),
        coverage=_coverage(regions, bool(len(shared.pairs))),
        shared=Overlaps(mine[shared.pairs], shared.area, shared.cut),
        twins=int(meant.sum()),
        tiles=found,
    )


def _by_tile(
    regions: NDArray[np.object_], px: Floats, number: NDArray[np.int64], lower: NDArray[np.int64], shared: NDArray[np.int64]
) -> dict[int, TileGaps]:
    """Gaps and margins of every tile that regions lie in: tiles are files of their own.

    Parameters
    ----------
    number : (n,) what islands are called in the result; lower : twins that lie on another, left out; shared : (k, 2) pairs that overlap: there the
        smallest gap is 0, and a heap of thousands need not be searched for it
    """
    known = np.flatnonzero(~shapely.is_empty(regions))
    if not len(known):
        return {}
    corner = corners_of(shapely.bounds(regions[known]))
    keys, of = np.unique(corner, axis=0, return_inverse=True)
    tile_of = np.full(len(regions), -1)
    tile_of[known] = of.reshape(-1)
    out = {}
    for t, (column, row) in enumerate(keys.astype(int).tolist()):
        mine = np.flatnonzero(tile_of == t)
        upper = np.setdiff1d(mine, lower)
        over = shared[tile_of[shared[:, 0]] == t]
        gap, i, j = (0.0, *over[0]) if len(over) else closest(regions[upper])
        if not len(over) and i >= 0:
            i, j = upper[i], upper[j]
        margin, k = margin_of(regions[mine])
        pair = (int(number[i]), int(number[j])) if i >= 0 else (-1, -1)
        size = float(px[mine[0]])
        out[1001 + column + 10 * row] = TileGaps(gap * size, pair, margin * size, int(number[mine[k]]))
    return out


def _meant(regions: NDArray[np.object_], group: NDArray[np.int64], shared: Overlaps) -> NDArray[np.bool_]:
    """(k,) which overlapping pairs are twins of one group that cover the same texels."""
    i, j = shared.pairs[:, 0], shared.pairs[:, 1]
    together = (group[i] >= 0) & (group[i] == group[j])
    area = shapely.area(regions)
    return together & is_twin(shared.area, area[i], area[j])


def _coverage(regions: NDArray[np.object_], overlapping: bool) -> dict[int, tuple[float, int]]:
    """Covered share and number of islands of every tile in use, by UDIM number: 1001 + column + 10 x row."""
    box = shapely.bounds(regions)
    known = ~np.isnan(box[:, 0])
    tile = np.floor(0.5 * (box[known, :2] + box[known, 2:]))
    inside = (tile >= 0).all(axis=1) & (tile[:, 0] < 10) & (tile[:, 1] < 1000)
    number = (1001 + tile[inside, 0] + 10 * tile[inside, 1]).astype(int)
    members = regions[known][inside]
    out = {}
    for n in np.unique(number):
        mine = members[number == n]
        area = shapely.area(shapely.union_all(mine)) if overlapping and len(mine) < 5000 else shapely.area(mine).sum()
        out[int(n)] = (float(area), len(mine))
    return out
