"""A project saved as one file, and such a file opened as a project."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any, ClassVar

from pydantic import StrictBool

from quilt_core.errors import QuiltError

from ...projects import files
from ...projects.models import Job, Project
from ...projects.opening import Opened
from ...projects.room import empty_else
from ...projects.saving import save
from ..kind import Asked, Kind
from ..progress import StopFlag, say
from ..uploads import most

_PART = 1 << 20


class Save(Asked):
    """Whether the steps that led to the state and all tries go with it."""

    words: ClassVar = {"history": "A project is saved with its history or without."}
    history: StrictBool = True

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        return {"history": self.history}


def run_save(job: Job) -> None:
    """Write the project into one file, which can be fetched then."""
    project = Project.objects.get(pk=job.project_id)
    if project.head is None:
        raise QuiltError("There is nothing to save yet. Bring in a mesh first.")
    say(job, "Putting the project into one file")
    with tempfile.TemporaryDirectory(dir=files.folder("files"), prefix=".new-") as folder:
        path = Path(folder) / "project.zip"
        save(project, path, bool(job.params["history"]))
        with path.open("rb") as f:
            job.output_sha, size = files.put_parts(iter(lambda: f.read(_PART), b""))
    job.result = {"bytes": size}


def run_open(job: Job) -> None:
    """Fill an empty project from a saved one; it is as it was where that cannot be done."""
    project, stop = Project.objects.get(pk=job.project_id), StopFlag(job)
    (file,) = job.params["files"]

    def tell(text: str, part: float) -> None:
        stop.raise_if()
        job.span = (part, 1.0)
        say(job, text)

    opened = Opened(file["path"], files.path_of(file["sha"]), most(), tell)
    with empty_else(project):
        opened.into(project)
    job.result = {"name": opened.named(project)}


KINDS = (Kind("save", run_save, Save), Kind("open", run_open, None))
