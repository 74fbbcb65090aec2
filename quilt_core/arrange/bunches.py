"""Bunches: islands that lie together. Each bunch is packed by itself first, then goes through the packer as one thing. Islands that keep
a wider gap go through it with that gap around them.

The size of the gaps inside a bunch depends on the scale that all islands end at, which is not known before. So bunches are built
for a guess of it, packed, and built again for what came out, until the gaps inside are at least the padding and hardly more.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import Cancelled, DoesNotFit
from ..model.scene import Floats
from ..model.similarity import applied, composed
from ..pack import Packing, PackResult, Recipe, Rules, pack
from ..pack.shapes import ANGLES

_FILL = 0.65  # share of the tiles that the first guess of the scale counts on
_ROUNDS = 6
_SHORT = 0.12  # of the time for a round that only looks for the scale
_INNER = 0.15  # of a round, for what lies inside the bunches
_HELD = -2  # in place of a group: what is held is in no bunch
_SIZE = 1024  # px of the map that a bunch is packed on; its padding is scaled to it


def tell(progress: Callable[[Packing], None] | None, whole: Callable[[Packing], Packing], holds: bool) -> Callable[[Packing], None] | None:
    """Pass on only layouts whose bunches are wide enough inside."""
    if progress is None:
        return None
    return lambda p: progress(whole(p)) if holds or p.common >= 1 - 1e-9 else None


def _rows(p: Packing) -> Floats:
    return np.column_stack([p.angle, p.mirror, p.scale, p.offset])


def _moved(regions: NDArray[np.object_], rows: Floats) -> NDArray[np.object_]:
    owner = np.repeat(np.arange(len(regions)), shapely.get_num_coordinates(regions))
    return shapely.set_coordinates(regions.copy(), applied(rows[owner], shapely.get_coordinates(regions)))  # type: ignore[no-any-return]


@dataclass
class _Bunch:
    """Islands (k,) with their places `inner` (k, 5) in the bunch, and what others keep away from."""

    members: NDArray[np.int64]
    inner: Floats
    outline: shapely.Geometry
    rotate: str


@dataclass
class Bunches:
    """Which islands lie together: group (n,), -1 for those that go alone; `strict` groups let nothing else between them. Those in `wider`
    (n,) keep `extra_px` more than the padding from everything."""

    group: NDArray[np.int64]
    strict: frozenset[int] = frozenset()
    wider: NDArray[np.bool_] | None = None
    extra_px: float = 0.0

    def of(self, mine: NDArray[np.int64]) -> Bunches:
        """The same for some regions (k,) alone; those beyond the last of `group` stand at the end and go alone."""
        known = mine[mine < len(self.group)]
        return Bunches(self.group[known], self.strict, None if self.wider is None else self.wider[known], self.extra_px)

    def any(self) -> bool:
        """Whether there is a bunch of more than one island, or an island that keeps a wider gap."""
        if self.wider is not None and self.extra_px > 0 and self.wider.any():
            return True
        return bool((np.bincount(self.group[self.group >= 0]) > 1).any()) if (self.group >= 0).any() else False

    def pack(
        self,
        regions: NDArray[np.object_],
        recipe: Recipe,
        progress: Callable[[Packing], None] | None = None,
        stop: Callable[[], bool] = lambda: False,
        rules: Rules | None = None,
    ) -> PackResult:
        """As `pack`, with the bunches kept together; regions after the last of `group` go alone.

        Raises
        ------
        DoesNotFit : as `pack`; of a bunch all islands are named
        """
        rules = Rules() if rules is None else rules
        n = len(regions)
        held = np.zeros(n, bool) if rules.held is None else rules.held
        rotations = [recipe.rotate] * n if rules.rotate is None else list(rules.rotate)
        group = np.r_[self.group, np.full(n - len(self.group), -1)]
        group[held] = _HELD
        holds = recipe.density is not None
        area = float(shapely.area(regions[~held]).sum())
        scale = 1.0 if holds else math.sqrt(_FILL * float((recipe.ratio**2).sum()) / max(area, 1e-300))
        begin, result = time.monotonic(), None
        for round_ in range(_ROUNDS):
            # Short rounds find the scale; what is left of the time goes into the last one.
            left = recipe.seconds - (time.monotonic() - begin)
            last = holds or result is not None or round_ == _ROUNDS - 1
            part = max(0.5, left) if last else max(0.5, _SHORT * recipe.seconds)
            share = recipe if last else recipe.part(_SHORT)
            bunches = self._built(regions, group, rotations, share, scale, _INNER * part, stop)
            single = np.setdiff1d(np.arange(n), np.concatenate([np.zeros(0, int), *(b.members for b in bunches)]))
            things = np.concatenate(
                [_moved(regions[single], _sized(len(single), scale, held[single])), np.array([b.outline for b in bunches], object)]
            )
            inner_rules = Rules(
                rotate=(*(rotations[i] for i in single), *(b.rotate for b in bunches)),
                held=np.r_[held[single], np.zeros(len(bunches), bool)] if held.any() else None,
            )

            def whole(p: Packing, bunches: list[_Bunch] = bunches, single: NDArray[np.int64] = single, scale: float = scale) -> Packing:
                return _expanded(p, regions, bunches, single, held, scale, recipe)

            try:
                found = pack(things, replace(share, seconds=part), tell(progress, whole, holds), stop, inner_rules)
            except DoesNotFit as e:
                lost = [int(i) for k in e.islands for i in (single[[k]] if k < len(single) else bunches[k - len(single)].members)]
                raise DoesNotFit(str(e), lost, e.best_density) from e
            common = found.best.common if not holds else 1.0
            better = result is None or whole(found.best).common > result.best.common
            if common >= 1 - 1e-9 and better:
                result = replace(found, best=whole(found.best))
            if found.stopped or holds or (last and result is not None):
                break
            # The next bunches are built for the scale that these reached, or less where their gaps came out too narrow.
            scale *= common * ((0.985, 0.97, 0.94, 0.9, 0.85, 0.8)[round_] if common < 1 else 0.995)
        if result is None and stop():
            raise Cancelled("The packing was stopped before its bunches were laid out.")
        if result is None:
            raise DoesNotFit("The bunches do not fit: let go of the largest, or add a tile.", [int(i) for i in np.flatnonzero(group >= 0)])
        return result

    def _built(
        self, regions: NDArray[np.object_], group: NDArray[np.int64], rotations: list[str], recipe: Recipe, scale: float, seconds: float,
        stop: Callable[[], bool],
    ) -> list[_Bunch]:  # fmt: skip
        groups = [np.flatnonzero(group == g) for g in np.unique(group[group >= 0])]
        groups = [g for g in groups if len(g) > 1]
        total = sum(len(g) for g in groups)
        wider = np.zeros(len(regions), bool)
        if self.wider is not None:
            wider[: len(self.wider)] = self.wider
        extra = self.extra_px / recipe.map_px
        out = []
        for members in groups:
            own = [rotations[i] for i in members]
            # Inside a bunch of several kinds they keep apart too.
            mixed = wider[members].any() and not wider[members].all()
            grown = _grown(regions[members], np.where(wider[members] & mixed, extra / scale, 0.0))
            inner = _inner(grown, own, recipe, scale, seconds, len(members) / total, stop)
            laid = _moved(regions[members], inner)
            strict = int(group[members[0]]) in self.strict
            outline = shapely.convex_hull(shapely.union_all(laid)) if strict else shapely.MultiPolygon(
                [p for p in shapely.get_parts(shapely.get_parts(laid)) if p.geom_type == "Polygon"]
            )  # fmt: skip
            if wider[members].any():
                outline = shapely.buffer(outline, extra, quad_segs=8)
            out.append(_Bunch(members, inner, outline, min(own, key=ANGLES.__getitem__)))
        alone = wider & ~np.isin(np.arange(len(regions)), np.concatenate([np.zeros(0, int), *groups]))
        for i in np.flatnonzero(alone & ~_is_held(group)):
            rows = _sized(1, scale, np.zeros(1, bool))
            outline = shapely.buffer(_moved(regions[[i]], rows)[0], extra, quad_segs=8)
            out.append(_Bunch(np.array([i]), rows, outline, rotations[i]))
        return out


def _is_held(group: NDArray[np.int64]) -> NDArray[np.bool_]:
    return np.asarray(group == _HELD)


def _grown(regions: NDArray[np.object_], by: Floats) -> NDArray[np.object_]:
    """Regions with room (n,) around them; those with none stay as they are."""
    return np.where(by > 0, shapely.buffer(regions, by, quad_segs=8), regions)


def _sized(count: int, scale: float, held: NDArray[np.bool_]) -> Floats:
    """Similarities (count, 5) that only scale; held ones stay."""
    rows = np.tile([0.0, 1.0, 1.0, 0.0, 0.0], (count, 1))
    rows[~held, 2] = scale
    return rows


def _inner(
    regions: NDArray[np.object_], rotations: list[str], recipe: Recipe, scale: float, seconds: float, share: float, stop: Callable[[], bool]
) -> Floats:
    """Places (k, 5) of islands packed into a square of their own, at `scale`, with gaps of at least the padding, in a share of the time."""
    px = float(recipe.map_px)
    side = math.sqrt(float(shapely.area(regions).sum()) / 0.75) * scale + recipe.padding_px / px
    for _ in range(4):
        padding = recipe.padding_px * _SIZE / (px * side)
        one = replace(
            recipe, map_px=_SIZE, padding_px=min(padding, _SIZE / 3), margin_px=0.0, columns=1, rows=1, tile_px=None, density=None,
            fill="common", seconds=seconds * share, passes=recipe.share_of_passes(_INNER * share),
        )  # fmt: skip
        found = pack(regions, one, None, stop, Rules(rotate=tuple(rotations))).best
        need = scale / found.common  # the side at which these islands have the scale asked for
        if need >= side * (1 - 1e-9) or recipe.padding_px == 0:
            break
        side = need * 0.98
    # Larger than the padding was counted for: gaps are a little wider, which is allowed; smaller ones were packed again.
    rows = _rows(found)
    rows[:, 2:] *= need
    return rows


def _expanded(
    p: Packing,
    regions: NDArray[np.object_],
    bunches: list[_Bunch],
    single: NDArray[np.int64],
    held: NDArray[np.bool_],
    scale: float,
    recipe: Recipe,
) -> Packing:
    """A packing of single islands and bunches as one of all islands."""
    n = len(regions)
    rows, tile = np.tile([0.0, 1.0, 1.0, 0.0, 0.0], (n, 1)), np.zeros(n, np.int64)
    outer = _rows(p)
    rows[single] = composed(outer[: len(single)], _sized(len(single), scale, held[single]))
    tile[single] = p.tile[: len(single)]
    for k, b in enumerate(bunches):
        at = len(single) + k
        rows[b.members] = composed(np.repeat(outer[at : at + 1], len(b.members), axis=0), b.inner)
        tile[b.members] = p.tile[at]
    ratio = recipe.ratio
    area = shapely.area(regions) * rows[:, 2] ** 2
    covered = float((area * ratio[tile] ** 2).sum() / (ratio**2).sum())
    return Packing(p.common * scale, rows[:, 2], rows[:, 0], rows[:, 1], rows[:, 3:], tile, covered)
