"""Bytes in the data folder, named by their hash: uploaded originals and what jobs put out. A file is there whole or not at all."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path

from django.conf import settings

from quilt_core.errors import QuiltError


def folder(name: str) -> Path:
    """A folder of the data folder, made when it is missing."""
    path = Path(settings.DATA_DIR) / name
    path.mkdir(parents=True, exist_ok=True)
    return path


def write_whole(path: Path, data: bytes) -> None:
    """Write a file under another name first, so that a crash leaves no half of it.

    Raises
    ------
    QuiltError : the disk takes no more
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=".new-")
    try:
        with os.fdopen(handle, "wb") as f:
            f.write(data)
        os.replace(name, path)
    except OSError as e:
        Path(name).unlink(missing_ok=True)
        raise QuiltError(f"The data folder takes no more files ({e.strerror}). Make room on the disk, then do it again.") from e


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


def get(sha: str) -> bytes:
    """The bytes of a hash.

    Raises
    ------
    QuiltError : they are gone
    """
    try:
        return path_of(sha).read_bytes()
    except OSError as e:
        raise QuiltError("A file of this project is not in the data folder any more. Bring it in again.") from e
