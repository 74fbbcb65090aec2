"""Which mesh files a job takes in: of a folder, or of what came along with it."""

from __future__ import annotations

import glob
from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from pathlib import Path

from quilt_core import formats
from quilt_core.errors import FileError

from .model import JobFile

MOST_FILES = 20_000  # that one job takes in


def found_files(job: JobFile, folder: Path, without: Path | None = None) -> list[str]:
    """The mesh files that a job takes in, by path below the folder, in the order of its patterns.

    Parameters
    ----------
    without : a folder of which nothing is taken: where the results go

    Raises
    ------
    FileError : a pattern that nothing fits, or one that leads out of the folder
    """
    if not folder.is_dir():
        raise FileError(str(folder), "there is no such folder", "", "Name the folder of the mesh files with --in.")
    top = folder.resolve()
    out: dict[str, None] = {}
    for pattern in job.input.files:
        if pattern.startswith(("/", "\\")) or ".." in pattern.replace("\\", "/").split("/"):
            raise FileError(pattern, "it leads out of the folder of the input", "", "Name another folder with --in.")
        mine = sorted(_meshes(top, pattern, without.resolve() if without else None))
        if not mine:
            raise FileError(
                pattern, f"no mesh file in {folder} fits this", "", "Name the folder of the mesh files with --in, or mend input.files."
            )
        out |= dict.fromkeys(mine)
        if len(out) > MOST_FILES:
            raise FileError(pattern, f"more than {MOST_FILES:,} files fit", "", "Take them in several jobs, or as a batch.")
    return list(out)


def _meshes(top: Path, pattern: str, without: Path | None) -> Iterator[str]:
    for name in glob.iglob(pattern, root_dir=top, recursive=True):
        path = top / name
        if formats.is_mesh(name) and path.is_file() and not (without and path.resolve().is_relative_to(without)):
            yield Path(name).as_posix()


def fitting(job: JobFile, names: Iterable[str]) -> list[str]:
    """The same of files that came with the job, by their paths from it.

    Raises
    ------
    FileError : a pattern that nothing fits
    """
    meshes = sorted(n for n in names if formats.is_mesh(n))
    out: dict[str, None] = {}
    for pattern in job.input.files:
        mine = [n for n in meshes if _fits(n.split("/"), pattern.split("/"))]
        if not mine:
            raise FileError(
                pattern,
                "the job takes in a mesh file that fits this, and none came along",
                "",
                "Choose the job file and its mesh files together.",
            )
        out |= dict.fromkeys(mine)
    return list(out)


def _fits(path: list[str], pattern: list[str]) -> bool:
    """Whether a path fits a pattern, folder by folder; ** is any number of them. Time goes by the product of their lengths."""
    fits = [True] + [False] * len(path)  # whether the pattern so far fits so many folders
    for p in pattern:
        if p == "**":
            fits = [any(fits[: n + 1]) for n in range(len(fits))]
        else:
            fits = [False] + [fits[n] and fnmatchcase(path[n], p) for n in range(len(path))]
    return fits[-1]
