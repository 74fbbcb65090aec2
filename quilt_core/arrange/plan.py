"""Planning before anything is packed: which density a sheet will reach, how many tiles a density needs, who goes on which sheet.

All of it is arithmetic on areas: texels that lie under islands = weighted surface x density squared = coverage x texels of the map.
Only the coverage is a guess: what packing usually reaches, corrected by the project's own tries.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..model.scene import Floats

# What the packer reaches on mixed sets (docs/packing.md), and how far it strays from it; counts like this many own tries.
USUAL, STRAY, PRIOR = 0.74, 0.07, 2.0


@dataclass(frozen=True)
class Expected:
    """A coverage that is to be expected, with a low and a high value that it will likely lie between."""

    low: float
    middle: float
    high: float


def expected(tries: list[float]) -> Expected:
    """The coverage to expect from those (0 to 1) that the project's own tries reached.

    The mean of the prior and the tries, weighted by their number; the stray is the prior's where there are few tries and that of the
    tries where there are many (a normal prior of known weight).
    """
    n = len(tries)
    mean = (PRIOR * USUAL + sum(tries)) / (PRIOR + n)
    spread = sum((t - mean) ** 2 for t in tries)
    stray = math.sqrt((PRIOR * STRAY**2 + spread) / (PRIOR + n))
    return Expected(max(0.05, mean - stray), mean, min(0.97, mean + stray))


def density(coverage: float, texels: float, area: float) -> float:
    """Density in px/m that a surface (weighted, in square metres) gets from so many texels at a coverage."""
    return math.sqrt(coverage * texels / area) if area > 0 else 0.0


def tiles_needed(coverage: float, px: int, area: float, wanted: float) -> int:
    """How many tiles of `px` a surface needs at a density in px/m."""
    return max(1, math.ceil(area * wanted**2 / (coverage * px * px) - 1e-9))


@dataclass(frozen=True)
class Part:
    """Something that goes on one sheet: its key, its weighted surface in square metres, and what it belongs with."""

    key: str
    area: float
    group: str


def split(parts: list[Part], sheets: int, capacity: list[float] | None = None) -> dict[str, int]:
    """Share parts out over sheets so that they fill evenly and what belongs together stays together.

    The largest group goes first, each to the sheet with the most room left for its capacity (longest processing time first, whose worst
    sheet is at most 4/3 of the best possible: Graham 1969, from memory). A group of more than an even share and a fifth is taken apart.

    Parameters
    ----------
    capacity : relative size of each sheet; equal when not given

    Raises
    ------
    ValueError : no sheet
    """
    if sheets < 1:
        raise ValueError("there must be at least one sheet")
    room = [1.0] * sheets if capacity is None else list(capacity)
    share = sum(p.area for p in parts) / sum(room)
    groups: dict[str, list[Part]] = {}
    for p in parts:
        groups.setdefault(p.group, []).append(p)
    units: list[list[Part]] = []
    for members in groups.values():
        whole = sum(p.area for p in members) <= 1.2 * share * max(room)
        units += [members] if whole else [[p] for p in members]
    units.sort(key=lambda u: -sum(p.area for p in u))
    filled = [0.0] * sheets
    out: dict[str, int] = {}
    for unit in units:
        need = sum(p.area for p in unit)
        best = min(range(sheets), key=lambda s: ((filled[s] + need) / room[s], s))
        filled[best] += need
        out |= {p.key: best for p in unit}
    return out


@dataclass(frozen=True)
class Move:
    """A part by its number that would go from one tile to another, and the factor on the common density that this is expected to bring."""

    part: int
    source: int
    target: int
    gain: float


def best_move(areas: dict[int, Floats], alone: dict[int, float], px: dict[int, int]) -> Move | None:
    """Which part of the fullest tile would bring most density in another tile; None where none brings a hundredth.

    A tile that covers the share c of its texels has density^2 x surface = c x texels; c is taken to stay as it is, in an empty tile to be the fullest one's.

    Parameters
    ----------
    areas : by tile, the surface (k,) of each of k parts in it; alone : by tile with anything in it, its own density over the common one; px : of each tile
    """
    fullest = min(alone, key=alone.__getitem__)
    total = {t: float(a.sum()) for t, a in areas.items()}
    # Density times the root of the surface: what a tile can bear.
    bears = {t: alone[t] * math.sqrt(total[t]) for t in alone}
    best, room = None, 0.0
    for part in np.flatnonzero(areas[fullest] > 0).tolist():
        x = float(areas[fullest][part])
        if x >= total[fullest] * (1 - 1e-9):
            continue
        for t in px:
            if t == fullest:
                continue
            there = bears.get(t, bears[fullest] * px[t] / px[fullest]) / math.sqrt(total.get(t, 0.0) + x)
            here = bears[fullest] / math.sqrt(total[fullest] - x)
            gain = min([here, there, *(v for k, v in alone.items() if k not in (t, fullest))])
            # Of tiles in which it gains the same, the one that keeps most room.
            if gain > 1.01 and (best is None or (gain, there) > (best.gain, room)):
                best, room = Move(part, fullest, t, gain), there
    return best
