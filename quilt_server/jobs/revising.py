"""From new UVs of some meshes to the project's next step: files with revisions, rules that follow, a layout in which what was good stays where it is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats, Scene
from quilt_core.unwrap.follow import followed, islands_after
from quilt_core.unwrap.meshes import shelves
from quilt_core.unwrap.scenes import Figures, figures, laying_in, skin_in
from quilt_core.unwrap.skin import Laying, Revised, Skin
from quilt_core.uv.analysis import IDENTITY, MeshIslands

from ..projects.geometry import island_starts
from ..projects.keys import FileKeys
from ..projects.measuring import measure
from ..projects.models import Job, Layout, Project, Snapshot, SourceFile
from ..projects.opened import arrays_of
from ..projects.reading import Parts, choose, parts_of
from ..projects.revisions import keep_revisions, revisions_of
from ..projects.sheets import of_sheet, sheets
from ..projects.sources import kept_islands, kept_scene, make_reading
from .landing import land
from .progress import StopFlag, report_progress


@dataclass
class Revision:
    """A file whose UVs are changed. `made` : new UVs by mesh; `anew` : for each mesh the islands (k,) that lie nowhere yet: they are new, wherever
    their faces lay."""

    old: SourceFile
    channel: int
    welded: bool
    made: dict[int, Revised] = field(default_factory=dict)
    anew: dict[int, NDArray[np.int64]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.scene: Scene = kept_scene(self.old)
        self.pieces: list[MeshIslands | None] = kept_islands(self.old, self.channel, self.welded).pieces(self.scene)
        self.roots = {m: r.root for m, r in revisions_of(self.old).get(self.channel, {}).items()}

    def figures(self, mesh: int) -> Figures:
        """Figures of a mesh's UVs as they were."""
        return figures(self.scene, mesh, self.channel, self.pieces[mesh])

    def write(self, operation: dict[str, Any]) -> None:
        """Keep the new UVs, and the file that has them; its row is not saved yet."""
        old = self.old
        self.new = SourceFile(
            project_id=old.project_id, name=old.name, original_id=old.original_id, unit_m=old.unit_m, companions=old.companions,
            warnings=old.warnings, materials=old.materials, before=old, revision=keep_revisions(old, self.channel, self.made), operation=operation,
        )  # fmt: skip
        self.new_scene = kept_scene(self.new)
        self.new_pieces = [
            islands_after(self.new_scene, m, self.channel, self.made[m]) if m in self.made else p for m, p in enumerate(self.pieces)
        ]

    def readings(self) -> None:
        """Save the file and what was read from it."""
        self.new.save()
        make_reading(self.new, self.new_scene, self.channel, self.welded, self.new_pieces).save()
        if self.welded:
            make_reading(self.new, self.new_scene, self.channel, False).save()

    def now(self, mesh: int) -> Figures:
        """Figures of a mesh's new UVs."""
        return figures(self.new_scene, mesh, self.channel, self.new_pieces[mesh])

    def follow(self) -> tuple[NDArray[np.int64], dict[int, list[int]], NDArray[np.int64]]:
        """The newer number (n,) of every older island that is as it was, -1 for others; the newer ones that hold its faces, for those; and for every
        newer island (k,) the older one that most of it was, -1 for none."""
        old_starts, new_starts = island_starts(self.pieces), island_starts(self.new_pieces)
        same, heir = np.full(old_starts[-1], -1, np.int64), np.full(new_starts[-1], -1, np.int64)
        parts: dict[int, list[int]] = {}
        for m, (was, now) in enumerate(zip(self.pieces, self.new_pieces, strict=True)):
            old, new = slice(old_starts[m], old_starts[m + 1]), slice(new_starts[m], new_starts[m + 1])
            if m not in self.made:
                same[old] = np.arange(new.start, new.stop)
                heir[new] = np.arange(old.start, old.stop)
                continue
            f = followed(was, now)
            same[old] = np.where(f.same >= 0, f.same + new.start, -1)
            heir[new] = np.where(f.heir >= 0, f.heir + old.start, -1)
            parts |= {old.start + k: [new.start + n for n in v] for k, v in f.parts.items()}
        return same, parts, heir

    def layings(self, islands: NDArray[np.int64]) -> Iterator[tuple[int, Skin, Laying, NDArray[np.int64]]]:
        """For each mesh that has any of the file's islands (k,): its number, its surface, how it lies, and the islands' numbers in it."""
        starts = island_starts(self.pieces)
        for m, piece in enumerate(self.pieces):
            mine = islands[(islands >= starts[m]) & (islands < starts[m + 1])] - starts[m]
            if piece is not None and len(mine):
                yield m, *self.laying(m), mine

    def first_island(self, mesh: int) -> int:
        """Number in the file of a mesh's first island."""
        return int(island_starts(self.pieces)[mesh])

    def laying_or_bare(self, mesh: int) -> tuple[Skin, Laying]:
        """The same, with nothing laid out where the mesh has no UVs."""
        if self.pieces[mesh] is not None:
            return self.laying(mesh)
        skin = skin_in(self.scene, mesh)
        n = len(skin.kept)
        return skin, Laying(np.full((n, 3, 2), np.nan), np.zeros(3 * n, bool), np.full(n, -1))

    def laying(self, mesh: int) -> tuple[Skin, Laying]:
        """The surface of a mesh, and how it lies."""
        piece = self.pieces[mesh]
        if piece is None:
            raise QuiltError(f"{self.scene.meshes[mesh].name} has no UVs here. Unwrap it first.")
        return laying_in(self.scene, mesh, self.channel, piece, self.roots.get(mesh))

    def told(self) -> list[dict[str, Any]]:
        """What was done to which object, before and after."""
        return [
            {"key": f"{self.new.pk}/{n}", "name": o.name, "was": self.figures(o.mesh).as_dict(), "now": self.now(o.mesh).as_dict(), "why": ""}
            for n, o in enumerate(self.scene.objects)
            if o.mesh in self.made
        ]  # fmt: skip

    def refused(self, why: Mapping[int, str]) -> list[dict[str, Any]]:
        """What could not be done to which object."""
        return [
            {"key": f"{self.old.pk}/{n}", "name": o.name, "was": self.figures(o.mesh).as_dict(), "now": None, "why": why[o.mesh]}
            for n, o in enumerate(self.scene.objects)
            if o.mesh in why
        ]


@dataclass(frozen=True)
class Next:
    """The step that new UVs make: its layout, measured, what else changes with it, and what was done to which object."""

    layout: Layout
    settings: dict[str, Any]
    files: list[int]
    left_out: list[str]
    told: list[dict[str, Any]]

    @property
    def changes(self) -> dict[str, Any]:
        """Fields of the new snapshot."""
        return {"settings": self.settings, "files": self.files, "left_out": self.left_out}


def finish(
    job: Job, project: Project, head: Snapshot, before: Layout, work: list[Revision], settings: dict[str, Any], label: str, operation: dict[str, Any],
) -> list[dict[str, Any]]:  # fmt: skip
    """Make the new UVs of files the project's next step; tells what was done to which object.

    Raises
    ------
    Cancelled : it was stopped; QuiltError : the project moved on meanwhile
    """
    made = prepared(job, project, head, before, work, settings, operation)
    land(project, head, made.layout, label, **made.changes)
    return made.told


def prepared(
    job: Job, project: Project, head: Snapshot, before: Layout, work: list[Revision], settings: dict[str, Any], operation: dict[str, Any]
) -> Next:
    """New UVs of files, kept, laid out and measured; no step yet.

    Raises
    ------
    Cancelled : it was stopped
    """
    transforms: dict[str, Floats] = dict(arrays_of(before, "transforms"))
    files, left_out = list(head.files), list(head.left_out)
    first = sheets(settings)[0]
    density = float(before.figures.get("density") or 0.0) / float(of_sheet(settings, first["id"])["map_px"])
    for w in work:
        w.write(operation)
    followed = [w.follow() for w in work]
    laid = _laid(work, [f[2] for f in followed], [transforms.pop(str(w.old.pk)) for w in work], density, int(first["columns"]))
    for w, (same, parts, _), rows in zip(work, followed, laid, strict=True):
        w.readings()
        transforms[str(w.new.pk)] = rows
        places = FileKeys(w.old.pk, w.new.pk, same, {n: n for n in range(len(w.scene.objects))}, parts)
        settings = places.settings(settings)
        files = [w.new.pk if f == w.old.pk else f for f in files]
        left_out = [n for k in left_out for n in places.same(k)]
    report_progress(job, {"text": "Measuring again"})
    snapshot = Snapshot(files=files, left_out=left_out, settings=settings)
    parts_now = parts_of(choose(snapshot, whole=True))
    layout = Layout(project=project, kind="import", channel=before.channel, transforms=pack_arrays(transforms), recipe={})
    parts_before = parts_of(choose(head, whole=True))
    same = _same(parts_before, parts_now, work, {w.old.pk: f[0] for w, f in zip(work, followed, strict=True)})
    measure(layout, parts_now, parts_now.whole(transforms), settings, before, StopFlag(job), same, parts_before)
    return Next(layout, settings, files, left_out, [row for w in work for row in w.told()])


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


def _laid(work: list[Revision], heirs: list[NDArray[np.int64]], old: list[Floats], density: float, columns: int) -> list[Floats]:
    """The layouts (n, 5) of files: what islands were made of stays where that was; what is made anew lies on shelves, at the density that the sheet has,
    beside its tiles until it is packed. In a sheet where nothing else lies it comes into the first tile."""
    out, new, boxes = [], [], []
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
    box = np.concatenate(boxes)
    corner = shelves(box[:, 2:] - box[:, :2])
    high = (corner + box[:, 2:] - box[:, :2]).max(axis=0, initial=1e-30)
    alone = not density
    scale = 0.96 / float(high.max()) if alone else density
    start = np.array([0.02, 0.02]) if alone else np.array([columns + 0.05, 0.02])
    at = 0
    for rows, mine in zip(out, new, strict=True):
        part = slice(at, at + len(mine))
        rows[mine, 2] = scale
        rows[mine, 3:] = start + scale * (corner[part] - box[part, :2])
        at += len(mine)
    return out
