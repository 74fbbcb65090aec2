"""Tries of a channel that is left for another one and comes back: the layout was kept as UVs, so a try that was kept is one of those UVs from then on."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrays import pack_arrays
from quilt_core.model.scene import Floats
from quilt_core.model.similarity import composed, inverse
from quilt_core.uv.analysis import IDENTITY, transform_rows

from ..projects.geometry import island_starts
from ..projects.keys import FileKeys
from ..projects.models import Layout, Project, Snapshot, SourceFile
from ..projects.opened import arrays_of
from ..projects.sources import kept_islands, kept_scene
from ..projects.stale import inputs_of

_SAME = 1e-7  # UV units: what writing a layout as UVs rounds


class _Followed:
    """A file that the channel is worked on in again. `was`: the one that it was left in; `number`: (n,) the island now of each one then; `by`: (n, 5) what
    brings the UVs of each island then to those now; `rows`: (n, 5) its layout now, which shows what was left."""

    def __init__(self, old: SourceFile, new: SourceFile, laid: Floats, number: NDArray[np.int64], by: Floats) -> None:
        self.was, self.number, self.by = str(old.pk), number, by
        self.keys = FileKeys(old.pk, new.pk, number)
        self.rows = self.moved(laid)

    def moved(self, rows: Floats) -> Floats:
        """The layout (n, 5) of the islands now that shows what another one showed then."""
        out = np.empty_like(rows)
        out[self.number] = composed(rows, inverse(self.by))
        # What became its UVs lies where they are, to the bit.
        out[self.number[(self.by == rows).all(axis=1)]] = IDENTITY
        return out


class Back:
    """A channel that comes back. `rows`: by file, the layout where it is as it was left."""

    def __init__(self, project: Project, shelf: dict[str, Any], files: list[int]) -> None:
        self.shelf, self.project = shelf, project
        left = Layout.objects.filter(pk=shelf.get("layout") or 0, project=project).first()
        found = {} if left is None else {f: m for f in files if (m := _followed(f, left)) is not None}
        self.followed = found
        self.whole = len(found) == len(files)
        self.rows: dict[int, Floats] = {f: m.rows for f, m in found.items()}

    def tries(self, after: Snapshot) -> dict[str, int]:
        """Make the tries that the channel's sheets kept tries of its UVs as they are now; by sheet, as snapshots keep them. `after`: the state in which it is
        back, not saved."""
        kept: dict[str, int] = {}
        if not self.whole:
            return kept
        now = inputs_of(after)
        for sheet, number in self.shelf.get("kept", {}).items():
            old = Layout.objects.filter(pk=number, project=self.project, kind="pack").first()
            if old is None or not sheet.isdecimal() or int(sheet) not in now or (new := _again(old, self.followed)) is None:
                continue
            same = self.shelf.get("fresh", {}).get(sheet, [])
            new.inputs = {k: now[int(sheet)].get(k) if k in same else v for k, v in old.inputs.items()}
            new.save()
            Layout.objects.filter(pk=old.pk).update(discarded=True)  # the new one stands for it; undo still shows it where it is kept
            kept[sheet] = new.pk
        return kept


def _followed(file: int, left: Layout) -> _Followed | None:
    """None where the islands are others by now, or lie elsewhere than they were left."""
    new = SourceFile.objects.get(pk=file)
    then, old = arrays_of(left, "transforms"), new
    while str(old.pk) not in then:
        if old.before is None:
            return None
        old = old.before
    laid = then[str(old.pk)]
    was, now = (kept_islands(f, left.channel).pieces(kept_scene(f)) for f in (old, new))
    starts = island_starts(was)
    if starts != island_starts(now) or len(laid) != starts[-1]:
        return None
    number, by = np.arange(starts[-1]), np.tile(IDENTITY, (starts[-1], 1))
    for m, (a, b) in enumerate(zip(was, now, strict=True)):
        if a is None or b is None:
            continue
        i, k = a.islands.of_triangle, b.islands.of_triangle
        if not np.array_equal(i >= 0, k >= 0):
            return None
        has, mine = i >= 0, slice(starts[m], starts[m + 1])
        number[starts[m] + i[has]] = k[has] + starts[m]
        before, after = (c.uvs[c.triangles[has]].reshape(-1, 2) for c in (x.mesh.channels[left.channel] for x in (a, b)))
        if np.array_equal(before, after):
            continue
        by[mine] = laid[mine]
        if np.abs(transform_rows(before, np.repeat(i[has], 3), laid[mine]) - after).max(initial=0.0) > _SAME:
            return None
    return _Followed(old, new, laid, number, by)


def _again(old: Layout, followed: dict[int, _Followed]) -> Layout | None:
    """A try with its islands by their numbers now, laid where it laid them; None where it is of other files."""
    then, masks = arrays_of(old, "transforms"), arrays_of(old, "members")
    transforms, members, recipe = dict[str, Floats](), dict[str, NDArray[Any]](), old.recipe
    for file, f in followed.items():
        rows = then.get(f.was)
        if rows is None or len(rows) != len(f.number):
            return None
        transforms[str(file)] = f.moved(rows)
        if f.was in masks:
            members[str(file)] = np.zeros(len(rows), masks[f.was].dtype)
            members[str(file)][f.number] = masks[f.was]
        recipe = f.keys.settings(recipe)
    return Layout(
        project_id=old.project_id, kind="pack", name=old.name, figures=old.figures, recipe=recipe, channel=old.channel, sheet=old.sheet,
        picture=old.picture, transforms=pack_arrays(transforms), members=pack_arrays(members) if members else b"",
    )  # fmt: skip
