"""From new UVs of some meshes to the project's next step: files with revisions, rules that follow, a layout in which what was good stays where it is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrays import pack_arrays
from quilt_core.model.scene import Floats
from quilt_core.unwrap.meshes import shelves
from quilt_core.uv.analysis import IDENTITY
from quilt_core.words import counted

from ..projects.geometry import island_starts
from ..projects.keys import FileKeys
from ..projects.measuring import measure
from ..projects.models import Job, Layout, Project, Snapshot
from ..projects.opened import arrays_of
from ..projects.reading import Parts, choose, parts_of
from ..projects.sheets import of_sheet, sheets
from ..projects.state import settings_of
from .apart import beside_tiles, laid_apart, lies_on_others
from .copying import follow_links
from .landing import land
from .progress import StopFlag, say
from .revision import Revision
from .succession import Succession


@dataclass(frozen=True)
class Next:
    """The step that new UVs make: its layout, measured, the new snapshot's other fields, and what was done to which object."""

    layout: Layout
    changes: dict[str, Any]
    told: list[dict[str, Any]]


def finish(
    job: Job, project: Project, head: Snapshot, before: Layout, work: list[Revision], settings: dict[str, Any], label: str, operation: dict[str, Any],
    apart: bool = False,
) -> list[dict[str, Any]]:  # fmt: skip
    """Make the new UVs of files the project's next step; tells what was done to which object. `apart`: see `prepared`.

    Raises
    ------
    Cancelled : it was stopped; QuiltError : the project moved on meanwhile
    """
    asked = {o.name for w in work for o in w.scene.objects if o.mesh in w.made}
    made = prepared(job, project, head, before, work, settings, operation, apart)
    more = len({row["key"] for row in made.told if row["name"] not in asked})
    land(project, head, made.layout, f"{label}, and {counted(more, 'linked copy', 'linked copies')}" if more else label, **made.changes)
    return made.told


def prepared(
    job: Job,
    project: Project,
    head: Snapshot,
    before: Layout,
    work: list[Revision],
    settings: dict[str, Any],
    operation: dict[str, Any],
    apart: bool = False,
) -> Next:
    """New UVs of files, kept, laid out and measured; no step yet. `apart`: what came to lie on something goes to a free place.

    Raises
    ------
    Cancelled : it was stopped
    """
    work = follow_links(job, head, settings, work)
    after = Succession.of(head, arrays_of(before, "transforms"), settings)
    first = sheets(settings)[0]
    density = float(before.figures.get("density") or 0.0) / float(of_sheet(settings, first["id"])["map_px"])
    for w in work:
        w.write(operation)
    followed = [w.follow() for w in work]
    laid = _laid(work, [f[2] for f in followed], [after.transforms[str(w.old.pk)] for w in work], density, beside_tiles(first))
    for w, (same, parts, _), rows in zip(work, followed, laid, strict=True):
        w.readings()
        after.take(FileKeys(w.old.pk, w.new.pk, same, parts=parts), rows)
    after.settings = _laid_onto(work, after.transforms, after.settings)
    if apart:
        _part(job, head, before, after, {w.old.pk: (w.new.pk, f[0]) for w, f in zip(work, followed, strict=True)})
    say(job, "Measuring again")
    parts_now = parts_of(choose(after.snapshot, whole=True))
    layout = Layout(project=project, kind="import", channel=before.channel, transforms=pack_arrays(after.transforms), recipe={})
    parts_before = parts_of(choose(head, whole=True))
    same = _same(parts_before, parts_now, work, {w.old.pk: f[0] for w, f in zip(work, followed, strict=True)})
    measure(layout, parts_now, parts_now.whole(after.transforms), after.settings, before, StopFlag(job), same, parts_before)
    return Next(layout, after.changes, [row for w in work for row in w.told()])


def _part(job: Job, head: Snapshot, before: Layout, after: Succession, newer: Mapping[int, tuple[int, NDArray[np.int64]]]) -> None:
    """Lay the islands that were made apart from what they came to lie on. `newer`: of each older file the newer one, and the newer number of each island, -1 for
    those that were changed."""
    say(job, "Looking for free places")
    was, chosen = choose(head, whole=True), choose(after.snapshot, whole=True)
    parts, now = parts_of(was), parts_of(chosen)
    files = {new for new, _ in newer.values()}
    same = {f"{new}:{n}" for new, numbers in newer.values() for n in numbers[numbers >= 0].tolist()}
    made = np.array([name not in same and int(name.partition(":")[0]) in files for name in now.names()], bool)
    changed = {f"{old}:{n}" for old, (_, numbers) in newer.items() for n in np.flatnonzero(numbers < 0).tolist()}
    old = np.array([name in changed for name in parts.names()], bool)
    among = lies_on_others(was, parts, parts.whole(arrays_of(before, "transforms")), settings_of(head), old)
    rows = laid_apart(chosen, now, now.whole(after.transforms), after.settings, made, among)
    after.transforms.update(now.merged(after.transforms, now.pieced(rows)))


def _laid_onto(work: list[Revision], transforms: dict[str, Floats], settings: dict[str, Any]) -> dict[str, Any]:
    """Lay islands on those that they are copies of; the settings with them as twins."""
    pairs: list[tuple[str, str]] = []
    for w in work:
        start = island_starts(w.new_pieces)
        for m, (source, mesh, of) in w.onto.items():
            # A file that nothing was done to has its number still.
            theirs, at = (source.new, source.new_pieces) if source.made else (source.old, source.pieces)
            on = island_starts(at)[mesh] + of
            mine = start[m] + np.arange(len(of))
            transforms[str(w.new.pk)][mine] = transforms[str(theirs.pk)][on]
            pairs += [(f"{theirs.pk}:{a}", f"{w.new.pk}:{b}") for a, b in zip(on.tolist(), mine.tolist(), strict=True)]
    if not pairs:
        return settings
    groups = [set(g) for g in settings["twins"]]
    for a, b in pairs:
        groups = [g - {b} for g in groups]
        mine_in = next((g for g in groups if a in g), None)
        if mine_in is None:
            groups.append({a, b})
        else:
            mine_in.add(b)
    return settings | {"twins": [sorted(g) for g in groups if len(g) > 1]}


def _same(before: Parts, now: Parts, work: list[Revision], followed: Mapping[int, NDArray[np.int64]]) -> NDArray[np.int64]:
    """The newer number (m,) of every older island over all files, of meshes whose UVs were not touched; -1 for all others."""
    newer = {w.old.pk: w.new.pk for w in work}
    touched = {
        w.old.pk: np.concatenate([np.full(0 if p is None else len(p.islands.box), m in w.made) for m, p in enumerate(w.pieces)])
        for w in work
    }
    at = np.cumsum([0, *(count for _, _, count in now.places)])
    start = {(file, first): int(at[k]) for k, (file, first, _) in enumerate(now.places)}
    out = []
    for file, first, count in before.places:
        if file not in newer:
            out.append(start[file, first] + np.arange(count))
            continue
        own, changed = followed[file][first : first + count], touched[file][first : first + count]
        kept = (own >= 0) & ~changed
        # A mesh keeps all of its islands or none.
        out.append(start[newer[file], int(own[0])] + np.arange(count) if kept.all() else np.full(count, -1))
    return np.concatenate(out) if out else np.zeros(0, np.int64)


def _laid(
    work: list[Revision], heirs: list[NDArray[np.int64]], old: list[Floats], density: float, beside: tuple[float, float]
) -> list[Floats]:
    """The layouts (n, 5) of files: what islands were made of stays where that was; what is made anew lies on shelves, at the density that the sheet has,
    beside its tiles until it is packed. In a sheet where nothing else lies it comes into the first tile."""
    out, new, boxes, sizes = [], [], [], []
    for w, heir, before in zip(work, heirs, old, strict=True):
        starts = island_starts(w.new_pieces)
        rows = np.tile(IDENTITY, (starts[-1], 1))
        for m, numbers in w.anew.items():
            heir[starts[m] + numbers] = -1
        rows[heir >= 0] = before[heir[heir >= 0]]
        found = [p.islands.box for p in w.new_pieces if p is not None]
        out.append(rows)
        new.append(np.flatnonzero(heir < 0))
        boxes.append(np.concatenate(found)[new[-1]] if found else np.zeros((0, 4)))
        sizes.append(_natural(w, starts)[new[-1]])
    size = np.concatenate(sizes)
    box = np.concatenate(boxes) * size[:, None]
    corner = shelves(box[:, 2:] - box[:, :2])
    high = (corner + box[:, 2:] - box[:, :2]).max(axis=0, initial=1e-30)
    alone = not density
    scale = 0.96 / float(high.max()) if alone else density
    start = np.array([0.02, 0.02]) if alone else np.array(beside)
    at = 0
    for rows, mine in zip(out, new, strict=True):
        part = slice(at, at + len(mine))
        rows[mine, 2] = scale * size[part]
        rows[mine, 3:] = start + scale * (corner[part] - box[part, :2])
        at += len(mine)
    return out


def _natural(w: Revision, starts: list[int]) -> Floats:
    """What brings each new island (n,) to a unit of UV for a metre: 1 where UVs were made from the surface, more or less where they are those of another mesh."""
    out = np.ones(starts[-1])
    for m in w.given:
        piece = w.new_pieces[m]
        if piece is not None and (area := float(piece.islands.area.sum())) > 0:
            out[starts[m] : starts[m + 1]] = np.sqrt(float(piece.world_area.sum()) / area)
    return out
