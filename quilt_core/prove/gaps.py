"""Gaps, margins and overlaps of islands, exact on their polygons (by shapely's predicates)."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from ..scene import Floats

LEAST_OVERLAP = 1e-10  # UV units squared that two regions must share to overlap: 0.0004 px of a 2048 px map
_CHUNK = 50_000
_THREADS = 2  # shapely lets go of the interpreter while it measures


def smallest_gap(regions: NDArray[np.object_], near: float = 0.0) -> float:
    """The smallest distance between two regions; see `closest`."""
    return closest(regions, near)[0]


def closest(regions: NDArray[np.object_], near: float = 0.0) -> tuple[float, int, int]:
    """The smallest distance between two regions, 0 where they touch or overlap, and which two; infinite and -1 for under two.

    Parameters
    ----------
    near : a distance at which two are likely to be found; only the speed depends on it
    """
    known = np.flatnonzero(~shapely.is_empty(regions))
    regions = regions[known]
    if len(regions) < 2:
        return float("inf"), -1, -1
    tree = shapely.STRtree(regions)
    box = shapely.total_bounds(regions)
    across = float(np.hypot(box[2] - box[0], box[3] - box[1])) + 1e-9
    reach = max(near * 1.02, across / 1000)
    while True:
        i, j = tree.query(regions, predicate="dwithin", distance=reach)
        use = i < j
        if use.any():
            apart = shapely.distance(regions[i[use]], regions[j[use]])
            k = int(apart.argmin())
            return float(apart[k]), int(known[i[use][k]]), int(known[j[use][k]])
        if reach > across:
            return float("inf"), -1, -1
        reach *= 4


def margin_of(regions: NDArray[np.object_]) -> tuple[float, int]:
    """The smallest distance in UV units of a region to the border of the tile its centre lies in, below 0 outside, and whose it is; infinite and
    -1 for none."""
    known = np.flatnonzero(~shapely.is_empty(regions))
    if not len(known):
        return float("inf"), -1
    box = shapely.bounds(regions[known])
    tile = np.floor(0.5 * (box[:, :2] + box[:, 2:]))
    margin = np.minimum(box[:, :2] - tile, tile + 1 - box[:, 2:]).min(axis=1)
    k = int(margin.argmin())
    return float(margin[k]), int(known[k])


@dataclass(frozen=True)
class Overlaps:
    """Pairs (k, 2) of regions that share area, the area (k,) of each, and whether the list was cut short."""

    pairs: NDArray[np.int64]
    area: Floats
    cut: bool = False


def shared_area(a: NDArray[np.object_], b: NDArray[np.object_]) -> Floats:
    """Area (k,) that each of k pairs shares."""
    if len(a) < 1000:
        return shapely.area(shapely.intersection(a, b))  # type: ignore[no-any-return]
    parts = np.array_split(np.arange(len(a)), 4 * _THREADS)
    with ThreadPoolExecutor(_THREADS) as pool:
        return np.concatenate(list(pool.map(lambda k: shapely.area(shapely.intersection(a[k], b[k])), parts)))


def overlaps(regions: NDArray[np.object_], least_area: float, most_pairs: int = 600_000) -> Overlaps:
    """All pairs of regions that share more than `least_area`.

    Regions whose boxes meet in more than `most_pairs` pairs are a heap, not a layout: the first ones are measured
    and the result says that it was cut short.
    """
    tree = shapely.STRtree(regions)
    kept, areas, seen = [], [], 0
    cut = False
    step = max(1, min(_CHUNK, len(regions) // 8 + 1))
    for begin in range(0, len(regions), step):
        i, j = tree.query(regions[begin : begin + step])
        i = i + begin
        use = i < j
        i, j = i[use], j[use]
        if seen + len(i) > most_pairs:
            i, j, cut = i[: most_pairs - seen], j[: most_pairs - seen], True
        seen += len(i)
        area = shared_area(regions[i], regions[j])
        real = area > least_area
        kept.append(np.column_stack([i[real], j[real]]))
        areas.append(area[real])
        if cut:
            break
    pairs = np.concatenate(kept) if kept else np.zeros((0, 2), np.int64)
    return Overlaps(pairs, np.concatenate(areas) if areas else np.zeros(0), cut)
