"""Bringing files in: all that can be read join the project in one step; of the others it is told why they did not."""

from __future__ import annotations

import posixpath

from django.db import transaction

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import FileError, QuiltError

from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Reading, Snapshot, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sources import identity
from ...projects.state import advance, settings_of, source_files
from ..kind import Kind
from ..progress import StopFlag, say, steps
from ..uploads import MOST_TOLD, Refused, bundles_of, read_one


def run_import(job: Job) -> None:
    """Read all meshes among the uploaded files. Those that can be read join the project together; of the others it is told why not. Jobs without a browser
    name the `folder` in which what the meshes refer to lies, and in their `order` the meshes that should join."""
    head = Project.objects.get(pk=job.project_id).head
    names = [] if head is None else [f.name for f in source_files(head).values()]
    bundles, refused = bundles_of(job.params["files"], names)
    meshes = [(path, bundle) for bundle in bundles for path in bundle.names]
    if "order" in job.params:
        place = {path: n for n, path in enumerate(job.params["order"])}
        meshes = sorted((m for m in meshes if m[0] in place), key=lambda m: place[m[0]])
    if not meshes:
        if refused:
            raise QuiltError(_told(refused))
        raise QuiltError(f"There is no mesh among these files. Meshes are {', '.join(formats.ENDINGS[:-1])} or {formats.ENDINGS[-1]}.")
    channel, unit = int(settings_of(head)["channel_in"]), float(job.params.get("unit_m", 1.0))
    stop, rows = StopFlag(job), []
    for path, bundle in steps(job, meshes, lambda m: f"Reading {m[0]}", (0.0, 0.8)):
        try:
            rows.append((path, *read_one(job, path, bundle, channel, formats.unit_for(path, unit), stop, _around(job))))
        except FileError as e:  # what is wrong with the disk or the job is no reason to leave a file out
            refused.append(Refused(path, str(e)))
    if not rows:
        raise QuiltError(_told(refused))
    found = _tops(rows)
    with transaction.atomic():
        for file, reading in found:
            file.save()
            reading.file = file
            reading.save()
    job.result = {
        "files": [f.pk for f, _ in found], "objects": sum(len(r.objects_info) for _, r in found),
        "refused": [{"file": r.name, "why": r.why} for r in refused[:MOST_TOLD]], "refused_count": len(refused),
    }  # fmt: skip
    try:
        job.span = (0.8, 1.0)
        say(job, "Measuring what is wrong")
        while not _joined(job, found, stop):
            pass  # the project moved on while this was measured: what joins it joins its newest state
    except BaseException:
        SourceFile.objects.filter(pk__in=job.result["files"]).delete()
        raise


def _around(job: Job) -> tuple[str, str] | None:
    """The folder in which what the meshes refer to lies, and the one above it that may be reached from there; None where all came along."""
    return (job.params["folder"], job.params["root"]) if "folder" in job.params else None


def _told(refused: list[Refused]) -> str:
    """Why nothing came in."""
    if len(refused) == 1:
        return refused[0].why
    more = f" And {len(refused) - 5} more." if len(refused) > 5 else ""
    return f"None of these {len(refused)} files can be read. " + " ".join(r.why for r in refused[:5]) + more


def _joined(job: Job, rows: list[tuple[SourceFile, Reading]], stop: StopFlag) -> bool:
    """Measure the project with new files and make that its state; False where it moved on meanwhile."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    transforms = dict(arrays_of(head.layout, "transforms")) if head and head.layout else {}
    transforms |= {str(f.pk): identity(r) for f, r in rows}
    snapshot = Snapshot(
        files=(head.files if head else []) + [f.pk for f, _ in rows], left_out=head.left_out if head else [], settings=settings_of(head)
    )
    snapshot.kept = head.kept if head else {}
    layout = Layout(project=project, kind="import", channel=settings_of(head)["channel_in"], transforms=pack_arrays(transforms), recipe={})
    parts = parts_of(choose(snapshot, whole=True))
    measure(layout, parts, parts.whole(transforms), settings_of(snapshot), stop=stop)
    label = f"Bring in {rows[0][0].name}" if len(rows) == 1 else f"Bring in {len(rows)} files"
    with transaction.atomic():
        project = Project.objects.get(pk=job.project_id)
        if project.head_id != (head.pk if head else None):
            return False
        layout.save()
        if head is None:
            # The first files can be taken back as well: what they came into is a state too.
            project.head = Snapshot.objects.create(project=project, label="A new project", settings=snapshot.settings)
        advance(project, label, snapshot, layout)
    return True


def _tops(rows: list[tuple[str, SourceFile, Reading]]) -> list[tuple[SourceFile, Reading]]:
    """The files without those that another one is composed of: the layers of a USD scene come in with it."""
    layers = set()
    for path, file, _ in rows:
        layers |= {posixpath.normpath(posixpath.join(posixpath.dirname(path), beside)) for beside in file.companions}
    return [(f, r) for path, f, r in rows if path not in layers] or [(f, r) for _, f, r in rows]


KINDS = (Kind("import", run_import, None),)
