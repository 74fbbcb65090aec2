"""Bringing files in, and reading them in another UV channel."""

from __future__ import annotations

import io
import zipfile
from pathlib import PurePosixPath

from django.conf import settings
from django.db import transaction

from quilt_core import formats
from quilt_core.errors import FileError, QuiltError

from ..projects.geometry import from_npz, to_npz
from ..projects.models import Job, Layout, Original, Project, Reading, Snapshot, SourceFile
from ..projects.reading import choose, identity, keep, make_reading, measure, read_source, sheet_of
from ..projects.state import advance, settings_of
from .progress import report_progress


def clean_path(path: str) -> str:
    """A relative path without tricks, for use as a name only.

    Raises
    ------
    QuiltError : an absolute path, or one that climbs out
    """
    parts = [p for p in path.replace("\\", "/").split("/") if p not in ("", ".")]
    if not parts or ".." in parts or path.startswith("/") or any(ord(c) < 32 for c in path) or len(path) > 400:
        raise QuiltError(f"'{path[:60]}' is not a file name that can be taken.")
    return str(PurePosixPath(*parts))


def unzip(name: str, data: bytes) -> dict[str, bytes]:
    """The files of a zip, within the limits of the settings."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = [e for e in archive.infolist() if not e.is_dir() and not e.filename.startswith("__MACOSX")]
        if len(entries) > settings.QUILT_UPLOAD_FILES or sum(e.file_size for e in entries) > settings.QUILT_UPLOAD_BYTES:
            raise FileError(name, "it holds more than is taken at once", "", "Bring its files in several parts.")
        return {clean_path(e.filename): archive.read(e) for e in entries}
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError, OSError, EOFError, ValueError) as e:
        raise FileError(name, "this zip cannot be opened", "", "Make it again without a password.") from e


def run_import(job: Job) -> None:
    """Read all meshes among the uploaded files. Either all of them join the project, or none."""
    stored = Original.objects.in_bulk([f["sha"] for f in job.params["files"]])
    bodies: dict[str, bytes] = {}
    for f in job.params["files"]:
        data = bytes(stored[f["sha"]].data)
        bodies.update(unzip(f["path"], data) if f["path"].lower().endswith(".zip") else {clean_path(f["path"]): data})
    meshes = [p for p in bodies if formats.is_mesh(p)]
    if not meshes:
        raise QuiltError("There is no mesh among these files. Meshes are .obj, .glb or .gltf.")
    channel = int(settings_of(Project.objects.get(pk=job.project_id).head)["channel_in"])
    rows = []
    for number, path in enumerate(sorted(meshes)):
        report_progress(job, {"text": f"Reading {path}", "part": number / len(meshes)})
        rows.append(_read_one(job, path, bodies, channel))
    report_progress(job, {"text": "Measuring what is wrong", "part": 0.95})
    with transaction.atomic():
        project = Project.objects.get(pk=job.project_id)
        for file, reading in rows:
            file.save()
            reading.file = file
            reading.save()
        ids = [f.pk for f, _ in rows]
        job.result = {"files": ids, "objects": sum(len(r.objects_info) for _, r in rows)}
        head = project.head
        old = from_npz(head.layout.tables) if head and head.layout else {}
        tables = old | {str(f.pk): identity(r) for f, r in rows}
        snapshot = Snapshot(files=(head.files if head else []) + ids, left_out=head.left_out if head else [], settings=settings_of(head))
        layout = Layout(project=project, kind="import", channel=channel, tables=to_npz(tables), recipe={})
        sheet = sheet_of(choose(snapshot))
        measure(layout, sheet, sheet.split(tables), int(snapshot.settings["map_px"]))
        layout.save()
        label = f"Bring in {rows[0][0].name}" if len(rows) == 1 else f"Bring in {len(rows)} files"
        advance(project, label, snapshot, layout)


def _read_one(job: Job, path: str, bodies: dict[str, bytes], channel: int) -> tuple[SourceFile, Reading]:
    folder = path.rsplit("/", 1)[0] + "/" if "/" in path else ""
    beside = {p[len(folder) :]: b for p, b in bodies.items() if p.startswith(folder) and p != path}
    unit = float(job.params.get("unit_m", 1.0))
    scene = formats.read(bodies[path], path, unit, beside)
    found = {formats.find_resource(r, beside) for r in scene.references}
    # An OBJ names its pictures in the MTL; what it could not see then is kept too.
    companions = {p: keep(beside[p]) for p in found if p}
    file = SourceFile(
        project_id=job.project_id, name=path, original_id=keep(bodies[path]), unit_m=unit, companions=companions, warnings=scene.warnings
    )
    return file, make_reading(file, scene, channel)


def run_channel(job: Job) -> None:
    """Read every file in another UV channel; the layout starts anew with the UVs of that channel."""
    project = Project.objects.get(pk=job.project_id)
    head, channel = project.head, int(job.params["channel"])
    if head is None or head.pk != job.params["base"]:
        raise QuiltError("The project changed since this was asked for. Choose the channel again.")
    tables = {}
    for n, file in enumerate(SourceFile.objects.filter(pk__in=head.files)):
        report_progress(job, {"text": f"Reading channel {channel} of {file.name}", "part": n / len(head.files)})
        reading = Reading.objects.filter(file=file, channel=channel).first()
        if reading is None:
            reading = make_reading(file, read_source(file), channel)
            reading.save()
        tables[str(file.pk)] = identity(reading)
    if not any(len(t) for t in tables.values()):
        raise QuiltError(f"No object has UVs in channel {channel}. The channel stays as it was.")
    chosen = settings_of(head) | {"channel_in": channel}
    # What holds for single islands counts islands of the old channel.
    for rule in ("weights", "turns"):
        chosen[rule] = {k: v for k, v in chosen[rule].items() if "/" in k}
    chosen["held"] = []
    snapshot = Snapshot(files=head.files, left_out=head.left_out, settings=chosen)
    layout = Layout(project=project, kind="import", channel=channel, tables=to_npz(tables), recipe={})
    sheet = sheet_of(choose(snapshot))
    measure(layout, sheet, sheet.split(tables), int(chosen["map_px"]))
    with transaction.atomic():
        layout.save()
        advance(Project.objects.get(pk=project.pk), f"Read channel {channel}", snapshot, layout)
