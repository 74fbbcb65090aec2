"""An asset of a batch opened as a project: as the batch left it, or, where that could not be done, with all that the job sets up and not packed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from quilt_core.errors import QuiltError

from ..jobfile.engine import Above, Engine
from ..jobfile.kinds import teller
from ..jobfile.results import PROJECT, sha_of
from ..jobfile.text import parsed
from ..jobs.kind import Kind
from ..jobs.uploads import most
from ..projects.models import Job, Project
from ..projects.opening import Opened
from ..projects.room import empty_else
from .library import inside, results_of, root
from .models import Asset


def run_asset(job: Job) -> None:
    """Fill an empty project from an asset; it is as it was where that cannot be done.

    Raises
    ------
    QuiltError : the batch or the files are gone
    """
    project = Project.objects.get(pk=job.project_id)
    asset = Asset.objects.select_related("batch").filter(pk=job.params["asset"]).first()
    if asset is None:
        raise QuiltError("This batch was done again meanwhile, or is gone. Open the asset from its list once more.")
    tell = teller(job)
    saved = results_of(asset.batch_id, asset.batch.name) / asset.name / PROJECT
    if asset.state in ("done", "unchanged") and saved.is_file():
        with empty_else(project):
            Opened(saved.name, saved, most(), tell).into(project)
        job.result = {"notes": []}
    else:
        job.result = {"notes": _set_up(asset, project, tell)}
    Project.objects.filter(pk=project.pk).update(name=asset.name[-120:])


def _set_up(asset: Asset, project: Project, tell: Callable[[str, float | None], None]) -> list[str]:
    """Bring an asset's files in and do what the job says of them, but for the packing: it may be what failed."""
    asked = parsed(asset.batch.job, asset.batch.name).model_copy(update={"pack": False, "steps": []})
    top, folder = root(), inside(asset.folder)
    for f in asset.files:
        if not (folder / f).resolve().is_relative_to(top) or sha_of(folder / f) is None:
            raise QuiltError(f"'{f}' is not in the library any more.")

    def work(at: Path, files: list[str]) -> list[str]:
        engine = Engine(asked, at, tell, project, top)
        with empty_else(project):
            return engine.laid_out(files, engine.taken_in(files)).notes

    try:
        return work(folder, asset.files)
    except Above:
        return work(top, [(folder / f).relative_to(top).as_posix() for f in asset.files])


KINDS = (Kind("asset", run_asset, None),)
