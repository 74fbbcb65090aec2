"""Uploaded files: their paths, zips among them, and a mesh with what it names beside it."""

from __future__ import annotations

import posixpath
from collections import ChainMap, Counter
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote

from django.conf import settings as limits
from django.core.files.uploadedfile import UploadedFile
from django.db import connections

from quilt_cli.child import FINDING, UNPACKING, Limit, Opened, bounded, bytes_of
from quilt_cli.files import Beside
from quilt_core import formats
from quilt_core.errors import FileError, QuiltError
from quilt_core.words import counted, named

from ..archives import Most, clean_path, unzipped
from ..projects import files as stored_files
from ..projects.models import Job, Reading, SourceFile
from ..projects.sources import make_reading, materials_of, store, store_parts

MOST_TOLD = 50  # files that were refused and are named
_LINES = 3  # missing files that are named one by one; more are told in one line


class Kept(Mapping[str, bytes]):
    """Files in the data folder by path, read when they are asked for."""

    def __init__(self, shas: Mapping[str, str]) -> None:
        self.shas = dict(shas)

    def __getitem__(self, path: str) -> bytes:
        return stored_files.get(self.shas[path])

    def __contains__(self, path: object) -> bool:
        return path in self.shas

    def __iter__(self) -> Iterator[str]:
        return iter(self.shas)

    def __len__(self) -> int:
        return len(self.shas)


def most() -> Most:
    """The limits of the settings."""
    return Most(limits.QUILT_UPLOAD_BYTES, limits.QUILT_FILE_BYTES, limits.QUILT_UPLOAD_FILES)


def taken(files: Sequence[UploadedFile], paths: Sequence[str]) -> list[dict[str, str]]:
    """What an upload brought, kept on disk part by part: for each file its path and hash.

    Raises
    ------
    QuiltError : more than is taken at once, or a name that cannot be taken
    """
    if len(paths) != len(files):
        raise QuiltError("Every file needs a path.")
    bound = most()
    if len(files) > bound.files:
        raise QuiltError(f"These are {len(files):,} files; {bound.files:,} are taken at once. Bring them in several parts.")
    if sum(f.size or 0 for f in files) > bound.bytes:
        raise QuiltError(
            f"These files are more than {bound.bytes >> 20:,} MB, which is what is taken at once. Bring them in several parts."
        )
    names = [clean_path(p) for p in paths]
    for f, name in zip(files, names, strict=True):
        if (f.size or 0) > bound.of_one:
            raise FileError(name, f"it is {(f.size or 0) >> 20:,} MB; a file has {bound.of_one >> 20:,} MB at most", "", "Part it.")
    return [{"path": name, "sha": store_parts(f.chunks())} for f, name in zip(files, names, strict=True)]


@dataclass
class Bundle:
    """Files that see each other: hashes of all by path, and the meshes that are read from here, with the name that each has in the project."""

    shas: dict[str, str]
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
    loose: list[dict[str, str]] = [{}]
    zips, refused = list[tuple[str, dict[str, str]]](), list[Refused]()
    for f in files:
        path, sha = f["path"], f["sha"]
        if path.lower().endswith(".zip"):
            try:
                zips.append((path[:-4], _opened(path, sha)))
            except FileError as e:
                refused.append(Refused(path, str(e)))
            continue
        own = next((b for b in loose if b.get(path, sha) == sha), None)
        if own is None:
            loose.append(own := {})
        own[path] = sha
    first = loose[0]
    found = [("", first)] + [("", more) for more in loose[1:]]
    for stem, shas in zips:
        if any(first.get(p, b) != b for p, b in shas.items()):
            found.append((stem, shas))
        else:
            first.update(shas)
    names = {n.casefold() for n in taken}
    out = []
    for stem, shas in found:
        bundle = Bundle(shas if shas is first else first | shas)
        for path in sorted(p for p in shas if formats.is_mesh(p)):
            bundle.names[path] = free_name(posixpath.join(stem, path), names)
            names.add(bundle.names[path].casefold())
        out.append(bundle)
    return out, refused


def _opened(path: str, sha: str) -> dict[str, str]:
    """The files of a zip by path, kept; opened in a child with bounds, since packing may ask for any amount of memory."""
    where = stored_files.path_of(sha)
    connections.close_all()

    def work(_: Limit) -> dict[str, str]:
        with where.open("rb") as stream:
            return unzipped(path, stream, most(), store_parts)

    return bounded(work, path, where.stat().st_size, UNPACKING)


def free_name(path: str, taken: Container[str]) -> str:
    """A path that nothing has yet, for a second file of the same one; `taken` without difference of case, as many disks have it."""
    folder, base = posixpath.split(path)
    stem, dot, end = base.rpartition(".")
    free, number = path, 2
    while free.casefold() in taken:
        free = posixpath.join(folder, f"{stem} ({number}){dot}{end}" if dot else f"{base} ({number})")
        number += 1
    return free


def read_one(
    job: Job,
    path: str,
    bundle: Bundle,
    channel: int,
    unit: float,
    stop: Callable[[], bool] | None = None,
    around: tuple[str, str] | None = None,
) -> tuple[SourceFile, Reading]:
    """A mesh among uploaded files with what it names beside it; neither row is saved yet. It is read in a child with bounds, since nothing is known of the file
    before. `around`: the folder on this machine where what it names may lie besides, and one above it that may be reached from
    there; for work without a browser.

    Raises
    ------
    FileError : it cannot be read, or reading it takes more than it may
    Cancelled : the job should stop
    """
    connections.close_all()  # the child opens its own
    return bounded(
        lambda limit: _read_here(job, path, bundle, channel, unit, limit, around),
        path,
        stored_files.path_of(bundle.shas[path]).stat().st_size,
        stop=stop,
    )


def _by_name(references: Iterable[str], beside: Mapping[str, bytes], others: Mapping[str, str]) -> dict[str, str]:
    """What a file names in a folder that did not come, and what came has the name of, once: by the path that it is looked for at. Paths of somebody's machine,
    and those that lead above what came, are left alone."""

    def name(path: str) -> str:
        return posixpath.basename(path).lower()

    wanted = {posixpath.normpath(unquote(r).replace("\\", "/")) for r in references}
    alike = Counter(map(name, wanted))
    there = Counter(map(name, others))
    by_name = {name(p): sha for p, sha in others.items()}
    return {
        w: by_name[name(w)]
        for w in sorted(wanted)
        if alike[name(w)] == there[name(w)] == 1
        and not w.startswith(("/", ".."))
        and ":" not in w
        and formats.find_resource(w, beside) is None
    }


def _gone(references: list[str]) -> list[str]:
    """What did not come along, line by line; of many in one."""
    if len(references) > _LINES:
        return [f"{len(references)} files that it names did not come along: {named(references)}"]
    return [f"'{r}', which it names, did not come along" for r in references]


def _read_here(
    job: Job, path: str, bundle: Bundle, channel: int, unit: float, limit: Limit, around: tuple[str, str] | None = None
) -> tuple[SourceFile, Reading]:
    data = stored_files.get(bundle.shas[path])
    others = formats.seen_from(posixpath.dirname(path), {p: sha for p, sha in bundle.shas.items() if p != path})
    kept: Mapping[str, bytes] = Kept(others)
    if around is not None:
        folder, root = map(Path, around)
        kept = ChainMap(kept, Beside(folder / posixpath.dirname(path), root))  # type: ignore[arg-type]
    beside = Opened(kept, limit, len(data))
    scene = formats.read(data, path, unit, beside)
    by_name = dict[str, str]()
    # A library that was found so may name pictures that have to be looked for, too.
    while more := _by_name(scene.references, beside, others):
        by_name |= more
        # From now on they lie where the file looks for them, here and in what leaves.
        others = others | more
        kept = ChainMap(Kept(others), kept)  # type: ignore[arg-type]
        beside = Opened(kept, limit, len(data))
        scene = formats.read(data, path, unit, beside)
    if by_name:
        count = counted(len(by_name), "file was", "files were")
        scene.warnings.append(f"{count} found by name, not in the folder that it names: {named(by_name)}")
    materials = materials_of(scene, beside)
    # What is found in it from now on goes by what was read, which may be packed tighter in the file.
    limit.allow(FINDING, bytes_of(scene))
    found = {r: formats.find_resource(r, beside) for r in scene.references}
    companions = {p: others[p] if p in others else store(kept[p]) for p in found.values() if p}
    gone = _gone([r for r, p in found.items() if p is None])
    told = scene.warnings + [w for w in gone if w not in scene.warnings]
    file = SourceFile(
        project_id=job.project_id, name=bundle.names[path], original_id=bundle.shas[path], unit_m=unit, companions=companions, warnings=told,
        materials=materials,
    )  # fmt: skip
    return file, make_reading(file, scene, channel)
