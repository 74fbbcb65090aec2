"""The folder of this server that batches may read, allowed by a setting, and where their results go."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.formats.wiring import safe_name

MOST_SEEN = 20_000  # files that are counted before it is said that there are more
MOST_LISTED = 1_000  # folders that are shown
MOST_PATH = 4_000  # characters of a path


def root() -> Path:
    """The folder of all assets.

    Raises
    ------
    QuiltError : none is allowed, or it is gone
    """
    if settings.QUILT_LIBRARY is None:
        raise QuiltError("No folder of this server may be read. It is started with --library DIR for that.")
    found = Path(settings.QUILT_LIBRARY).resolve()
    if not found.is_dir():
        raise QuiltError(f"The library '{found.name}' is not there just now.")
    return found


def inside(path: str) -> Path:
    """A folder of the library by its path below it; links that lead out are not followed.

    Raises
    ------
    QuiltError : there is none, or no library
    """
    top = root()
    try:
        if len(path) > MOST_PATH:
            raise ValueError("no path of a disk is that long")
        found = (top / path).resolve()
        there = found.is_relative_to(top) and found.is_dir() and not _hidden(found, top)
    except (OSError, ValueError, RuntimeError):  # too long, a null character, links in a circle
        there = False
    if not there:
        raise QuiltError(f"There is no folder '{path[:120]}' in the library.")
    return found


def _hidden(path: Path, top: Path) -> bool:
    return any(part.startswith(".") for part in path.relative_to(top).parts)


@dataclass
class Folder:
    """A folder of the library. `path`: below it; `meshes`: in and below it, with `more` at least so many."""

    path: str
    folders: list[str]
    meshes: int
    more: bool


def seen(path: str) -> Folder:
    """What a folder of the library holds.

    Raises
    ------
    QuiltError : there is none
    """
    at, top = inside(path), root()
    names = sorted(e.name for e in os.scandir(at) if not e.name.startswith(".") and e.is_dir(follow_symlinks=False))
    meshes = looked = 0
    for _, folders, files in os.walk(at):
        folders[:] = [f for f in folders if not f.startswith(".")]
        meshes += sum(formats.is_mesh(f) and not f.startswith(".") for f in files)
        looked += len(files) + len(folders)
        if looked > MOST_SEEN:
            break
    inner = at.relative_to(top).as_posix()
    return Folder("" if inner == "." else inner, names[:MOST_LISTED], meshes, looked > MOST_SEEN)


def results_of(number: int, name: str) -> Path:
    """The folder of a batch's results."""
    top = Path(settings.QUILT_RESULTS) if settings.QUILT_RESULTS else settings.DATA_DIR / "batches"
    return top.resolve() / f"{number}-{safe_name(name)[:60]}"
