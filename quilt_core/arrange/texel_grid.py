"""Straight edges on whole texels: islands are moved and scaled, each axis by itself and within a tolerance, until their edges along the axes lie on the grid.

Light maps and hard-edged paint want it: an edge between two texels is smeared over both (common practice, no source).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..model.scene import Floats
from ..model.tiles import Grid, column_row, corners_of
from ..pack import Recipe
from ..uv.analysis import MeshIslands, transform_regions
from .sheet import SheetPacking

ON = 0.01  # px: so near to a whole texel an edge lies on it; UVs of six decimals are 0.004 px apart at 4,096 px
_ALONG = 0.02  # px across at most, of an edge that runs along an axis
_SHORT = 2.0  # px: shorter edges are corners that were cut, or curves
_NEAR = 1e-4  # px: gaps are compared to so much
WIDER = 1.42  # px more between islands while they are packed, and half of it to the border: most move by 0.5 px along both axes at most, and what then comes too near goes back


@dataclass(frozen=True)
class Knots:
    """A map of one axis: places `at` (k,) in px, rising, go to `to` (k,); between them it is linear, and beyond them a shift."""

    at: Floats
    to: Floats

    def __call__(self, x: Floats) -> Floats:
        if not len(self.at):
            return x
        inside = np.interp(x, self.at, self.to)
        return np.asarray(inside + np.where(x < self.at[0], x - self.at[0], 0.0) + np.where(x > self.at[-1], x - self.at[-1], 0.0))

    @property
    def change(self) -> float:
        """By how much sizes change at most: 0.01 is one percent."""
        wide = np.diff(self.at)
        return float(np.abs(np.diff(self.to) / wide - 1).max(initial=0.0)) if len(wide) else 0.0


@dataclass(frozen=True)
class Snap:
    """What brings an island onto the grid, in px of its tile."""

    x: Knots
    y: Knots

    def __call__(self, xy: Floats) -> Floats:
        """Places (n, 2) as they lie then."""
        return np.column_stack([self.x(xy[:, 0]), self.y(xy[:, 1])])

    @property
    def change(self) -> float:
        """The greater change of both axes."""
        return max(self.x.change, self.y.change)


def straight(region: Any, axis: int) -> tuple[Floats, Floats]:
    """Where the edges of a polygon that run across an axis lie on it (k,), in px, and how long they are (k,); those of one place are one."""
    at, long = [np.zeros(0)], [np.zeros(0)]
    for ring in shapely.get_rings(shapely.get_parts(region)):
        xy = shapely.get_coordinates(ring)
        d = np.abs(np.diff(xy, axis=0))
        found = (d[:, axis] <= _ALONG) & (d[:, 1 - axis] >= _SHORT)
        at.append((xy[:-1, axis] + xy[1:, axis])[found] / 2)
        long.append(d[found, 1 - axis])
    places, lengths = np.concatenate(at), np.concatenate(long)
    order = np.argsort(places)
    places, lengths = places[order], lengths[order]
    first = np.flatnonzero(np.diff(places, prepend=-np.inf) > _ALONG)
    if not len(first):
        return places, lengths
    total = np.add.reduceat(lengths, first)
    return np.add.reduceat(places * lengths, first) / total, total


def on_grid(regions: Sequence[Any]) -> tuple[int, int]:
    """How many places of straight edges of polygons in px lie on whole texels, and how many there are."""
    at = np.concatenate([np.zeros(0), *(straight(r, axis)[0] for r in regions for axis in (0, 1))])
    return int((np.abs(at - np.round(at)) <= ON).sum()), len(at)


def _ends(low: float, high: float, tolerance: float) -> tuple[float, float] | None:
    """Whole numbers for the outermost edges, as near as can be with a width within the tolerance; None where there are none."""
    wide = high - low
    found: list[tuple[float, float, float]] = []
    for width in {np.floor(wide), np.ceil(wide)}:
        if width >= 1 and abs(width / wide - 1) <= tolerance:
            middle = (low + high - width) / 2
            for start in {np.floor(middle), np.ceil(middle)}:
                found.append((max(abs(start - low), abs(start + width - high)), float(start), float(start + width)))
    return min(found)[1:] if found else None


def _knots(at: Floats, long: Floats, tolerance: float) -> Knots:
    """The map of an axis that brings as many of the places (k,) onto the grid as the tolerance allows, the outermost first, then the longest."""
    if not len(at):
        return Knots(at, at)
    ends = _ends(float(at[0]), float(at[-1]), tolerance) if len(at) > 1 else None
    if ends is None:
        heavy = int(np.argmax(long))
        return Knots(at[[heavy]], np.round(at[[heavy]]))
    known: list[tuple[float, float]] = [(float(at[0]), ends[0]), (float(at[-1]), ends[1])]
    for k in (1 + np.argsort(-long[1:-1], kind="stable")).tolist():
        x = float(at[k])
        n = next(n for n, (a, _) in enumerate(known) if a > x)
        (a, s), (b, t) = known[n - 1], known[n]
        y = float(np.round(s + (t - s) * (x - a) / (b - a)))
        if all(q > p and abs((q - p) / (d - c) - 1) <= tolerance for c, p, d, q in ((a, s, x, y), (x, y, b, t))):
            known.insert(n, (x, y))
    return Knots(np.array([a for a, _ in known]), np.array([t for _, t in known]))


def snap_of(region: Any, tolerance: float) -> Snap:
    """What brings a polygon, in px of its tile, onto the grid."""
    return Snap(*(_knots(*straight(region, axis), tolerance) for axis in (0, 1)))


@dataclass(frozen=True)
class Apart:
    """Islands of different kinds (n,) keep so many px between them."""

    kind: NDArray[np.int64]
    px: float

    def of(self, mine: NDArray[np.int64]) -> Apart:
        """The same for some islands (k,)."""
        return Apart(self.kind[mine], self.px)


def _snapped(region: Any, snap: Snap) -> Any:
    return shapely.transform(region, snap)


def fitted(
    shapes: Sequence[Any], packed: NDArray[np.object_], group: NDArray[np.int64], free: NDArray[np.bool_], tolerance: float, gap: float, margin: float, px: float,
    apart: Apart | None = None,
) -> list[Snap | None]:  # fmt: skip
    """What brings the islands of a tile onto its grid, so that no gap becomes less than it may be.

    Parameters
    ----------
    shapes : (n,) polygons in px of the tile, at the sizes that are wanted
    packed : (n,) the same as they lie now, which keeps the gaps
    group : (n,) label of islands that share their texels, -1 for others: they go together
    free : (n,) islands that may move
    tolerance : by how much sizes may change along an axis, 0.01 for one percent
    gap, margin, px : px between islands, to the border, and of the tile
    apart : a wider gap between islands of different kinds

    Returns
    -------
    for each island its map, None for those that stay as they lie
    """
    leader: dict[int, int] = {}
    of = np.array([i if g < 0 else leader.setdefault(g, i) for i, g in enumerate(group.tolist())], np.int64)
    stays = np.zeros(len(packed), bool)
    np.logical_or.at(stays, of, ~free)
    snaps = [None if stays[i] else snap_of(shapes[i], tolerance) for i in range(len(packed))]
    now = packed.copy()
    for i in np.unique(of).tolist():
        if (snap := snaps[i]) is not None:
            now[i] = _snapped(shapes[i], snap)
    heads = np.unique(of)
    while len(back := _too_near(now, heads, snaps, gap, margin, px, apart)):
        for i in back:
            snaps[i], now[i] = None, packed[i]
    return [snaps[int(of[i])] for i in range(len(packed))]


def snaps_of(
    shapes: NDArray[np.object_], packed: NDArray[np.object_], tiles: Grid, group: NDArray[np.int64], free: NDArray[np.bool_], tolerance: float, gap: float, margin: float,
    apart: Apart | None = None,
) -> dict[int, Snap]:  # fmt: skip
    """The maps of islands (n,) that lie on the tiles of a sheet, by number; see `fitted`. `shapes` and `packed` come in UV."""
    corner = corners_of(shapely.bounds(packed))
    out: dict[int, Snap] = {}
    for tile, px in zip(tiles.numbers, tiles.sizes, strict=True):
        here = np.flatnonzero((corner == np.array(column_row(tile))).all(axis=1))
        if not free[here].any():
            continue
        at, lies = (in_px(regions[here], tile, px) for regions in (shapes, packed))
        found = fitted(list(at), lies, group[here], free[here], tolerance, gap, margin, px, apart and apart.of(here))
        out |= {int(n): s for n, s in zip(here, found, strict=True) if s is not None}
    return out


def in_px(regions: NDArray[np.object_], tile: int, px: float) -> NDArray[np.object_]:
    """Polygons in px of a tile."""
    return np.asarray(shapely.transform(regions, lambda xy: (xy - np.array(column_row(tile))) * px), object)


def laid(uv: Floats, snap: Snap, px: float) -> Floats:
    """UVs (n, 2) of one island, as they lie on a tile of so many px, where its map puts them."""
    corner = np.floor((uv.min(axis=0) + uv.max(axis=0)) / 2)
    return snap((uv - corner) * px) / px + corner


def _too_near(
    now: NDArray[np.object_], heads: NDArray[np.int64], snaps: list[Snap | None], gap: float, margin: float, px: float, apart: Apart | None
) -> list[int]:
    """Moved islands that came too near to another one or to the border; of a pair the smaller one."""
    box = shapely.bounds(now[heads])
    out = {
        int(i)
        for i in heads[(box[:, :2].min(axis=1) < margin - _NEAR) | (box[:, 2:].max(axis=1) > px - margin + _NEAR)]
        if snaps[int(i)] is not None
    }
    tree = shapely.STRtree(now[heads])
    a, b = tree.query(now[heads], predicate="dwithin", distance=max(gap - _NEAR, 0.0))
    if apart is not None and apart.px > gap:
        kind = apart.kind[heads]
        c, d = tree.query(now[heads], predicate="dwithin", distance=apart.px - _NEAR)
        a, b = np.r_[a, c[kind[c] != kind[d]]], np.r_[b, d[kind[c] != kind[d]]]
    area = shapely.area(now[heads])
    for i, j in zip(a[a < b].tolist(), b[a < b].tolist(), strict=True):
        pair = sorted((k for k in (i, j) if snaps[int(heads[k])] is not None), key=lambda k: area[k])
        if pair and not out & {int(heads[k]) for k in pair}:
            out.add(int(heads[pair[0]]))
    return sorted(out)


def roomier(recipe: Recipe) -> Recipe:
    """A recipe that leaves room for what goes to the grid afterwards."""
    return replace(recipe, padding_px=recipe.padding_px + WIDER, margin_px=recipe.margin_px + WIDER / 2)


def on_texels(
    pieces: Sequence[MeshIslands], sheet: SheetPacking, uvs: Sequence[Floats], tiles: Grid, tolerance: float, gap: float, margin: float
) -> tuple[list[Floats], float]:  # fmt: skip
    """The UVs of meshes as a layout lays them, brought onto the grid of their tiles; and by which share sizes changed at most.

    Parameters
    ----------
    uvs : of every mesh its rows (W, 2) where the packing puts them
    """
    packed = np.concatenate(
        [np.zeros(0, object), *(transform_regions(p.outlines.regions, t) for p, t in zip(pieces, sheet.transforms, strict=True))]
    )
    alone = np.full(len(packed), -1, np.int64)
    snaps = snaps_of(packed, packed, tiles, alone, sheet.laid, tolerance, gap, margin)
    px = tiles.px_of(shapely.bounds(packed))
    out, first = [], 0
    for p, uv in zip(pieces, uvs, strict=True):
        now = uv.copy()
        for i in range(p.islands.count):
            if (snap := snaps.get(first + i)) is not None:
                mine = p.islands.of_row == i
                now[mine] = laid(uv[mine], snap, float(px[first + i]))
        first += p.islands.count
        out.append(now)
    return out, max((s.change for s in snaps.values()), default=0.0)


def edges_on_grid(regions: NDArray[np.object_], tiles: Grid) -> tuple[int, int]:
    """How many straight edges of polygons in UV are on whole texels of the tiles that they lie in, and how many there are."""
    box = shapely.bounds(regions)
    corner, px = corners_of(box), tiles.px_of(box)
    known = np.flatnonzero(np.isfinite(px) & np.isfinite(corner).all(axis=1))
    return on_grid([shapely.transform(regions[k], lambda xy, k=k: (xy - corner[k]) * px[k]) for k in known])
