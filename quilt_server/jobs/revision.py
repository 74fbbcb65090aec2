"""A file whose UVs are changed by a job: what it was, what was made, and which island became which."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats, Scene
from quilt_core.unwrap.follow import followed, islands_after
from quilt_core.unwrap.scenes import Figures, figures, laying_in, skin_in
from quilt_core.unwrap.skin import Laying, Revised, Skin, bare_laying
from quilt_core.uv.analysis import MeshIslands

from ..projects.geometry import island_starts
from ..projects.models import Snapshot, SourceFile
from ..projects.revisions import keep_revisions, revisions_of
from ..projects.sources import kept_islands, kept_scene, make_reading
from ..projects.state import settings_of


@dataclass
class Revision:
    """A file whose UVs are changed. `made` : new UVs by mesh; `anew` : for each mesh the islands (k,) that lie nowhere yet: they are new, wherever
    their faces lay; `given` : meshes that have them from another one; `onto` : for each mesh that lies on another one the file and the mesh of that, and which
    of its islands each island lies on; `also` : new UVs by mesh in other channels, which the layout knows nothing of; `without` : channels whose UVs that were made here are taken off."""

    old: SourceFile
    channel: int
    made: dict[int, Revised] = field(default_factory=dict)
    anew: dict[int, NDArray[np.int64]] = field(default_factory=dict)
    also: dict[int, dict[int, Revised]] = field(default_factory=dict)
    without: set[int] = field(default_factory=set)
    given: set[int] = field(default_factory=set)
    onto: dict[int, tuple[Revision, int, NDArray[np.int64]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.scene: Scene = kept_scene(self.old)
        self.pieces: list[MeshIslands | None] = kept_islands(self.old, self.channel).pieces(self.scene)
        self.roots = {m: r.root for m, r in revisions_of(self.old).get(self.channel, {}).items()}

    def figures(self, mesh: int) -> Figures:
        """Figures of a mesh's UVs as they were."""
        return figures(self.scene, mesh, self.channel, self.pieces[mesh])

    def write(self, operation: dict[str, Any]) -> None:
        """Keep the new UVs, and the file that has them; its row is not saved yet."""
        old = self.old
        self.new = SourceFile(
            project_id=old.project_id, name=old.name, original_id=old.original_id, unit_m=old.unit_m, companions=old.companions,
            warnings=old.warnings, materials=old.materials, before=old, revision=keep_revisions(old, {**self.also, self.channel: self.made}, self.without), operation=operation,
        )  # fmt: skip
        self.new_scene = kept_scene(self.new)
        self.new_pieces = [
            islands_after(self.new_scene, m, self.channel, self.made[m]) if m in self.made else p for m, p in enumerate(self.pieces)
        ]

    def readings(self) -> None:
        """Save the file and what was read from it."""
        self.new.save()
        make_reading(self.new, self.new_scene, self.channel, self.new_pieces).save()

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
            f = followed(was, now, self.made[m].frame)
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

    def rows(self, mesh: int, layout: Floats) -> Floats:
        """The rows (k, 5) of a mesh's islands in the layout of the file."""
        first, end = island_starts(self.pieces)[mesh : mesh + 2]
        return layout[first:end]

    def laying_or_bare(self, mesh: int) -> tuple[Skin, Laying]:
        """The same, with nothing laid out where the mesh has no UVs."""
        if self.pieces[mesh] is not None:
            return self.laying(mesh)
        skin = skin_in(self.scene, mesh)
        return skin, bare_laying(skin)

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


def opened(head: Snapshot, wanted: Callable[[SourceFile], bool] = lambda _: True) -> Iterator[Revision]:
    """The files of a state that are wanted, one after the other, in the channel that it works on."""
    settings = settings_of(head)
    for file in SourceFile.objects.filter(pk__in=head.files).order_by("pk"):
        if wanted(file):
            yield Revision(file, int(settings["channel_in"]))
