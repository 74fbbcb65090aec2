"""The reference packer: spyrrow, a general-purpose strip packing library, made square by rescaling its strip."""

from __future__ import annotations

import math

import numpy as np
import shapely
import spyrrow
from numpy.typing import NDArray

_SHARES = (0.2, 0.2, 0.6)  # of the seconds, for strips that come ever closer to a square


def square(regions: NDArray[np.object_], gap: float, seconds: float, seed: int = 0) -> float:
    """Coverage that spyrrow reaches in a square with two workers and turns of 90 degrees.

    Parameters
    ----------
    gap : padding as a share of the square's side
    """
    # Units in which the islands cover 0.85 of 512 x 512; outlines as fine as the packers' own searches need.
    scale = 512.0 * math.sqrt(0.85 / float(shapely.area(regions).sum()))
    owner = np.repeat(np.arange(len(regions)), shapely.get_num_coordinates(regions))
    # Far from the origin the library's single precision loses thin items.
    near = (shapely.get_coordinates(regions) - shapely.bounds(regions)[owner, :2]) * scale
    sized = shapely.set_coordinates(regions.copy(), near)
    outer = [max(shapely.get_parts(g), key=lambda p: p.area).exterior for g in shapely.simplify(sized, 0.015)]
    items = [spyrrow.Item(str(i), [tuple(p) for p in shapely.get_coordinates(r)[:-1]], 1, [0, 90, 180, 270]) for i, r in enumerate(outer)]
    side, least = 512.0 * math.sqrt(0.85 / 0.75), math.inf
    box = shapely.bounds(sized)
    # A strip that its longest item does not fit in makes the library panic.
    floor = 1.01 * float(np.maximum(box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]).max()) / (1 - 2 * gap)
    for share in _SHARES:
        side = max(side, floor)
        config = spyrrow.StripPackingConfig(
            early_termination=False,
            min_items_separation=gap * side,
            total_computation_time=max(1, round(share * seconds)),
            num_workers=2,
            seed=seed,
        )
        width = spyrrow.StripPackingInstance("set", side, items).solve(config).width
        # A strip within 4 % of a square counts as if it were one of the same area: in favour of the library.
        square_side = math.sqrt(width * side) if abs(width / side - 1) < 0.04 else max(width, side)
        least = min(least, square_side)
        side = math.sqrt(width * side)
    return float(shapely.area(sized).sum()) / least**2
