"""Bringing files in, and reading them in another UV channel."""

from __future__ import annotations

import io
import posixpath
import zipfile
from collections.abc import Mapping
from pathlib import PurePosixPath
from typing import Any

import numpy as np
from django.conf import settings as limits
from django.db import transaction
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import FileError, QuiltError
from quilt_core.uv.analysis import MeshIslands, analyse

from ..projects import files as stored_files
from ..projects.keys import rekeyed
from ..projects.measuring import measure
from ..projects.models import Job, Layout, Project, Reading, Snapshot, SourceFile
from ..projects.opened import arrays_of
from ..projects.reading import choose, parts_of
from ..projects.sources import identity, keep, kept_scene, make_reading, materials_of
from ..projects.state import advance, settings_of
from .landing import land
from .progress import StopFlag, report_progress

MOST_TOLD = 50  # missing files that are named one by one


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
        if len(entries) > limits.QUILT_UPLOAD_FILES or sum(e.file_size for e in entries) > limits.QUILT_UPLOAD_BYTES:
            raise FileError(name, "it holds more than is taken at once", "", "Bring its files in several parts.")
        return {clean_path(e.filename): archive.read(e) for e in entries}
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError, OSError, EOFError, ValueError) as e:
        raise FileError(name, "this zip cannot be opened", "", "Make it again without a password.") from e


def bodies_of(files: list[dict[str, str]]) -> dict[str, bytes]:
    """Uploaded files by path, zips opened."""
    bodies: dict[str, bytes] = {}
    for f in files:
        data = stored_files.get(f["sha"])
        for path, body in (unzip(f["path"], data) if f["path"].lower().endswith(".zip") else {clean_path(f["path"]): data}).items():
            if bodies.get(path, body) != body:
                path = _free_path(path, bodies)
            bodies[path] = body
    return bodies


def _free_path(path: str, taken: Mapping[str, bytes]) -> str:
    """A path that nothing has yet, for a second file of the same one: both come in."""
    stem, dot, end = path.rpartition(".")
    number = 2
    while (free := f"{stem} ({number}){dot}{end}" if dot else f"{path} ({number})") in taken:
        number += 1
    return free


def run_import(job: Job) -> None:
    """Read all meshes among the uploaded files. Either all of them join the project, or none."""
    bodies = bodies_of(job.params["files"])
    meshes = [p for p in bodies if formats.is_mesh(p)]
    if not meshes:
        raise QuiltError(f"There is no mesh among these files. Meshes are {', '.join(formats.ENDINGS[:-1])} or {formats.ENDINGS[-1]}.")
    channel = int(settings_of(Project.objects.get(pk=job.project_id).head)["channel_in"])
    stop, rows = StopFlag(job), []
    for number, path in enumerate(sorted(meshes)):
        stop.raise_if()
        report_progress(job, {"text": f"Reading {path}", "part": number / len(meshes)})
        rows.append(read_one(job, path, bodies, channel, float(job.params.get("unit_m", 1.0))))
    rows = _tops(rows)
    with transaction.atomic():
        for file, reading in rows:
            file.save()
            reading.file = file
            reading.save()
    job.result = {"files": [f.pk for f, _ in rows], "objects": sum(len(r.objects_info) for _, r in rows)}
    try:
        report_progress(job, {"text": "Measuring what is wrong", "part": 0.95})
        while not _joined(job, rows, stop):
            pass  # the project moved on while this was measured: what joins it joins its newest state
    except BaseException:
        SourceFile.objects.filter(pk__in=job.result["files"]).delete()
        raise


def _joined(job: Job, rows: list[tuple[SourceFile, Reading]], stop: StopFlag) -> bool:
    """Measure the project with new files and make that its state; False where it moved on meanwhile."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    tables = dict(arrays_of(head.layout, "tables")) if head and head.layout else {}
    tables |= {str(f.pk): identity(r) for f, r in rows}
    snapshot = Snapshot(
        files=(head.files if head else []) + [f.pk for f, _ in rows], left_out=head.left_out if head else [], settings=settings_of(head)
    )
    snapshot.kept = head.kept if head else {}
    layout = Layout(project=project, kind="import", channel=settings_of(head)["channel_in"], tables=pack_arrays(tables), recipe={})
    parts = parts_of(choose(snapshot, whole=True))
    measure(layout, parts, parts.whole(tables), settings_of(snapshot), stop=stop)
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


def read_one(job: Job, path: str, bodies: dict[str, bytes], channel: int, unit: float) -> tuple[SourceFile, Reading]:
    """A mesh among uploaded files with what it names beside it; neither row is saved yet."""
    beside = formats.seen_from(posixpath.dirname(path), {p: b for p, b in bodies.items() if p != path})
    scene = formats.read(bodies[path], path, unit, beside)
    found = {r: formats.find_resource(r, beside) for r in scene.references}
    companions = {p: keep(beside[p]) for p in found.values() if p}
    gone = [f"'{r}', which it names, did not come along" for r, p in found.items() if p is None]
    told = scene.warnings + [w for w in gone[:MOST_TOLD] if w not in scene.warnings]
    file = SourceFile(
        project_id=job.project_id, name=path, original_id=keep(bodies[path]), unit_m=unit, companions=companions, warnings=told,
        materials=materials_of(scene, beside),
    )  # fmt: skip
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
        reading = Reading.objects.filter(file=file, channel=channel, welded=False).first()
        if reading is None:
            reading = make_reading(file, kept_scene(file), channel)
            reading.save()
        tables[str(file.pk)] = identity(reading)
    if not any(len(t) for t in tables.values()):
        raise QuiltError(f"No object has UVs in channel {channel}. The channel stays as it was.")
    chosen = settings_of(head) | {"channel_in": channel}
    # What holds for single islands counts islands of the old channel.
    for rule in ("weights", "turns", "sheet_of"):
        chosen[rule] = {k: v for k, v in chosen[rule].items() if "/" in k}
    chosen |= {"held": [], "twins": [], "welded": [], "bunches": []}
    snapshot = Snapshot(files=head.files, left_out=head.left_out, settings=chosen)
    layout = Layout(project=project, kind="import", channel=channel, tables=pack_arrays(tables), recipe={})
    parts = parts_of(choose(snapshot, whole=True))
    measure(layout, parts, parts.whole(tables), chosen, stop=StopFlag(job))
    land(project, head, layout, f"Read channel {channel}", settings=chosen, kept={})


def run_weld(job: Job) -> None:
    """Join islands that only duplicate vertices keep apart, in all files; the files' own vertices stay as they are."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.pk != job.params["base"] or head.layout is None:
        raise QuiltError("The project changed since this was asked for. Do it again.")
    settings, old = settings_of(head), arrays_of(head.layout, "tables")
    tables, welded, joined = dict(old), list(settings["welded"]), 0
    for c in choose(Snapshot(files=head.files, settings=settings), whole=True):
        if c.file.pk in welded:
            continue
        report_progress(job, {"text": f"Joining islands of {c.file.name}"})
        pieces = analyse(c.scene, int(settings["channel_in"]), True)
        numbers = _numbers(c.pieces, pieces)
        if len(numbers) == len(np.unique(numbers)):
            continue
        joined += len(numbers) - len(np.unique(numbers))
        reading = Reading.objects.filter(file=c.file, channel=c.reading.channel, welded=True).first()
        if reading is None:
            reading = make_reading(c.file, c.scene, c.reading.channel, True)
            reading.save()
        welded.append(c.file.pk)
        # Of islands that become one the first decides where it lies: their UVs fit together as they were read.
        table = np.empty((int(numbers.max()) + 1, 5))
        table[numbers[::-1]] = old[str(c.file.pk)][::-1]
        tables[str(c.file.pk)] = table
        settings = renumbered(settings, c.file.pk, numbers)
    job.result = {"changed": joined}
    if not joined:
        return
    settings |= {"welded": welded}
    report_progress(job, {"text": "Measuring again"})
    snapshot = Snapshot(files=head.files, left_out=head.left_out, settings=settings)
    parts = parts_of(choose(snapshot, whole=True))
    layout = Layout(project=project, kind="mend", channel=head.layout.channel, tables=pack_arrays(tables), recipe=settings)
    measure(layout, parts, parts.whole(tables), settings, stop=StopFlag(job))
    land(project, head, layout, f"Join {joined} split islands", settings=settings)


def _numbers(old: list[MeshIslands | None], new: list[MeshIslands | None]) -> NDArray[np.int64]:
    """New number of every island of a file, old numbers counted through its meshes."""
    out: list[NDArray[np.int64]] = []
    start = 0
    for a, b in zip(old, new, strict=True):
        if a is None or b is None:
            continue
        number = np.empty(a.islands.count, np.int64)
        has = a.islands.of_triangle >= 0
        number[a.islands.of_triangle[has]] = b.islands.of_triangle[has]
        out.append(number + start)
        start += b.islands.count
    return np.concatenate(out) if out else np.zeros(0, np.int64)


def renumbered(settings: dict[str, Any], file: int, numbers: NDArray[np.int64]) -> dict[str, Any]:
    """Settings whose keys of single islands of a file follow new numbers (n,); -1 for islands that are gone."""

    def key(k: str) -> str | None:
        head, colon, island = k.partition(":")
        if not colon or head != str(file):
            return k
        new = int(numbers[int(island)]) if int(island) < len(numbers) else -1
        return None if new < 0 else f"{head}:{new}"

    return rekeyed(settings, key)
