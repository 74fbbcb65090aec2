"""The proof of a layout: overlaps, gaps, margins, coverage, islands outside, mirrored islands, sheet by sheet and tile by tile."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
import shapely
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats
from ..model.tiles import COLUMNS, ROWS, Grid, corners_of, number
from ..uv.analysis import IDENTITY, MeshIslands, transform_regions
from ..uv.twins import grouped, is_twin
from .lie import LEAST_OVERLAP, Lie, Measure, measured, twin_pairs
from .shapes import IslandShapes, Whole, joined, shapes_of

EDGE = 1e-6  # UV units that an island may stick out of its tile: rounding of 32-bit files
_EXACT = 2000  # pairs of overlapping islands in a tile; of more the covered area is counted on a grid of texels
_MOST_FAR = 2000  # islands of a tile without near ones: farther apart than `lie.REACH`, no more find room
_GRID, _BESIDE = 256, 64  # texels a side of that grid, in tiles of the sheet and in others

Regions = Callable[[Whole], NDArray[np.object_]]


@dataclass(frozen=True)
class TileGaps:
    """The smallest gap and margin in px of one tile, infinite where there is nothing to measure between, and the islands that they are at."""

    gap_px: float
    pair: tuple[int, int]
    margin_px: float
    outermost: int


@dataclass(frozen=True)
class Marked:
    """Pairs (k, 2) of islands that share their texels on purpose, the area (k,) that they share and a place (k, 2) in it."""

    pairs: Whole
    area: Floats
    at: Floats


@dataclass(frozen=True)
class LayoutProof:
    """Measured figures of a layout at a map size.

    overlap_pairs: pairs of islands that share area; overlap_self: islands that cover themselves twice; overlap_px: texels of the sheet's
    tiles that are written more than once; gap and margin in px (None where there is nothing to measure between); outside: islands not wholly
    inside one tile; flipped: mirrored islands; `cut`: the heap was too deep to be measured whole, so the numbers of pairs are at least
    those. `coverage` share and number of islands by UDIM number; `twins`: pairs that share texels on purpose, which count neither as
    overlaps nor for the gap; `tiles`: gaps and margins by UDIM number, islands through all n;
    `again`: share of each tile that is covered more than once.
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
    twins: int = 0
    tiles: dict[int, TileGaps] = field(default_factory=dict)
    again: dict[int, float] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        """No overlap of any kind, and nothing outside or astride tiles."""
        return not (self.overlap_pairs or self.overlap_self or self.outside)


def flipped(piece: MeshIslands, similarities: Floats | None = None) -> NDArray[np.bool_]:
    """(n,) whether an island reads mirrored on its object: UV orientation against the side that is seen.

    A placing with a negative determinant turns the seen side, so its islands are flipped when others are not;
    an island counts when any placing of its mesh shows it mirrored.
    """
    sign = piece.islands.signed_area * (1.0 if similarities is None else similarities[:, 1])
    return np.any([(-sign if o.mirrored else sign) < 0 for o in piece.objects], axis=0)


def outside(box: Floats, columns: int | None = None, rows: int | None = None) -> NDArray[np.bool_]:
    """(n,) islands whose box is not inside one tile of the grid (all of UDIM's when not given).

    Parameters
    ----------
    box : (n, 4); columns, rows : of the grid, None for all of UDIM

    Returns
    -------
    (n,) bool
    """
    tile = np.floor(0.5 * (box[:, :2] + box[:, 2:]))
    astride = ((box[:, :2] < tile - EDGE) | (box[:, 2:] > tile + 1 + EDGE)).any(axis=1)
    beyond = (tile[:, 0] >= (columns or COLUMNS)) | (tile[:, 1] >= (rows or ROWS))
    return astride | (tile < 0).any(axis=1) | beyond


def marked(shapes: IslandShapes, lie: Lie, rows: Floats, twins: Whole | None) -> Marked:
    """The pairs of one group of twins (n,) (-1 for none) that cover the same texels.

    Parameters
    ----------
    rows : (n, 5) similarities; twins : (n,) group, -1 for none, or None

    Returns
    -------
    see `Marked`
    """
    none = Marked(np.zeros((0, 2), np.int64), np.zeros(0), np.zeros((0, 2)))
    if twins is None:
        return none
    m = Measure(shapes, rows, lie.sheet, lie.box, lambda: False)
    here = m.here[twins[m.here] >= 0]
    order = here[np.argsort(twins[here], kind="stable")]
    ends = np.cumsum(np.unique(twins[order], return_counts=True)[1])
    pairs = [np.zeros((0, 2), np.int64)]
    for mine in np.split(order, ends[:-1]) if len(order) else []:
        a, b = np.triu_indices(len(mine), 1)
        pairs.append(np.sort(np.column_stack([mine[a], mine[b]]), axis=1))
    found = np.concatenate(pairs)
    i, j = found[lie.sheet[found[:, 0]] == lie.sheet[found[:, 1]]].T
    if not len(i):
        return none
    m.place(np.unique(np.concatenate([i, j])))
    area, at = m.shared(i, j)
    same = (area > LEAST_OVERLAP) & is_twin(area, m.area[i], m.area[j])
    return Marked(np.column_stack([i, j])[same], area[same], at[same])


def proof_of(
    shapes: IslandShapes, lie: Lie, rows: Floats, regions: Regions, grid: Grid, sheet: int = 0, any_tile: bool = False,
    on_purpose: Marked | None = None, known: Mapping[int, tuple[float, float]] | None = None,
) -> LayoutProof:  # fmt: skip
    """The proof of one sheet of a layout.

    Parameters
    ----------
    rows : (n, 5) the layout; lie : how its islands lie
    regions : gives the placed polygons of some islands, where covered areas need them
    grid : the tiles of the sheet, each at its resolution; any_tile : islands may lie in any UDIM tile, not only in those
    on_purpose : the pairs that are marked as twins
    known : of tiles whose islands lie as they lay when they were measured last, the shares that are covered, and covered more than once
    """
    mine = lie.sheet == sheet
    if not mine.any():
        return LayoutProof(0, 0, 0, 0.0, False, None, None, 0, 0, {})
    meant = np.zeros((0, 2), np.int64) if on_purpose is None else on_purpose.pairs[mine[on_purpose.pairs[:, 0]]]
    several = lie.overlaps - np.bincount(meant.ravel(), minlength=len(mine))
    area = shapes.region_area * rows[:, 2] ** 2
    own = shapes.own * rows[:, 2] ** 2
    covers = np.flatnonzero(mine & ~np.isnan(lie.box[:, 0]))
    corners, of = np.unique(corners_of(lie.box[covers]), axis=0, return_inverse=True)
    by_tile = np.split(covers[np.argsort(of.ravel(), kind="stable")], np.cumsum(np.bincount(of.ravel()))[:-1]) if len(covers) else []
    least = _least_gaps(shapes, lie, rows, by_tile, several, meant)
    found: dict[int, TileGaps] = {}
    coverage: dict[int, tuple[float, int]] = {}
    again: dict[int, float] = {}
    gaps, margins, twice = [np.inf], [np.inf], 0.0
    px = grid.px_at(corners + 0.5)
    for t, here in enumerate(by_tile):
        (gap, i, j), corner = least[t], corners[t]
        margin = np.minimum(lie.box[here, :2] - corner, corner + 1 - lie.box[here, 2:]).min(axis=1)
        k = int(margin.argmin())
        gaps.append(gap * px[t])
        margins.append(float(margin[k]) * px[t])
        if not (0 <= corner[0] < COLUMNS and 0 <= corner[1] < ROWS):
            continue
        column, row = int(corner[0]), int(corner[1])
        udim = number(column, row)
        found[udim] = TileGaps(gaps[-1], (i, j), margins[-1], int(here[k]))
        fine = any_tile or (column < grid.columns and row < grid.rows)
        if known is not None and udim in known:
            share, more = known[udim]
        else:
            share, more = _covered(shapes, lie, rows, regions, here, several, (column, row), _GRID if fine else _BESIDE)
        coverage[udim], again[udim] = (share, len(here)), more
        if fine:
            twice += min(more + float(np.minimum(own, area)[here].sum()), 1.0) * px[t] ** 2
    gap, margin = min(gaps), min(margins)
    size = (None, None) if any_tile else (grid.columns, grid.rows)
    return LayoutProof(
        islands=int(mine.sum()), overlap_pairs=int(several[mine].sum()) // 2, overlap_self=int((own[mine] > LEAST_OVERLAP).sum()), overlap_px=float(twice),
        cut=bool(lie.cut[0]), gap_px=float(gap) if np.isfinite(gap) else None, margin_px=float(margin) if np.isfinite(margin) else None,
        outside=int(outside(lie.box[covers], *size).sum()), flipped=int(shapes.flipped(rows[:, 1])[mine].sum()), coverage=coverage, twins=len(meant),
        tiles=found, again=again,
    )  # fmt: skip


def _least_gaps(
    shapes: IslandShapes, lie: Lie, rows: Floats, by_tile: list[Whole], several: NDArray[np.int64], meant: Whole
) -> list[tuple[float, int, int]]:  # fmt: skip
    """For each tile the smallest gap in UV units between its islands, and which two; 0 where two overlap; infinite and -1 for none."""
    tile = np.full(lie.count, -1)
    for t, here in enumerate(by_tile):
        tile[here] = t
    out: list[tuple[float, int, int] | None] = [None] * len(by_tile)
    pairs, gap, _ = lie.near_pairs()
    pairs, gap = pairs[tile[pairs[:, 0]] >= 0], gap[tile[pairs[:, 0]] >= 0]
    known, first = np.unique(tile[pairs[:, 0]], return_index=True)  # pairs come nearest first
    for t, k in zip(known.tolist(), first.tolist(), strict=True):
        out[t] = float(gap[k]), int(pairs[k, 0]), int(pairs[k, 1])
    on_purpose = {(a, b) for a, b in meant.tolist()}
    open_ = {int(t) for t in np.unique(tile[several > 0]) if t >= 0}
    for a in np.flatnonzero((several > 0) & (tile >= 0)).tolist():
        if int(tile[a]) in open_:
            for b in lie.over_with[a].tolist():
                if b >= 0 and tile[b] == tile[a] and (min(a, b), max(a, b)) not in on_purpose:
                    out[int(tile[a])] = 0.0, min(a, b), max(a, b)
                    open_.discard(int(tile[a]))
                    break
    return [_far(shapes, lie, rows, here, on_purpose) if o is None else o for o, here in zip(out, by_tile, strict=True)]


def _far(shapes: IslandShapes, lie: Lie, rows: Floats, here: Whole, on_purpose: set[tuple[int, int]]) -> tuple[float, int, int]:
    """The smallest gap between the islands of a tile of which no two are near: only few can lie like that in one tile."""
    if not 2 <= len(here) <= _MOST_FAR:
        return np.inf, -1, -1
    m = Measure(shapes, rows, lie.sheet, lie.box, lambda: False)
    m.place(here)
    a, b = np.triu_indices(len(here), 1)
    i, j, box = here[a], here[b], lie.box
    apart = np.maximum(np.maximum(box[i, :2] - box[j, 2:], box[j, :2] - box[i, 2:]), 0.0)
    bound = np.hypot(apart[:, 0], apart[:, 1])
    best, pair = np.inf, (-1, -1)
    for k in np.argsort(bound, kind="stable"):
        if bound[k] >= best:
            break
        if (int(i[k]), int(j[k])) not in on_purpose:
            gap, _ = m.gaps(i[k : k + 1], j[k : k + 1], np.array([min(best, 1e30)]))
            if gap[0] < best:
                best, pair = float(gap[0]), (int(i[k]), int(j[k]))
    return best, *pair


def _covered(
    shapes: IslandShapes, lie: Lie, rows: Floats, regions: Regions, here: Whole, several: NDArray[np.int64], corner: tuple[int, int], px: int
) -> tuple[float, float]:  # fmt: skip
    """Share of a tile that the islands `here` cover, and the share that they cover more than once (twins on purpose left out)."""
    area = shapes.region_area * rows[:, 2] ** 2
    lapped = here[lie.overlaps[here] > 0]
    if not len(lapped):
        return float(area[here].sum()), 0.0
    if lie.overlaps[lapped].sum() <= 2 * _EXACT and (lie.overlaps[lapped] <= lie.over_with.shape[1]).all():
        placed = regions(lapped)
        at = dict(zip(lapped.tolist(), range(len(lapped)), strict=True))
        single = np.setdiff1d(here, lapped)
        share = float(area[single].sum()) + float(shapely.area(shapely.union_all(placed)))
        over = lapped[several[lapped] > 0]
        pairs = np.array(
            [(a, b) for a in over.tolist() for b in lie.over_with[a].tolist() if b > a and b in at and several[b] > 0], np.int64
        )
        if not len(pairs):
            return share, 0.0
        common = shapely.intersection(placed[[at[a] for a in pairs[:, 0]]], placed[[at[b] for b in pairs[:, 1]]])
        return share, float(shapely.area(shapely.union_all(common)))
    return covered_on_texels(shapes, lie, rows, here, several, corner, px)


def covered_on_texels(
    shapes: IslandShapes, lie: Lie, rows: Floats, here: Whole, several: NDArray[np.int64], corner: tuple[int, int], px: int
) -> tuple[float, float]:  # fmt: skip
    """The same two shares, counted on a grid of `px` texels a side: for heaps, whose polygons nobody can unite in time.

    Parameters
    ----------
    rows : (n, 5); here : (k,) islands of the tile; several : (n,) islands that each overlaps without being its twin
    corner : column and row of the tile; px : texels along a side

    Returns
    -------
    share of the tile that is covered, share that is covered more than once
    """
    m = Measure(shapes, rows, lie.sheet, lie.box, lambda: False)
    m.place(here)
    count = np.zeros((px, px), np.uint8)
    again = np.zeros((px, px), np.uint8)
    points, first = m.placed["triangles"]
    _count_texels(points, first, here, several, float(corner[0]), float(corner[1]), count, again)
    return float((count > 0).mean()), float((again > 1).mean())


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _count_texels(tri, first, which, several, u, v, count, again):  # type: ignore[no-untyped-def]
    """How many islands cover the middle of each texel of a tile, up to 255; `again` counts those alone that overlap without being twins.

    tri (T, 6) placed pieces; first (n + 1,); which (k,); u, v the tile's lower left corner; count, again (px, px) uint8. O(texels of the boxes).
    """
    px = count.shape[0]
    last = np.full((px, px), -1, np.int64)
    for w in which:
        for t in range(first[w], first[w + 1]):
            ax, ay = (tri[t, 0] - u) * px, (tri[t, 1] - v) * px
            bx, by = (tri[t, 2] - u) * px, (tri[t, 3] - v) * px
            cx, cy = (tri[t, 4] - u) * px, (tri[t, 5] - v) * px
            if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) < 0.0:
                bx, by, cx, cy = cx, cy, bx, by
            c0, c1 = max(0, int(np.ceil(max(min(ax, bx, cx), 0.0) - 0.5))), min(px - 1, int(np.floor(min(max(ax, bx, cx), px) - 0.5)))
            r0, r1 = max(0, int(np.ceil(max(min(ay, by, cy), 0.0) - 0.5))), min(px - 1, int(np.floor(min(max(ay, by, cy), px) - 0.5)))
            for r in range(r0, r1 + 1):
                y = r + 0.5
                for c in range(c0, c1 + 1):
                    x = c + 0.5
                    if (bx - ax) * (y - ay) - (by - ay) * (x - ax) < 0.0:
                        continue
                    if (cx - bx) * (y - by) - (cy - by) * (x - bx) < 0.0:
                        continue
                    if (ax - cx) * (y - cy) - (ay - cy) * (x - cx) < 0.0:
                        continue
                    if last[r, c] == w:
                        continue  # a middle on the edge between two pieces of one island
                    last[r, c] = w
                    if count[r, c] < 255:
                        count[r, c] += 1
                    if several[w] > 0 and again[r, c] < 255:
                        again[r, c] += 1


def twins_of(pieces: list[MeshIslands]) -> Whole:
    """The group (n,) of islands that cover the same texels in the UVs as they were read, -1 for none."""
    shapes = joined([shapes_of(p) for p in pieces])
    rows = np.tile(IDENTITY, (shapes.count, 1))
    lie = measured(shapes, rows, np.zeros(shapes.count, np.int64))
    return grouped(twin_pairs(shapes, lie, rows, np.arange(shapes.count)), shapes.count)


def prove(
    pieces: list[MeshIslands], transforms: list[Floats] | None, map_px: int, tiles: tuple[int, int] | None = None, twins: Whole | None = None,
    only: NDArray[np.bool_] | None = None, tile_px: dict[int, int] | None = None,
) -> LayoutProof:  # fmt: skip
    """Measure a layout of several pieces that share one sheet.

    Parameters
    ----------
    transforms : similarity per island and piece; None for the UVs as they were read
    tiles : columns and rows of the sheet; None for any UDIM tile
    twins : (n,) group of islands that share their texels on purpose, -1 for none
    tile_px : UDIM number to px, of tiles that have another resolution than `map_px`
    only : (n,) the islands that lie on this sheet; None for all
    """
    if not pieces:
        return LayoutProof(0, 0, 0, 0.0, False, None, None, 0, 0, {})
    shapes = joined([shapes_of(p) for p in pieces])
    rows = np.tile(IDENTITY, (shapes.count, 1)) if transforms is None else np.concatenate(transforms)
    sheet = np.zeros(shapes.count, np.int64) if only is None else np.where(only, 0, -1)
    lie = measured(shapes, rows, sheet)
    all_regions = np.concatenate([p.outlines.regions for p in pieces])
    columns, height = tiles or (1, 1)
    return proof_of(
        shapes, lie, rows, lambda k: transform_regions(all_regions[k], rows[k]), Grid(map_px, columns, height, tile_px or {}), 0, tiles is None,
        marked(shapes, lie, rows, twins),
    )  # fmt: skip
