"""Bytes in the data folder, named by their hash: uploaded originals and what jobs put out. A file is there whole or not at all."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from django.conf import settings

from quilt_core.errors import QuiltError


class NoRoom(QuiltError):
    """The data folder cannot be written: the disk is full, read-only or gone."""

    def __init__(self, why: str) -> None:
        super().__init__(
            f"The data folder cannot be written ({why}). Nothing was lost. Make room on the disk or mend it, then do it again."
        )


def folder(name: str) -> Path:
    """A folder of the data folder, made when it is missing."""
    path = Path(settings.DATA_DIR) / name
    try:
        # Not the data folder itself: where that is gone, its disk is, and it comes back as it was.
        path.mkdir(exist_ok=True)
    except OSError as e:
        raise NoRoom(e.strerror or type(e).__name__) from e
    return path


@contextmanager
def _new_file(there: Path) -> Iterator[tuple[IO[bytes], str]]:
    """A file under another name, gone again where writing it fails.

    Raises
    ------
    NoRoom : the disk takes no more
    """
    name = ""
    try:
        there.mkdir(exist_ok=True)
        handle, name = tempfile.mkstemp(dir=there, prefix=".new-")
        with os.fdopen(handle, "wb") as f:
            yield f, name
    except OSError as e:
        raise NoRoom(e.strerror or type(e).__name__) from e
    finally:
        if name:
            Path(name).unlink(missing_ok=True)


def write_whole(path: Path, data: bytes) -> None:
    """Write a file under another name first, so that a crash leaves no half of it.

    Raises
    ------
    NoRoom : the disk takes no more
    """
    with _new_file(path.parent) as (f, name):
        f.write(data)
        f.close()
        os.replace(name, path)


def is_hash(text: str) -> bool:
    """Whether a text can be the name of bytes here."""
    return len(text) == 64 and all(c in "0123456789abcdef" for c in text)


def path_of(sha: str) -> Path:
    """Where the bytes of a hash lie."""
    return folder("files") / sha[:2] / sha


def put(data: bytes) -> str:
    """Keep bytes; returns their SHA-256."""
    sha = hashlib.sha256(data).hexdigest()
    path = path_of(sha)
    if path.exists():
        path.touch()  # it is wanted again: whoever sweeps now leaves it
    else:
        write_whole(path, data)
    return sha


def put_parts(parts: Iterable[bytes]) -> tuple[str, int]:
    """Keep bytes that come in parts, never all of them in memory; returns their SHA-256 and how many they are.

    Raises
    ------
    NoRoom : the disk takes no more
    """
    found, size = hashlib.sha256(), 0
    with _new_file(folder("files")) as (f, name):
        for part in parts:
            found.update(part)
            size += len(part)
            f.write(part)
        f.close()
        path = path_of(found.hexdigest())
        path.parent.mkdir(exist_ok=True)
        os.replace(name, path)
    return found.hexdigest(), size


def get(sha: str) -> bytes:
    """The bytes of a hash.

    Raises
    ------
    QuiltError : they are gone
    """
    try:
        return path_of(sha).read_bytes()
    except OSError as e:
        if not Path(settings.DATA_DIR).is_dir():
            raise NoRoom("the folder is gone") from e
        raise QuiltError("A file of this project is not in the data folder any more. Bring it in again.") from e
