"""A source file replaced by its newer version: compared first, then taken over; what is the same keeps its layout."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.unwrap.skin import Revised
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse
from quilt_core.versions.carry import Carried, carried
from quilt_core.versions.replace import Replacement, compare

from ...projects.geometry import island_starts
from ...projects.keys import FileKeys
from ...projects.made import put_away
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Snapshot, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.revisions import keep_revisions, revisions_of
from ...projects.sources import as_it_first_came, islands_in, kept_scene, make_reading, read_source
from ...projects.state import settings_of
from ..gridding import NAME as GRID
from ..kind import Asked, Kind, Number
from ..landing import head_of, land
from ..progress import StopFlag, say
from ..succession import Succession
from ..uploads import Bundle, bundles_of, read_one


class Replace(Asked):
    """The job that compared the versions."""

    words: ClassVar = {"compared": "Compare the newer version first."}
    compared: Number


def _uploaded(job: Job, head: Snapshot) -> Versions:
    """The file that is asked for, and the newer version of it that came."""
    old = SourceFile.objects.filter(pk=job.params["file"], pk__in=head.files).first()
    if old is None:
        raise QuiltError("The file that should be replaced is not there any more.")
    bundles, refused = bundles_of(job.params["files"])
    if refused:
        raise QuiltError(refused[0].why)
    meshes = [p for b in bundles for p in b.names]
    if len(meshes) != 1:
        raise QuiltError(f"Choose one mesh file to take the place of {old.name}, with its pictures if it has any.")
    if formats.ending(meshes[0]) != formats.ending(old.name):
        raise QuiltError(f"{meshes[0]} has another format than {old.name}. Replace it by a file of the same format.")
    return Versions(job, head, old, meshes[0], bundles[0], old.name)


class Versions:
    """The older and the newer version of a file, read and compared."""

    def __init__(self, job: Job, head: Snapshot, old: SourceFile, path: str, bundle: Bundle, name: str) -> None:
        self.channel = int(settings_of(head)["channel_in"])
        self.old_file = old
        self.new_file, _ = read_one(job, path, bundle, self.channel, old.unit_m)
        self.new_file.name = name
        self.new_scene = read_source(self.new_file)[0]
        # What came is compared with what came, not with what was made of it here: that is carried over.
        first = as_it_first_came(self.old_file)
        self.first_scene = kept_scene(first)
        self.old_pieces, self.new_pieces = (analyse(s, self.channel) for s in (self.first_scene, self.new_scene))
        self.found = compare(self.first_scene, self.old_pieces, self.new_scene, self.new_pieces)
        meshes_of = (self.first_scene.objects, self.new_scene.objects)
        self.meshes = {meshes_of[1][n].mesh: meshes_of[0][m].mesh for n, m in reversed(self.found.objects.items())}

    def chain(self) -> list[SourceFile]:
        """The older file with what has to stand behind the newer one too, the first the first: shapes before they were laid on whole texels."""
        gridded = self.old_file.operation.get("name") == GRID and self.old_file.before is not None and self.old_file.before.revision
        return [*([self.old_file.before] if gridded and self.old_file.before else []), *([self.old_file] if self.old_file.revision else [])]

    def carry(self) -> NDArray[np.int64]:
        """Save the newer file, and on it all that was made of the older one; the newest of these rows is `newest`. Returns the newer number of every older
        island, -1 for those that changed or are gone."""
        old_starts = island_starts(analyse_kept(self.old_file, self.channel))
        self.new_file.save()
        at, last = self.new_file, dict[int, Carried]()
        for old in self.chain():
            made: dict[int, dict[int, Revised]] = {}
            for channel, meshes in revisions_of(old).items():
                last = last if channel != self.channel else {}
                for new, m in self.meshes.items():
                    if m not in meshes:
                        continue
                    found = carried(self.first_scene.meshes[m], meshes[m], self.new_scene.meshes[new], channel)
                    made.setdefault(channel, {})[new] = found.revised
                    if channel == self.channel:
                        last[new] = found
            at = self._made_of(at, old, made)
        self.newest = at
        self.scene = kept_scene(at)
        self.pieces = islands_in(at, self.scene, self.channel)
        make_reading(at, self.scene, self.channel).save()
        return self._numbers(old_starts, last)

    def _made_of(self, before: SourceFile, old: SourceFile, made: dict[int, dict[int, Revised]]) -> SourceFile:
        """A row of the newer file with what was made of an older one."""
        row = SourceFile.objects.get(pk=before.pk)
        row.pk, row.before, row.operation = None, before, old.operation
        row._state.adding = True
        row.revision = keep_revisions(self.new_file, made)
        row.save()
        return row

    def _numbers(self, starts: list[int], made: dict[int, Carried]) -> NDArray[np.int64]:
        out, new_starts = np.full(starts[-1], -1, np.int64), island_starts(self.pieces)
        matches = {new: (m, made[new].islands) for new, m in self.meshes.items() if new in made}
        matches |= {new: (m, match) for (m, new), match in self.found.islands.items() if new not in made}
        for new, (m, match) in matches.items():
            known = match >= 0
            if len(match) == starts[m + 1] - starts[m] and match.max(initial=-1) < new_starts[new + 1] - new_starts[new]:
                out[starts[m] : starts[m + 1]][known] = match[known] + new_starts[new]
        return out


def analyse_kept(file: SourceFile, channel: int) -> list[MeshIslands | None]:
    """The islands of a stored file with what was made of it here."""
    return islands_in(file, kept_scene(file), channel)


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
    versions = _uploaded(job, project.head)
    job.result = {"file": job.params["file"], "name": versions.new_file.name, **_told(versions.found)}


def run_replace(job: Job) -> None:
    """Take a newer version over: one undo step."""
    project, head, before = head_of(job)
    compared = Job.objects.filter(pk=job.params["compared"], project=project, kind="compare", state="done").first()
    if compared is None:
        raise QuiltError("Compare the newer version first.")
    say(job, "Reading the newer version")
    job.params = {**job.params, **compared.params}
    versions = _uploaded(job, head)
    after = Succession.of(head, arrays_of(before, "transforms"))
    taken_over(versions, after)
    job.result = {"file": versions.newest.pk, **_told(versions.found)}
    settled(job, project, head, before, after, f"Replace {versions.newest.name}")
    put_away(project, compared.kind)


def taken_over(versions: Versions, after: Succession) -> None:
    """Put the newer file in the older one's place: islands that are the same lie where they lay, others as they came."""
    numbers = versions.carry()
    rows = np.tile(IDENTITY, (island_starts(versions.pieces)[-1], 1))
    old, found = versions.old_file, versions.found
    rows[numbers[numbers >= 0]] = after.transforms[str(old.pk)][numbers >= 0]
    same = not found.changed and not found.new and not found.gone
    after.take(FileKeys(old.pk, versions.newest.pk, numbers, {m: n for n, m in found.objects.items()}, elsewhere=same), rows)


def settled(job: Job, project: Project, head: Snapshot, before: Layout, after: Succession, label: str) -> None:
    """Measure a state with newer files and make it the next step."""
    say(job, "Measuring again")
    parts = parts_of(choose(after.snapshot, whole=True))
    layout = Layout(project=project, kind="import", channel=before.channel, transforms=pack_arrays(after.transforms), recipe={})
    measure(layout, parts, parts.whole(after.transforms), after.settings, stop=StopFlag(job))
    land(project, head, layout, label, **after.changes)


KINDS = (Kind("compare", run_compare, None), Kind("replace", run_replace, Replace))
