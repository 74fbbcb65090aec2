"""What a fault is, and what its modules share."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..measure.proof import EDGE
from ..model.scene import Floats
from ..model.tiles import Grid
from ..uv.density import densities
from ..words import counted
from .findings import Findings


@dataclass(frozen=True)
class Limits:
    """What a sheet asks for: its tiles, padding and margin in px, the target density (None: the median), the band
    in percent around it, and a team's least and greatest density (None: no limit). `weight` (n,) multiplies the target; `twice_px`: texels that overlaps write
    more than once, where that is known."""

    grid: Grid
    padding_px: float
    margin_px: float
    target: float | None = None
    band: float = 10.0
    least: float | None = None
    greatest: float | None = None
    weight: Floats | None = None
    twice_px: float | None = None


@dataclass
class Fault:
    """One kind of fault.

    title : how many of what; detail: how bad; heavy : 3 the bake fails, 2 it shows, 1 worth knowing, 0 meant so; islands (k,)
    concerned, the worst first; places (q, 2) in UV, value (q,) and the two islands `pairs` (q, 2) where the fault is a place; `repair` names what mends
    it without unwrapping, or is empty
    """

    kind: str
    heavy: int
    count: int
    title: str
    detail: str
    remedy: str
    islands: NDArray[np.int64]
    places: Floats = field(default_factory=lambda: np.zeros((0, 2)))
    values: Floats = field(default_factory=lambda: np.zeros(0))
    repair: str = ""
    pairs: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))


def target_of(f: Findings, limits: Limits) -> float | None:
    """The density that islands are compared with: the one asked for, or the median by surface area."""
    if limits.target is not None:
        return limits.target
    d = densities(f.uv_area, f.world, limits.grid.px_of(f.box))
    good = np.isfinite(d)
    if not good.any():
        return None
    order = np.argsort(d[good])
    total = np.cumsum(f.world[good][order])
    return float(d[good][order][int(np.searchsorted(total, 0.5 * total[-1]))])


def outside_kinds(f: Findings, grid: Grid) -> tuple[NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_]]:
    """(n,) each: islands astride a tile border; wholly in a tile that the sheet does not have; where UDIM has no tile.

    Parameters
    ----------
    f : findings of n islands; grid : the tiles of the sheet

    Returns
    -------
    three of (n,) bool
    """
    with np.errstate(invalid="ignore"):
        tile = np.floor(0.5 * (f.box[:, :2] + f.box[:, 2:]))
        beyond = (f.box[:, :2] < tile - EDGE) | (f.box[:, 2:] > tile + 1 + EDGE)
        astride: NDArray[np.bool_] = np.asarray(beyond.any(axis=1))
        nowhere = ((tile < 0).any(axis=1) | (tile[:, 0] >= 10) | (tile[:, 1] >= 100)) & ~astride
        other = ((tile[:, 0] >= grid.columns) | (tile[:, 1] >= grid.rows)) & ~astride & ~nowhere
    return astride, other, nowhere


def margins(f: Findings) -> Floats:
    """Distance (n,) of each island to the border of the tile its middle lies in, in UV units; negative outside."""
    tile = np.floor(0.5 * (f.box[:, :2] + f.box[:, 2:]))
    return np.minimum(f.box[:, :2] - tile, tile + 1 - f.box[:, 2:]).min(axis=1)


def worst_first(which: NDArray[np.bool_], by: NDArray[np.generic]) -> NDArray[np.int64]:
    """Numbers of what is meant, the greatest first.

    Parameters
    ----------
    which : (n,) bool; by : (n,) how bad each is

    Returns
    -------
    (k,) numbers of those that are meant
    """
    chosen = np.flatnonzero(which)
    return chosen[np.argsort(-np.asarray(by, float)[chosen], kind="stable")]


def of_islands(
    kind: str, heavy: int, bad: NDArray[np.bool_], by: NDArray[np.generic], words: tuple[str, str], detail: str, remedy: str, repair: str = ""
) -> Fault:  # fmt: skip
    """A fault of single islands: those that are `bad` (n,), the worst `by` (n,) first; `words` for one and for several."""
    n = int(bad.sum())
    return Fault(kind, heavy, n, counted(n, *words), detail, remedy, worst_first(bad, by), repair=repair)
