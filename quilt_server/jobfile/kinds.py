"""A job file opened as a project: the work of the worker."""

from __future__ import annotations

import posixpath
from collections.abc import Callable

from quilt_core.errors import FileError, QuiltError

from ..jobs.kind import Kind
from ..jobs.progress import StopFlag
from ..jobs.uploads import bundles_of
from ..projects import files as stored_files
from ..projects.models import Job, Project
from ..projects.room import empty_else
from .engine import Engine
from .model import JobFile
from .taking import fitting
from .text import ENDINGS, loaded, parsed


def _job_among(files: dict[str, str]) -> tuple[str, JobFile]:
    """The job file among what came along: the one that says it is one.

    Raises
    ------
    QuiltError : none, or several; FileError : what is wrong with it
    """
    found = []
    for path, sha in sorted(files.items()):
        if path.lower().endswith(ENDINGS):
            try:
                values = loaded(stored_files.get(sha), path)
            except FileError:
                if path.lower().endswith(".toml"):
                    raise
                continue
            if "job" in values:
                found.append((path, values))
    if not found:
        raise QuiltError("There is no job file among these. It ends with .toml or .json, and begins with job = 1.")
    if len(found) > 1:
        raise QuiltError(f"There are several job files among these: {', '.join(p for p, _ in found[:5])}. Choose one of them.")
    path, values = found[0]
    return path, parsed(values, path)


def teller(job: Job) -> Callable[[str, float | None], None]:
    """Writes how far work is that itself is made of other work; it ends where the job should stop."""
    stop = StopFlag(job)

    def tell(text: str, part: float | None) -> None:
        stop.raise_if()
        Job.objects.filter(pk=job.pk).update(progress={"text": text, **({} if part is None else {"part": part})})

    return tell


def run_job(job: Job) -> None:
    """Fill an empty project by the job file among the uploaded files; it is as it was where that cannot be done."""
    project = Project.objects.get(pk=job.project_id)
    bundles, refused = bundles_of(job.params["files"])
    if refused:
        raise QuiltError(refused[0].why)
    path, asked = _job_among(bundles[0].shas)
    top = posixpath.dirname(path)
    inside = {posixpath.relpath(p, top or "."): sha for p, sha in bundles[0].shas.items() if not top or p.startswith(f"{top}/")}
    engine = Engine(asked, None, teller(job), project)
    with empty_else(project):
        done = engine.laid_out(fitting(asked, inside), [{"path": p, "sha": sha} for p, sha in inside.items()])
    if asked.name:
        Project.objects.filter(pk=project.pk).update(name=asked.name[:120])
    job.result = {"name": asked.name, "notes": done.notes, "steps": done.steps}


KINDS = (Kind("job", run_job, None),)
