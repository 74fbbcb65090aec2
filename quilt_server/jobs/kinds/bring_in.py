"""Bringing files in: all that were uploaded join the project, or none."""

from __future__ import annotations

import posixpath

from django.db import transaction

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError

from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Reading, Snapshot, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sources import identity
from ...projects.state import advance, settings_of
from ..kind import Kind
from ..progress import StopFlag, say, steps
from ..uploads import bodies_of, read_one


def run_import(job: Job) -> None:
    """Read all meshes among the uploaded files. Either all of them join the project, or none."""
    bodies = bodies_of(job.params["files"])
    meshes = [p for p in bodies if formats.is_mesh(p)]
    if not meshes:
        raise QuiltError(f"There is no mesh among these files. Meshes are {', '.join(formats.ENDINGS[:-1])} or {formats.ENDINGS[-1]}.")
    channel = int(settings_of(Project.objects.get(pk=job.project_id).head)["channel_in"])
    stop, rows = StopFlag(job), []
    for path in steps(job, sorted(meshes), "Reading {}".format, (0.0, 0.8)):
        rows.append(read_one(job, path, bodies, channel, formats.unit_for(path, float(job.params.get("unit_m", 1.0)))))
    rows = _tops(rows)
    with transaction.atomic():
        for file, reading in rows:
            file.save()
            reading.file = file
            reading.save()
    job.result = {"files": [f.pk for f, _ in rows], "objects": sum(len(r.objects_info) for _, r in rows)}
    try:
        job.span = (0.8, 1.0)
        say(job, "Measuring what is wrong")
        while not _joined(job, rows, stop):
            pass  # the project moved on while this was measured: what joins it joins its newest state
    except BaseException:
        SourceFile.objects.filter(pk__in=job.result["files"]).delete()
        raise


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
        advance(project, label, snapshot, layout)
    return True


def _tops(rows: list[tuple[SourceFile, Reading]]) -> list[tuple[SourceFile, Reading]]:
    """The files without those that another one is composed of: the layers of a USD scene come in with it."""
    layers = set()
    for file, _ in rows:
        layers |= {posixpath.normpath(posixpath.join(posixpath.dirname(file.name), path)) for path in file.companions}
    return [r for r in rows if r[0].name not in layers] or rows


KINDS = (Kind("import", run_import, None),)
