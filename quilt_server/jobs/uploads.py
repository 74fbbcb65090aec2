"""Uploaded files: their paths, zips among them, and a mesh with what it names beside it."""

from __future__ import annotations

import io
import posixpath
import zipfile
from collections.abc import Mapping
from pathlib import PurePosixPath

from django.conf import settings as limits

from quilt_core import formats
from quilt_core.errors import FileError, QuiltError

from ..projects import files as stored_files
from ..projects.models import Job, Reading, SourceFile
from ..projects.sources import make_reading, materials_of, store

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


def read_one(job: Job, path: str, bodies: dict[str, bytes], channel: int, unit: float) -> tuple[SourceFile, Reading]:
    """A mesh among uploaded files with what it names beside it; neither row is saved yet."""
    beside = formats.seen_from(posixpath.dirname(path), {p: b for p, b in bodies.items() if p != path})
    scene = formats.read(bodies[path], path, unit, beside)
    found = {r: formats.find_resource(r, beside) for r in scene.references}
    companions = {p: store(beside[p]) for p in found.values() if p}
    gone = [f"'{r}', which it names, did not come along" for r, p in found.items() if p is None]
    told = scene.warnings + [w for w in gone[:MOST_TOLD] if w not in scene.warnings]
    file = SourceFile(
        project_id=job.project_id, name=path, original_id=store(bodies[path]), unit_m=unit, companions=companions, warnings=told,
        materials=materials_of(scene, beside),
    )  # fmt: skip
    return file, make_reading(file, scene, channel)
