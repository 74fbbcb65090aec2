"""A source file replaced by its newer version: compared first, then taken over; what is the same keeps its layout."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.uv.analysis import IDENTITY, analyse
from quilt_core.versions.replace import Replacement, compare

from ...projects.geometry import island_starts
from ...projects.keys import FileKeys
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Snapshot, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sources import kept_scene, make_reading, read_source
from ...projects.state import settings_of
from ..kind import Asked, Kind, Number
from ..landing import head_of, land
from ..progress import StopFlag, say
from ..succession import Succession
from ..uploads import bundles_of, read_one


class Replace(Asked):
    """The job that compared the versions."""

    words: ClassVar = {"compared": "Compare the newer version first."}
    compared: Number


class _Versions:
    """The older and the newer version of a file, read and compared."""

    def __init__(self, job: Job, head: Snapshot) -> None:
        settings = settings_of(head)
        self.channel = int(settings["channel_in"])
        self.old_file = SourceFile.objects.filter(pk=job.params["file"], pk__in=head.files).first()
        if self.old_file is None:
            raise QuiltError("The file that should be replaced is not there any more.")
        self.welded = self.old_file.pk in settings["welded"]
        bundles, refused = bundles_of(job.params["files"])
        if refused:
            raise QuiltError(refused[0].why)
        meshes = [p for b in bundles for p in b.names]
        if len(meshes) != 1:
            raise QuiltError(f"Choose one mesh file to take the place of {self.old_file.name}, with its pictures if it has any.")
        if formats.ending(meshes[0]) != formats.ending(self.old_file.name):
            raise QuiltError(f"{meshes[0]} has another format than {self.old_file.name}. Replace it by a file of the same format.")
        self.new_file, _ = read_one(job, meshes[0], bundles[0], self.channel, self.old_file.unit_m)
        self.new_file.name = self.old_file.name
        self.old_scene = kept_scene(self.old_file)
        self.new_scene = read_source(self.new_file)[0]
        self.old_pieces, self.new_pieces = (analyse(s, self.channel, self.welded) for s in (self.old_scene, self.new_scene))
        self.found = compare(self.old_scene, self.old_pieces, self.new_scene, self.new_pieces)

    def numbers(self) -> NDArray[np.int64]:
        """The newer number of every older island of the file, -1 for those that changed or are gone."""
        old_starts, new_starts = island_starts(self.old_pieces), island_starts(self.new_pieces)
        out = np.full(old_starts[-1], -1, np.int64)
        for (old, new), match in self.found.islands.items():
            known = match >= 0
            out[old_starts[old] : old_starts[old] + len(match)][known] = match[known] + new_starts[new]
        return out


def _told(found: Replacement) -> dict[str, Any]:
    return {
        "same": found.same, "new": found.new, "gone": found.gone,
        "changed": [{"name": c.name, "same": c.same, "changed": c.changed, "new": c.new, "gone": c.gone} for c in found.changed],
    }  # fmt: skip


def run_compare(job: Job) -> None:
    """Tell what a newer version of a file would change; nothing is changed yet."""
    project = Project.objects.get(pk=job.project_id)
    if project.head is None:
        raise QuiltError("There is nothing to replace yet.")
    say(job, "Comparing the two versions")
    versions = _Versions(job, project.head)
    job.result = {"file": job.params["file"], "name": versions.new_file.name, **_told(versions.found)}


def run_replace(job: Job) -> None:
    """Take a newer version over: one undo step."""
    project, head, before = head_of(job)
    compared = Job.objects.filter(pk=job.params["compared"], project=project, kind="compare", state="done").first()
    if compared is None:
        raise QuiltError("Compare the newer version first.")
    say(job, "Reading the newer version")
    job.params = {**job.params, **compared.params}
    versions = _Versions(job, head)
    old_file, new_file = versions.old_file, versions.new_file
    assert old_file is not None
    numbers = versions.numbers()
    old = arrays_of(before, "transforms")
    new_file.save()
    for welded in {False, versions.welded}:
        make_reading(new_file, versions.new_scene, versions.channel, welded).save()
    count = island_starts(versions.new_pieces)[-1]
    rows = np.tile(IDENTITY, (count, 1))
    rows[numbers[numbers >= 0]] = old[str(old_file.pk)][numbers >= 0]
    after = Succession.of(head, old)
    after.take(FileKeys(old_file.pk, new_file.pk, numbers, {m: n for n, m in versions.found.objects.items()}, elsewhere=False), rows)
    say(job, "Measuring again")
    parts = parts_of(choose(after.snapshot, whole=True))
    layout = Layout(project=project, kind="import", channel=before.channel, transforms=pack_arrays(after.transforms), recipe={})
    measure(layout, parts, parts.whole(after.transforms), after.settings, stop=StopFlag(job))
    job.result = {"file": new_file.pk, **_told(versions.found)}
    land(project, head, layout, f"Replace {new_file.name}", **after.changes)


KINDS = (Kind("compare", run_compare, None), Kind("replace", run_replace, Replace))
