"""Meshes cleaned for good: each file with something to clean is written anew in its format and takes its own place, as a newer version would."""

from __future__ import annotations

import posixpath
from typing import Any, ClassVar

from pydantic import Field, StrictStr

from quilt_core.errors import NothingToDo, QuiltError
from quilt_core.formats.clean import KINDS as CLEANED
from quilt_core.formats.tidy import Tidied, tidied
from quilt_core.words import counted

from ...projects.models import Job, SourceFile
from ...projects.opened import arrays_of
from ...projects.sources import as_it_first_came, read_source, store
from ...projects.state import source_files
from ..kind import Asked, Kind
from ..landing import head_of
from ..progress import say, steps
from ..succession import Succession
from ..uploads import Bundle
from .replace import Versions, settled, taken_over


class Clean(Asked):
    """The objects by key whose meshes are cleaned, None for all; and of what, see `clean.KINDS`."""

    words: ClassVar = {"what": f"A mesh is cleaned of {', '.join(CLEANED.values())}."}
    objects: list[StrictStr] | None = None
    # Vertices that normals or UVs part are twice in many formats, on purpose; and who closes holes adds faces.
    what: list[StrictStr] = Field(default=[k for k in CLEANED if k not in ("merged", "holes")], min_length=1)

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if not set(self.what) <= set(CLEANED):
            raise QuiltError(self.words["what"])
        return self.model_dump()


def run_clean(job: Job) -> None:
    """Clean what is asked for. It is one step; what was put right of which object is in the result."""
    project, head, before = head_of(job)
    after, rows = Succession.of(head, arrays_of(before, "transforms")), list[dict[str, Any]]()
    sources = source_files(head)
    notes: list[str] = []
    for file in steps(job, [sources[f] for f in head.files], lambda f: f"Cleaning {f.name}", (0.0, 0.9)):
        made = _tidied(job, file)
        if made is None:
            continue
        folder = posixpath.dirname(file.name)
        shas = {path: store(body) for path, body in made.files.items()}
        versions = Versions(job, head, file, made.name, Bundle(shas, {made.name: made.name}), posixpath.join(folder, made.name))
        taken_over(versions, after)
        notes += [f"{versions.newest.name}: {note}" for note in made.notes]
        if made.open:
            notes.append(
                f"{versions.newest.name}: {counted(made.open, 'small hole stays', 'small holes stay')} open: the UVs around do not close."
            )
        rows += [
            {"key": f"{versions.newest.pk}/{now}", "name": o.name, "counts": made.counts[o.mesh]}
            for was, now in sorted(versions.found.objects.items())
            if (o := versions.first_scene.objects[was]).mesh in made.counts
        ]
    if not rows:
        raise NothingToDo("Nothing here has to be cleaned of that.")
    job.result = {"rows": rows, "notes": notes}
    settled(job, project, head, before, after, f"Clean {counted(len(rows), 'object', 'objects')}")


def _tidied(job: Job, file: SourceFile) -> Tidied | None:
    """A file as it first came, with the meshes cleaned that are asked for: what was made of it here is carried over to that."""
    say(job, f"Cleaning {file.name}")
    first = as_it_first_came(file)
    scene, beside = read_source(first)
    keys = job.params["objects"]
    meshes = {o.mesh for n, o in enumerate(scene.objects) if keys is None or f"{file.pk}/{n}" in keys}
    return tidied(scene, beside, meshes, job.params["what"], file.unit_m) if meshes else None


KINDS = (Kind("clean", run_clean, Clean),)
