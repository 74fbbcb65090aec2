"""Islands outside the band of density around the target, and outside a team's limits: two things, each counted and measured by itself."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from ..uv.density import densities
from ..words import plain
from .fault import Fault, Limits, of_islands, target_of
from .findings import Findings

_MOST_PX = 16384  # no larger map is offered as a remedy


def off_band(f: Findings, limits: Limits, side: int) -> Fault | None:
    """Islands below (`side` -1) or above (1) the band around the target."""
    target = target_of(f, limits)
    if target is None:
        return None
    d = _densities(f, limits)
    wanted = target * (np.ones(len(d)) if limits.weight is None else limits.weight)
    beyond = times_beyond(d, wanted, side)
    return _fault("starved" if side < 0 else "lavish", beyond, beyond > 1 + limits.band / 100, limits, side, "band")


def off_limit(f: Findings, limits: Limits, side: int) -> Fault | None:
    """Islands below a team's least density (`side` -1) or above its greatest (1); None where there is no such limit."""
    limit = limits.least if side < 0 else limits.greatest
    if limit is None:
        return None
    beyond = times_beyond(_densities(f, limits), np.full(len(f.world), limit), side)
    # A density that is read back from a file may differ in the last digits from the limit that it was packed at.
    return _fault("under_limit" if side < 0 else "over_limit", beyond, beyond > 1 + 1e-6, limits, side, "team's limit")


def _densities(f: Findings, limits: Limits) -> Floats:
    return densities(f.uv_area, f.world, limits.grid.px_of(f.box))


def times_beyond(d: Floats, wanted: Floats, side: int) -> Floats:
    """(n,) how many times below or above what is wanted; 0 where nothing is known."""
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.nan_to_num(wanted / d if side < 0 else d / wanted, nan=0.0, posinf=np.inf)


def _fault(kind: str, beyond: Floats, bad: NDArray[np.bool_], limits: Limits, side: int, what: str) -> Fault:
    factor = float(beyond[bad].max()) if bad.any() else 1.0
    detail = f"up to {plain(factor, 3)} times too {'blurred' if side < 0 else 'sharp'}"
    remedy = "Even the density"
    if side < 0 and limits.grid.px * factor <= _MOST_PX:
        remedy += f"; the most blurred one would need a map of {2 ** int(np.ceil(np.log2(limits.grid.px * factor)))} px as it is"
    where = "below" if side < 0 else "above"
    words = (f"island is {where} the {what}", f"islands are {where} the {what}")
    return of_islands(kind, 2, bad, beyond, words, detail, remedy + ".", "even")
