"""Zips that came: opened file by file onto the disk, within limits, whatever they say of themselves."""

from __future__ import annotations

import lzma
import zipfile
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import IO, TypeVar

from quilt_core.errors import FileError, QuiltError
from quilt_core.words import UNSHOWN, cut

T = TypeVar("T")
_PART = 1 << 20
# A file that is more than so many times as large as it is packed, and more than so many bytes, is no mesh and no picture that anybody made.
_SWELLS, _LARGE = 200, 200 << 20
# What the library raises over a damaged archive.
DAMAGED = (
    zipfile.BadZipFile,
    RuntimeError,
    NotImplementedError,
    OSError,
    EOFError,
    ValueError,
    KeyError,
    IndexError,
    zlib.error,
    lzma.LZMAError,
    OverflowError,
    MemoryError,
)


@dataclass(frozen=True)
class Most:
    """What one upload may hold: bytes of all files together, bytes of one, and files."""

    bytes: int
    of_one: int
    files: int


def clean_path(path: str) -> str:
    """A relative path without tricks, for use as a name only.

    Raises
    ------
    QuiltError : an absolute path, one that climbs out, or one with signs that no disk or page can take
    """
    parts = [p for p in path.replace("\\", "/").split("/") if p not in ("", ".")]
    told = cut(path, 60)
    if not parts or ".." in parts or path.startswith("/") or len(path) > 400:
        raise QuiltError(f"'{told}' is not a file name that can be taken.")
    if UNSHOWN.search(path):
        raise QuiltError(f"'{told}' holds signs that a file name cannot have. Rename the file.")
    return str(PurePosixPath(*parts))


def unzipped(name: str, stream: IO[bytes], most: Most, keep: Callable[[Iterator[bytes]], T]) -> dict[str, T]:
    """The files of a zip by path, each as `keep` keeps its parts; never more of one at once than a part of it.

    Raises
    ------
    FileError : it is damaged, holds more than is taken, or a file name that cannot be taken
    """
    try:
        with zipfile.ZipFile(stream) as archive:
            entries = [e for e in archive.infolist() if not e.filename.endswith("/") and not e.filename.startswith("__MACOSX")]
            check_entries(name, entries, most)
            return {_clean(name, e.filename): keep(_parts(archive, e)) for e in entries}
    except DAMAGED as e:
        raise FileError(name, "this zip cannot be opened", "", "Make it again without a password.") from e


def _clean(name: str, path: str) -> str:
    try:
        return clean_path(path)
    except QuiltError as e:
        raise FileError(name, str(e)) from e


def check_entries(name: str, entries: list[zipfile.ZipInfo], most: Most) -> None:
    """Refuse more than is taken, by what a zip says of itself.

    Raises
    ------
    FileError : naming what is too much
    """
    if len(entries) > most.files:
        raise FileError(name, f"it holds {len(entries):,} files; {most.files:,} are taken at once", "", "Bring its files in several parts.")
    whole = sum(e.file_size for e in entries)
    if whole > most.bytes:
        raise FileError(
            name, f"unpacked it is {whole >> 20:,} MB; {most.bytes >> 20:,} MB are taken at once", "", "Bring its files in several parts."
        )
    for e in entries:
        if e.file_size > most.of_one:
            raise FileError(name, f"'{cut(e.filename, 60)}' in it is {e.file_size >> 20:,} MB; a file has {most.of_one >> 20:,} MB at most")
        if e.file_size > _LARGE and e.file_size > _SWELLS * max(1, e.compress_size):
            raise FileError(
                name, f"'{cut(e.filename, 60)}' in it is {e.file_size >> 20:,} MB of almost nothing", "", "Leave that file out."
            )


def _parts(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> Iterator[bytes]:
    # The library gives no more than the entry's size, whatever comes out of its packing.
    with archive.open(entry) as f:
        while part := f.read(_PART):
            yield part
