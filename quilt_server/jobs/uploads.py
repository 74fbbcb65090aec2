"""Uploaded files: their paths, zips among them, and a mesh with what it names beside it."""

from __future__ import annotations

import io
import posixpath
import zipfile
from collections.abc import Container, Iterable
from dataclasses import dataclass, field
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


@dataclass
class Bundle:
    """Files that see each other: all by path, and the meshes that are read from here, with the name that each has in the project."""

    bodies: dict[str, bytes]
    names: dict[str, str] = field(default_factory=dict)


@dataclass
class Refused:
    """A file that was not taken, and why."""

    name: str
    why: str


def bundles_of(files: list[dict[str, str]], taken: Iterable[str] = ()) -> tuple[list[Bundle], list[Refused]]:
    """Uploaded files with zips opened. What came twice under one path with other contents is a bundle of its own, so that no mesh reads what belongs
    to its namesake; it sees the others where it has nothing itself.

    Parameters
    ----------
    taken : names that files of the project have already: whoever comes after them gets a name of its own
    """
    loose: list[dict[str, bytes]] = [{}]
    zips, refused = list[tuple[str, dict[str, bytes]]](), list[Refused]()
    for f in files:
        path, data = f["path"], stored_files.get(f["sha"])
        if path.lower().endswith(".zip"):
            try:
                zips.append((path[:-4], unzip(path, data)))
            except QuiltError as e:
                refused.append(Refused(path, str(e)))
            continue
        path = clean_path(path)
        own = next((b for b in loose if b.get(path, data) == data), None)
        if own is None:
            loose.append(own := {})
        own[path] = data
    first = loose[0]
    found = [("", first)] + [("", more) for more in loose[1:]]
    for stem, bodies in zips:
        if any(first.get(p, b) != b for p, b in bodies.items()):
            found.append((stem, bodies))
        else:
            first.update(bodies)
    names = {n.casefold() for n in taken}
    out = []
    for stem, bodies in found:
        bundle = Bundle(bodies if bodies is first else first | bodies)
        for path in sorted(p for p in bodies if formats.is_mesh(p)):
            bundle.names[path] = free_name(posixpath.join(stem, path), names)
            names.add(bundle.names[path].casefold())
        out.append(bundle)
    return out, refused


def free_name(path: str, taken: Container[str]) -> str:
    """A path that nothing has yet, for a second file of the same one; `taken` without difference of case, as many disks have it."""
    folder, base = posixpath.split(path)
    stem, dot, end = base.rpartition(".")
    free, number = path, 2
    while free.casefold() in taken:
        free = posixpath.join(folder, f"{stem} ({number}){dot}{end}" if dot else f"{base} ({number})")
        number += 1
    return free


def read_one(job: Job, path: str, bundle: Bundle, channel: int, unit: float) -> tuple[SourceFile, Reading]:
    """A mesh among uploaded files with what it names beside it; neither row is saved yet."""
    bodies = bundle.bodies
    beside = formats.seen_from(posixpath.dirname(path), {p: b for p, b in bodies.items() if p != path})
    scene = formats.read(bodies[path], path, unit, beside)
    found = {r: formats.find_resource(r, beside) for r in scene.references}
    companions = {p: store(beside[p]) for p in found.values() if p}
    gone = [f"'{r}', which it names, did not come along" for r, p in found.items() if p is None]
    told = scene.warnings + [w for w in gone[:MOST_TOLD] if w not in scene.warnings]
    file = SourceFile(
        project_id=job.project_id, name=bundle.names[path], original_id=store(bodies[path]), unit_m=unit, companions=companions, warnings=told,
        materials=materials_of(scene, beside),
    )  # fmt: skip
    return file, make_reading(file, scene, channel)
