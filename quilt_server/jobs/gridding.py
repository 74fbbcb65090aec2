"""Straight edges on whole texels after a packing: the islands get UVs of their own for it, in files that take the place of those that they came in."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_core.arrange.texel_grid import Apart, Snap, laid, snaps_of
from quilt_core.model.scene import Floats
from quilt_core.model.similarity import inverse
from quilt_core.unwrap.skin import revised
from quilt_core.uv.analysis import transform_regions, transform_rows

from ..projects.geometry import island_starts
from ..projects.keys import FileKeys
from ..projects.models import Job, Snapshot, SourceFile
from ..projects.reading import Parts, kinds_of_islands, regions_of, sheet_numbers, twin_groups
from ..projects.sheets import grid
from .progress import steps
from .revision import Revision
from .succession import Succession

NAME = "grid"  # of the operation: a file that has it lies behind the one that it was made from


@dataclass
class Gridded(Succession):
    """A layout whose islands lie on the grid, with what takes the place of which file, and by how much sizes changed at most."""

    change: float = 0.0
    places: list[FileKeys] = field(default_factory=list)

    def renamed(self, figures: dict[str, Any]) -> dict[str, Any]:
        """Figures of a layout with the newer keys of the islands that they name."""
        spans, move = figures.get("spans"), figures.get("move")
        more = {} if move is None else {"move": move | {"name": self._key(move["name"])}}
        return figures | {"spans": spans and self._key(spans)} | more

    def _key(self, old: str) -> str:
        for p in self.places:
            old = next(iter(p.same(old)), old)
        return old


def on_texels(
    job: Job, head: Snapshot, settings: dict[str, Any], flat: dict[str, Any], parts: Parts, rows: Floats, free: NDArray[np.bool_], transforms: dict[str, Floats],
) -> Gridded:  # fmt: skip
    """Bring the islands `free` (n,) of a sheet onto the grid of their tiles.

    Parameters
    ----------
    flat : the sheet's settings; rows : (n, 5) the layout over all islands of `parts`; transforms : the same by file
    """
    out = Gridded.of(head, transforms, settings)
    numbers = {name: n for n, name in enumerate(parts.names())}
    work = [_Shapes(f, int(settings["channel_in"])) for f in _files(parts, free)]
    snaps = _snaps(work, numbers, settings, flat, parts, rows, free)
    out.change = max((s.change for s in snaps.values()), default=0.0)
    px = grid(flat).px_of(shapely.bounds(regions_of(parts, rows)))
    # A packing that was stopped keeps its best, and that lies on the grid too.
    for w in steps(job, work, lambda w: f"Laying {w.now.old.name} on whole texels", stops=False):
        if w.lay(snaps, numbers, rows, px):
            _follow(out, w)
    return out


def _files(parts: Parts, free: NDArray[np.bool_]) -> list[SourceFile]:
    """The files that have any of the islands."""
    of = np.array([file for file, _, _ in parts.places])[parts.place[free]]
    return list(SourceFile.objects.filter(pk__in=np.unique(of).tolist()).order_by("pk"))


class _Shapes:
    """A file with the shapes that its islands should have: those before they were laid on a grid, so that sizes do not wander with every packing."""

    def __init__(self, file: SourceFile, channel: int) -> None:
        self.now = Revision(file, channel)
        gridded = file.operation.get("name") == NAME and file.before is not None
        self.base = Revision(file.before, channel) if gridded and file.before is not None else self.now
        self.starts = island_starts(self.now.pieces)

    def regions(self) -> Iterator[tuple[str, Any]]:
        """Key of every island as it is numbered now, and its polygon in its own UVs."""
        for m, (was, now) in enumerate(zip(self.base.pieces, self.now.pieces, strict=True)):
            if was is None or now is None:
                continue
            island, first = np.unique(was.islands.of_triangle, return_index=True)
            for i, triangle in zip(island[island >= 0], first[island >= 0], strict=True):
                yield f"{self.now.old.pk}:{self.starts[m] + now.islands.of_triangle[triangle]}", was.outlines.regions[i]

    def lay(self, snaps: dict[int, Snap], numbers: dict[str, int], rows: Floats, px: Floats) -> bool:
        """Give the islands UVs that their layout puts on the grid; whether any has a map."""
        w = self.now
        for m, piece in enumerate(w.pieces):
            if piece is None:
                continue
            mine = [numbers.get(f"{w.old.pk}:{self.starts[m] + i}", -1) for i in range(piece.islands.count)]
            if not any(n in snaps for n in mine):
                continue
            skin, laying = w.laying(m)
            wanted = laying if self.base is w else self.base.laying(m)[1]
            uv = laying.uv.copy()
            for i, n in enumerate(mine):
                if (snap := snaps.get(n)) is not None:
                    faces = laying.island == i
                    uv[faces] = _mapped(wanted.uv[faces].reshape(-1, 2), rows[n], snap, float(px[n])).reshape(-1, 3, 2)
            w.made[m] = revised(skin, replace(laying, uv=uv), np.zeros(len(skin.kept), bool))
        return bool(w.made)


def _mapped(uv: Floats, row: Floats, snap: Snap, px: float) -> Floats:
    """UVs (n, 2) of an island that its row of the layout puts where the map says."""
    one = np.zeros(len(uv), np.int64)
    return transform_rows(laid(transform_rows(uv, one, row[None]), snap, px), one, inverse(row[None]))


def _snaps(
    work: list[_Shapes], numbers: dict[str, int], settings: dict[str, Any], flat: dict[str, Any], parts: Parts, rows: Floats, free: NDArray[np.bool_]
) -> dict[int, Snap]:  # fmt: skip
    """The maps of islands, by number."""
    packed = regions_of(parts, rows)
    shapes = packed.copy()
    for w in work:
        if w.base is not w.now:
            known = [(numbers[k], r) for k, r in w.regions() if k in numbers]
            which = np.array([n for n, _ in known], np.int64)
            shapes[which] = transform_regions(np.array([r for _, r in known], object), rows[which])
    twins, on = twin_groups(parts, settings), sheet_numbers(parts.chosen, parts, settings)
    here = np.flatnonzero(on == flat["sheet"]["id"])
    group = np.full(len(rows), -1, np.int64) if twins is None else twins
    tolerance, gap, margin, wide = (float(flat[k]) for k in ("grid_percent", "padding_px", "margin_px", "apart_px"))
    apart = Apart(kinds_of_islands(parts.chosen, parts, "material")[0][here], wide) if wide > 0 else None
    found = snaps_of(shapes[here], packed[here], grid(flat), group[here], free[here], tolerance / 100, gap, margin, apart)
    return {int(here[k]): s for k, s in found.items()}


def _follow(out: Gridded, w: _Shapes) -> None:
    """Put the newer file in the place of the older one: its rules, and the layout of its islands."""
    old = w.now
    old.write({"name": NAME})
    old.new.before = w.base.old
    old.readings()
    number = np.full(w.starts[-1], -1, np.int64)
    new_starts = island_starts(old.new_pieces)
    for m, (was, now) in enumerate(zip(old.pieces, old.new_pieces, strict=True)):
        if was is not None and now is not None:
            both = (was.islands.of_triangle >= 0) & (now.islands.of_triangle >= 0)
            number[was.islands.of_triangle[both] + w.starts[m]] = now.islands.of_triangle[both] + new_starts[m]
    place = FileKeys(old.old.pk, old.new.pk, number)
    rows = out.transforms[str(old.old.pk)]
    newer = rows.copy()
    newer[number[number >= 0]] = rows[number >= 0]
    out.places.append(place)
    out.take(place, newer)
