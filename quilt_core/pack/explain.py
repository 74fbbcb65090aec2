"""What limits a layout, and what an action would gain: each is measured by trying it.

Every trial is a short packing with one thing changed, compared with as short a packing of what there is now.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import QuiltError
from .driver import pack
from .recipe import Recipe, Rules

_SPANS = 0.8  # of the tile's side: an island this long bounds the scale
_FILLS = 0.2  # of the tile's area


@dataclass(frozen=True)
class Hint:
    """An action, the islands it is about, and by what factor the density would grow (1.06: 6 % more).

    kind : "padding", "margin", "turn", "turn_all", "cut", "finer"; value: the padding, margin or steps to set, if any
    """

    kind: str
    islands: list[int]
    gain: float
    value: float | str | None = None


@dataclass(frozen=True)
class Explanation:
    """Islands (numbers) that span most of the tile and those that fill much of it, longest and largest first; and hints, the best first."""

    long: list[int]
    large: list[int]
    hints: list[Hint]


def limiting(regions: NDArray[np.object_], common: float) -> tuple[list[int], list[int]]:
    """The islands that span over 80 % of a tile at a scale, and those that fill over 20 % of it.

    Parameters
    ----------
    regions : (n,) polygons; common : the scale that they are laid out at

    Returns
    -------
    two lists of numbers of islands
    """
    box = shapely.bounds(regions) * common
    length = np.maximum(box[:, 2] - box[:, 0], box[:, 3] - box[:, 1])
    area = shapely.area(regions) * common**2
    long = [int(i) for i in np.argsort(-length, kind="stable") if length[i] > _SPANS]
    large = [int(i) for i in np.argsort(-area, kind="stable") if area[i] > _FILLS]
    return long, large


def halves(region: shapely.Geometry) -> list[shapely.Geometry]:
    """A region cut in two across its longer side."""
    x0, y0, x1, y1 = region.bounds
    if x1 - x0 >= y1 - y0:
        parts = [shapely.box(x0, y0, 0.5 * (x0 + x1), y1), shapely.box(0.5 * (x0 + x1), y0, x1, y1)]
    else:
        parts = [shapely.box(x0, y0, x1, 0.5 * (y0 + y1)), shapely.box(x0, 0.5 * (y0 + y1), x1, y1)]
    return [g for g in (_area_only(region.intersection(p)) for p in parts) if not g.is_empty]


def _area_only(region: shapely.Geometry) -> shapely.Geometry:
    parts = [g for g in shapely.get_parts(region) if g.geom_type == "Polygon" and g.area > 0]
    return shapely.Polygon() if not parts else parts[0] if len(parts) == 1 else shapely.MultiPolygon(parts)


def explain(
    regions: NDArray[np.object_],
    recipe: Recipe,
    rules: Rules | None = None,
    seconds: float = 1.5,
    stop: Callable[[], bool] = lambda: False,
    tell: Callable[[int, int], None] = lambda done, of: None,
) -> Explanation:
    """Try what could make a layout denser.

    Parameters
    ----------
    regions, recipe, rules : as for `pack`; the density is always fitted here
    seconds : of each trial (a recipe bounded by passes bounds each trial by them)
    stop : asked between and during trials; what was found until then is returned
    tell : called with the trials done and their number

    Raises
    ------
    QuiltError : not even the present settings give a layout
    """
    rules = Rules() if rules is None else rules
    base = replace(recipe, density=None, seconds=seconds)
    now = pack(regions, base, stop=stop, rules=rules).best.common
    long, large = limiting(regions, now)
    trials = list(_trials(regions, base, rules, long))
    hints = []
    for number, (hint, r, changed, ruled) in enumerate(trials):
        if stop():
            break
        tell(number, len(trials))
        try:
            gain = pack(r, changed, stop=stop, rules=ruled).best.common / now
        except QuiltError:
            continue
        hints.append(replace(hint, gain=float(gain)))
    return Explanation(long, large, sorted((h for h in hints if h.gain > 1.005), key=lambda h: -h.gain))


_Trial = tuple[Hint, NDArray[np.object_], Recipe, Rules]


def _trials(regions: NDArray[np.object_], base: Recipe, rules: Rules, long: list[int]) -> list[_Trial]:
    n = len(regions)
    out: list[_Trial] = []
    if base.padding_px >= 2:
        out.append((Hint("padding", [], 1.0, base.padding_px / 2), regions, replace(base, padding_px=base.padding_px / 2), rules))
    if base.margin_px >= 2:
        out.append((Hint("margin", [], 1.0, base.margin_px / 2), regions, replace(base, margin_px=base.margin_px / 2), rules))
    rotations = list(rules.rotate) if rules.rotate is not None else [base.rotate] * n
    stiff = [i for i in long[:3] if rotations[i] != "free" and (rules.held is None or not rules.held[i])]
    if stiff:
        freed = tuple("free" if i in stiff else t for i, t in enumerate(rotations))
        out.append((Hint("turn", stiff, 1.0, "free"), regions, base, replace(rules, rotate=freed)))
    if base.rotate in ("none", "180"):
        out.append((Hint("turn_all", [], 1.0, "90"), regions, replace(base, rotate="90"), rules))
    if long and (rules.held is None or not rules.held[long[0]]):
        parts = halves(regions[long[0]])
        if len(parts) == 2:
            cut = np.empty(n + 1, object)
            cut[:n], cut[n] = regions, parts[1]
            cut[long[0]] = parts[0]
            out.append((Hint("cut", [long[0]], 1.0), cut, base, _longer(rules, long[0])))
    return out


def _longer(rules: Rules, i: int) -> Rules:
    """Rules with one more island that has those of island i."""
    return Rules(
        None if rules.rotate is None else (*rules.rotate, rules.rotate[i]),
        None if rules.mirror is None else np.append(rules.mirror, rules.mirror[i]),
        None if rules.held is None else np.append(rules.held, rules.held[i]),
    )
