"""Tiles packed one by one, each with what lies or belongs in it: filled to its border, or all at the one scale that the fullest of them allows."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numpy.typing import NDArray

from ..errors import Cancelled, DoesNotFit
from ..model.scene import Floats
from ..model.tiles import corners_of
from ..pack import Packing, PackResult, Recipe, Rules, Start, pack
from ..uv.analysis import transform_regions
from .bunches import Bunches

Stop = Callable[[], bool]
Tell = Callable[[Packing], None]
Numbers = NDArray[np.int64]

_ROWS = ("scale", "angle", "mirror", "offset", "tile")  # of a layout: what it says of every region
_FIRST, _LAST = 0.35, 0.9  # of the seconds: when every tile was packed once, and when the fullest one is not bettered any further
_LEAST = 0.3  # seconds that a tile has at least
_LESS = (1.0, 0.98, 0.95, 0.9)  # of the scale that the fullest tile allows: what is tried
_AGAIN = 4  # rounds of the fullest tile, where passes are counted instead of seconds


@dataclass(frozen=True)
class PackedTile:
    """A tile by its number in the packer's order, the islands that were packed into it, and the scale that it would have alone over the common one."""

    tile: int
    islands: int
    alone: float


@dataclass(frozen=True)
class Tiling:
    """Regions with what holds for them, at the sizes and places that the packer gets them; see `pack`."""

    regions: NDArray[np.object_]
    recipe: Recipe
    rules: Rules
    bunches: Bunches | None

    @property
    def held(self) -> NDArray[np.bool_]:
        """(n,) regions that stay where they are."""
        return np.zeros(len(self.regions), bool) if self.rules.held is None else self.rules.held

    def pack(
        self, tile: int, mine: Numbers, seconds: float, scale: float | None = None, start: Packing | None = None, stop: Stop = lambda: False, passes: int | None = None,
    ) -> PackResult:  # fmt: skip
        """One tile with some regions (k,).

        Parameters
        ----------
        scale : of regions in the tile, where it is not to be as large as fits
        start : an earlier answer to better

        Raises
        ------
        DoesNotFit, Cancelled : as `pack`, with numbers of all regions
        """
        r, held = self.recipe, self.held[mine]
        px = r.map_px if r.tile_px is None else r.tile_px[tile]
        corner = self.corner(tile)
        one = replace(
            r, map_px=px, columns=1, rows=1, tile_px=None, density=None if scale is None else r.density or 1.0, fill="common", seconds=seconds, passes=passes,
        )  # fmt: skip
        by = 1.0 if scale is None else scale
        inside = self.regions[mine].copy()
        inside[held] = shapely.transform(inside[held], lambda xy: xy - corner)
        inside[~held] = shapely.transform(inside[~held], lambda xy: xy * by)
        rotations = None if self.rules.rotate is None else tuple(self.rules.rotate[i] for i in mine)
        part = None if self.bunches is None else self.bunches.of(mine)
        bunched = part is not None and part.any()
        begun = None if start is None or bunched or scale is not None else self._start(start, mine, corner)
        rules = Rules(rotate=rotations, held=held if held.any() else None, start=begun)
        try:
            found = (part.pack if bunched and part is not None else pack)(inside, one, None, stop, rules)
        except DoesNotFit as e:
            raise DoesNotFit(str(e), [int(mine[i]) for i in e.islands if i < len(mine)], e.best_density) from e
        p = found.best
        size = np.where(held, 1.0, p.scale * by)
        return replace(
            found, best=replace(p, scale=size, offset=p.offset + np.where(held, 0.0, 1.0)[:, None] * corner, tile=np.full(len(mine), tile))
        )

    def corner(self, tile: int) -> Floats:
        """Lower left corner (2,) of a tile."""
        return np.array([tile % self.recipe.columns, tile // self.recipe.columns], float)

    def _start(self, p: Packing, mine: Numbers, corner: Floats) -> Start | None:
        free = ~self.held[mine]
        box = shapely.bounds(transform_regions(self.regions[mine], np.column_stack([p.angle, p.mirror, p.scale, p.offset])))
        middle = 0.5 * (box[:, :2] + box[:, 2:]) - corner
        return Start(middle, float(p.scale[free].min()), True)

    def joined(self, parts: dict[int, tuple[Numbers, Packing]]) -> Packing:
        """Layouts of single tiles as one."""
        n, r = len(self.regions), self.recipe
        out = Packing(0.0, np.ones(n), np.zeros(n), np.ones(n), np.zeros((n, 2)), np.zeros(n, np.int64), 0.0)
        for mine, p in parts.values():
            for k in _ROWS:
                getattr(out, k)[mine] = getattr(p, k)
        free = ~self.held
        area = shapely.area(self.regions) * out.scale**2
        common = float((out.scale * r.ratio[out.tile])[free].min()) if free.any() else 1.0
        return replace(out, common=common, coverage=float((area * r.ratio[out.tile] ** 2).sum() / (r.ratio**2).sum()))


def fill_each(t: Tiling, shared: PackResult, progress: Tell | None, stop: Stop) -> PackResult:
    """Every tile packed on its own with the regions that a layout gave it: each as large as its tile allows."""
    best = shared.best
    used = np.unique(best.tile)
    mine = {int(k): np.flatnonzero(best.tile == k) for k in used}
    parts = {k: (m, _some(best, m)) for k, m in mine.items()}
    for k, m in mine.items():
        if stop():
            break
        free = ~t.held[m]
        if not free.any():
            continue
        try:
            one = t.recipe.part(0.5 / len(used))
            found = t.pack(k, m, one.seconds, stop=stop, passes=one.passes).best
        except (Cancelled, DoesNotFit):
            continue  # the tile stays as it was shared out
        if found.scale[free].max() < parts[k][1].scale[free].max():
            continue
        parts[k] = m, found
        if progress:
            progress(t.joined(parts))
    return replace(shared, best=replace(t.joined(parts), common=best.common))


def _some(p: Packing, mine: Numbers) -> Packing:
    return replace(p, **{k: getattr(p, k)[mine] for k in _ROWS})


def shared_out(t: Tiling, belongs: Numbers) -> Numbers:
    """The tile (n,) of every region: the one that it belongs to, that of its bunch, where it lies if it is held, and for the rest (-1) the one with the
    most room by area, the largest first."""
    out, ratio = belongs.copy(), t.recipe.ratio
    at = corners_of(shapely.bounds(t.regions)).astype(np.int64)
    out[t.held] = (at[:, 1] * t.recipe.columns + at[:, 0])[t.held]
    group = np.full(len(out), -1)
    if t.bunches is not None:
        group[: len(t.bunches.group)] = t.bunches.group
    group = np.where(group < 0, np.arange(len(out)) + int(group.max(initial=-1)) + 1, group)
    free = ~t.held
    area = np.where(free, shapely.area(t.regions), 0.0)
    # What lies there already counts as much as what comes, at about the scale that all will have.
    scale = 0.7 * float((ratio**2).sum()) / max(float(area.sum()), 1e-300)
    taken = np.bincount(out[t.held], shapely.area(t.regions)[t.held] * ratio[out[t.held]] ** 2, len(ratio)) / scale
    for g in np.unique(group[free & (out >= 0)]):
        mine = free & (group == g)
        found = np.unique(out[mine & (out >= 0)])
        if len(found) > 1:
            raise DoesNotFit(
                "A bunch holds islands that belong to two tiles. Send all of it to one, or let the bunch go.", np.flatnonzero(mine).tolist()
            )
        out[mine] = found[0]
        taken[found[0]] += area[mine].sum()
    rest = np.unique(group[free & (out < 0)])
    size = np.array([area[group == g].sum() for g in rest])
    for g, a in sorted(zip(rest.tolist(), size.tolist(), strict=True), key=lambda x: -x[1]):
        k = int(np.argmin((taken + a) / ratio**2))
        out[free & (group == g)] = k
        taken[k] += a
    return out


def pack_belonging(
    t: Tiling, belongs: Numbers, name: Callable[[int], str], progress: Tell | None = None, stop: Stop = lambda: False
) -> tuple[PackResult, tuple[PackedTile, ...]]:
    """Every region in the tile (n,) that it belongs to, -1 for any: with the recipe's `fill` "common" at the scale that the fullest tile allows, with
    "each" as large as every tile allows, or at the density that is held.

    Raises
    ------
    DoesNotFit : with what finds no place, told by tile; Cancelled : stopped before there was a layout
    """
    tile = shared_out(t, belongs)
    mine = {int(k): np.flatnonzero(tile == k) for k in np.unique(tile)}
    # Tiles of which all is held stay as they are.
    fixed = {k: (m, _as_it_lies(len(m), k)) for k, m in mine.items() if t.held[m].all()}
    mine = {k: m for k, m in mine.items() if k not in fixed}
    if not mine:
        return PackResult(t.joined(fixed)), ()
    run = _Fill(t, mine, fixed, name, progress, stop)
    if t.recipe.density is not None:
        return run.held()
    run.once()
    if t.recipe.fill == "each":
        run.better(each=True)
        return run.result(), run.told(1.0)
    run.better()
    return run.evened()


def _as_it_lies(count: int, tile: int) -> Packing:
    return Packing(1.0, np.ones(count), np.zeros(count), np.ones(count), np.zeros((count, 2)), np.full(count, tile), 0.0)


class _Fill:
    """Tiles that are filled with what belongs to each."""

    def __init__(
        self, t: Tiling, mine: dict[int, Numbers], fixed: dict[int, tuple[Numbers, Packing]], name: Callable[[int], str], progress: Tell | None, stop: Stop,
    ) -> None:  # fmt: skip
        self.t, self.mine, self.fixed, self.name, self.progress, self.stop = t, mine, fixed, name, progress, stop
        self.begin, self.passes, self.history = time.monotonic(), 0, list[tuple[float, float]]()
        self.found: dict[int, Packing] = {}
        count = sum(len(m) for m in mine.values())
        self.share = {k: len(m) / count for k, m in mine.items()}

    @property
    def spent(self) -> float:
        """Seconds."""
        return time.monotonic() - self.begin

    def scale(self, k: int) -> float:
        """The scale of a tile of the recipe's map size that a tile alone allows."""
        free = ~self.t.held[self.mine[k]]
        return float(self.found[k].scale[free].min() * self.t.recipe.ratio[k])

    @property
    def fullest(self) -> int:
        """The tile that allows least."""
        return min(self.found, key=self.scale)

    def result(self) -> PackResult:
        """What was found so far."""
        best = self.t.joined({k: (self.mine[k], p) for k, p in self.found.items()} | self.fixed)
        return PackResult(best, [*self.history, (self.spent, best.coverage)], self.passes, self.stop())

    def told(self, common: float) -> tuple[PackedTile, ...]:
        """What each tile would reach alone."""
        return tuple(PackedTile(k, int((~self.t.held[m]).sum()), self.scale(k) / common) for k, m in sorted(self.mine.items()))

    def once(self) -> None:
        """Every tile as large as fits, for a share of the seconds that goes by its islands.

        Raises
        ------
        DoesNotFit : no layout at any size; Cancelled
        """
        r = self.t.recipe
        for k in self.mine:
            passes = r.share_of_passes(_FIRST * self.share[k])
            self._take(k, self.t.pack(k, self.mine[k], max(_LEAST, _FIRST * r.seconds * self.share[k]), stop=self.stop, passes=passes))

    def _take(self, k: int, found: PackResult) -> None:
        self.passes += found.passes
        free = ~self.t.held[self.mine[k]]
        if k not in self.found or found.best.scale[free].min() > self.found[k].scale[free].min():
            self.found[k] = found.best
            if self.progress and len(self.found) == len(self.mine):
                self.progress(self.preview())

    def preview(self) -> Packing:
        """All tiles at the common scale, roughly: the emptier ones drawn together."""
        common = min(self.scale(k) for k in self.found) if self.t.recipe.fill == "common" else None
        parts = dict(self.fixed)
        for k, p in self.found.items():
            by = 1.0 if common is None else common / self.scale(k)
            free, corner = ~self.t.held[self.mine[k]], self.t.corner(k)
            offset = np.where(free[:, None], corner + 0.5 * (1 - by) + by * (p.offset - corner), p.offset)
            parts[k] = self.mine[k], replace(p, scale=np.where(free, p.scale * by, p.scale), offset=offset)
        out = self.t.joined(parts)
        self.history.append((self.spent, out.coverage))
        return out

    def rounds(self) -> Iterator[tuple[float, int | None]]:
        """Seconds, or passes, of one round after the other."""
        r = self.t.recipe
        if r.passes is not None:
            yield from [(r.seconds, max(1, int((_LAST - _FIRST) * r.passes / _AGAIN)))] * _AGAIN
            return
        while (left := _LAST * r.seconds - self.spent) > 0.1:
            yield min(max(1.0, 0.2 * r.seconds), left), None

    def better(self, each: bool = False) -> None:
        """Better the fullest tile, or with `each` one after the other, until the time is up."""
        order, r = list(self.mine), self.t.recipe
        for n, (seconds, passes) in enumerate(self.rounds()):
            if self.stop():
                return
            k = order[n % len(order)] if each else self.fullest
            bunched = self.t.bunches is not None and self.t.bunches.of(self.mine[k]).any()
            t = replace(self.t, recipe=replace(r, seed=r.seed + n + 1)) if bunched else self.t
            try:
                self._take(k, t.pack(k, self.mine[k], seconds, start=self.found[k], stop=self.stop, passes=passes))
            except (Cancelled, DoesNotFit):
                continue  # it stays as it was found

    def evened(self) -> tuple[PackResult, tuple[PackedTile, ...]]:
        """All tiles at the scale of the fullest one."""
        common = self.scale(self.fullest)
        told, alone = self.told(common), dict(self.found)
        for by in _LESS:
            try:
                self.found = {k: self._at(k, p, common * by) for k, p in alone.items()}
            except DoesNotFit:
                continue  # hardly ever: it lay larger before
            return self.result(), told
        raise DoesNotFit("The tiles could not be brought to one scale. Let it run longer, or fill each to its border.", [])

    def _at(self, k: int, p: Packing, common: float) -> Packing:
        """A tile at a scale that is not above its own."""
        if self.scale(k) <= common * (1 + 1e-9):
            return p
        # Whoever stops it wants what was found, so this does not stop: it takes little, since all of it fits at a larger scale.
        left = max(_LEAST, (self.t.recipe.seconds - self.spent) / len(self.found))
        return self.t.pack(k, self.mine[k], left, common / self.t.recipe.ratio[k], passes=self.t.recipe.passes).best

    def held(self) -> tuple[PackResult, tuple[PackedTile, ...]]:
        """All tiles at the density that is held.

        Raises
        ------
        DoesNotFit : with the islands of all tiles that have no room for theirs, tile by tile
        """
        r = self.t.recipe
        words, lost, most = list[str](), list[int](), list[float]()
        for k, m in self.mine.items():
            try:
                self._take(k, self.t.pack(k, m, max(_LEAST, r.seconds * self.share[k]), 1 / r.ratio[k], stop=self.stop, passes=r.passes))
            except DoesNotFit as e:
                free = int((~self.t.held[m]).sum())
                share = f", about {r.density * e.best_density:.4g} px/m would fit" if r.density and e.best_density else ""
                words.append(f"{self.name(k)}: {len(e.islands)} of {free} islands{share}")
                lost += e.islands
                most += [e.best_density] if e.best_density else []
        if words:
            raise DoesNotFit(
                f"Not everything fits at {r.density:g} px/m. {'; '.join(words)}. Lower the density, or send something to another tile.",
                lost, min(most) if len(most) == len(words) else None,
            )  # fmt: skip
        return self.result(), self.told(1.0)
