"""The smallest gap between islands, exact on their polygons (by shapely's predicates): what the packer asks of its own layouts. The proof of a layout
has code of its own (`measure`)."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

LEAST_OVERLAP = 1e-10  # UV units squared that two regions must share to overlap: 0.0004 px of a 2048 px map
_CHUNK = 50_000
_THREADS = 2  # shapely lets go of the interpreter while it measures


def smallest_gap(regions: NDArray[np.object_], near: float = 0.0) -> float:
    """The smallest distance between two regions; see `closest`.

    Parameters
    ----------
    regions : (n,) polygons; near : as of `closest`

    Returns
    -------
    UV units; infinite for fewer than two
    """
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
