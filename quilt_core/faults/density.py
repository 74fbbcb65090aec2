"""Islands outside the band of density, on either side: what `starved` and `lavish` share."""

from __future__ import annotations

import numpy as np

from ..uv.density import densities
from ..words import plain
from .fault import Fault, Limits, of_islands, target_of
from .findings import Findings


def off_band(f: Findings, limits: Limits, side: int) -> Fault | None:
    """Faults of one side: islands outside the band or the team's limits, on one side."""
    target = target_of(f, limits)
    if target is None:
        return None
    d = densities(f.uv_area, f.world, limits.grid.px_of(f.box))
    wanted = target * (np.ones(len(d)) if limits.weight is None else limits.weight)
    with np.errstate(invalid="ignore"):
        if side < 0:
            floor = np.maximum(wanted / (1 + limits.band / 100), limits.least or 0.0)
            bad, worst = d < floor, wanted / d
        else:
            bad, worst = d > np.minimum(wanted * (1 + limits.band / 100), limits.greatest or np.inf), d / wanted
    worst = np.nan_to_num(worst, posinf=np.inf)
    factor = float(worst[bad].max()) if bad.any() else 1.0
    cure = limits.grid.px * factor
    detail = f"up to {plain(factor, 3)} times {'too blurred' if side < 0 else 'too sharp'}"
    remedy = "Even the density"
    if side < 0 and cure <= 16384:
        remedy += f"; the most blurred one would need a map of {2 ** int(np.ceil(np.log2(cure)))} px as it is"
    where = "below" if side < 0 else "above"
    words = (f"island is {where} the band", f"islands are {where} the band")
    return of_islands("starved" if side < 0 else "lavish", 2, bad, worst, words, detail, remedy + ".", "even")
