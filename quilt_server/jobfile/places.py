"""Where libraries and results lie: a folder of this machine or an address, spoken to in the same words. Nothing here needs the database."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Protocol

from quilt_core import formats
from quilt_core.errors import FileError

from .far import Far, is_far
from .results import Report, put_whole, report_of, sha_of, swept


class Place(Protocol):
    """A folder somewhere; paths are counted from it."""

    @property
    def address(self) -> str:
        """What finds it again, also from another process or machine."""

    def below(self, inner: str) -> Place:
        """A folder in it."""

    def files(self) -> Iterator[str]:
        """The files in and below it that may be assets: none that is hidden."""

    def size(self, path: str) -> int:
        """Bytes of a file."""

    def read(self, path: str) -> bytes | None:
        """The bytes of a file, None where there is none."""

    def sha(self, path: str) -> str | None:
        """The SHA-256 of a file, None where it is gone."""

    def send(self, path: str, body: bytes) -> None:
        """Write a file."""

    def put(self, files: dict[str, bytes], report: Report) -> None:
        """Write results as a whole, their report last, and away with what an earlier run put there."""

    def at_hand(self, files: list[str], scratch: Path) -> tuple[Path, Path]:
        """Have files on this machine, and what they name as it is asked for: the folder that they are in, and the one above it that may be reached from there."""

    def sweep(self) -> None:
        """Away with what lost workers left half written."""


class Here:
    """A folder of this machine. `inner`: one below it, which paths are counted from; from there what lies elsewhere in `top` may be named."""

    def __init__(self, top: Path, inner: str = "") -> None:
        self.top, self.inner = top, inner

    def __str__(self) -> str:
        return str(self.folder)

    @property
    def folder(self) -> Path:
        """It as a path."""
        return self.top / self.inner

    @property
    def address(self) -> str:
        """See `Place`."""
        return str(self.folder.resolve())

    def below(self, inner: str) -> Here:
        """See `Place`."""
        return Here(self.top, os.path.join(self.inner, inner))

    def files(self) -> Iterator[str]:
        """See `Place`."""
        for at, folders, names in os.walk(self.folder):
            folders[:] = sorted(d for d in folders if not d.startswith("."))
            yield from ((Path(at) / n).relative_to(self.folder).as_posix() for n in names if not n.startswith("."))

    def size(self, path: str) -> int:
        """See `Place`."""
        return (self.folder / path).stat().st_size

    def read(self, path: str) -> bytes | None:
        """See `Place`."""
        try:
            return (self.folder / path).read_bytes()
        except OSError:
            return None

    def sha(self, path: str) -> str | None:
        """See `Place`."""
        return sha_of(self.folder / path)

    def send(self, path: str, body: bytes) -> None:
        """See `Place`."""
        target = self.folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(body)

    def put(self, files: dict[str, bytes], report: Report) -> None:
        """See `Place`."""
        put_whole(self.folder, files, report)

    def at_hand(self, files: list[str], scratch: Path) -> tuple[Path, Path]:
        """See `Place`: they are here."""
        return self.folder, self.top

    def sweep(self) -> None:
        """See `Place`."""
        swept(self.folder)


def place_at(address: str) -> Place:
    """The place that an address or a path means."""
    return Far(address.rstrip("/")) if is_far(address) else Here(Path(address))


def unchanged(out: Place, folder: Place, key: str, meshes: list[str]) -> Report | None:
    """The report of an earlier run, where what it was made from and what it put out are as they were; None else."""
    try:
        old = report_of(out.read)
        same = old["key"] == key and old["meshes"] == meshes
        same = same and all(folder.sha(p) == sha for p, sha in old["read"].items())
        return old if same and all(out.sha(p) == sha for p, sha in old["files"].items()) else None
    except (KeyError, TypeError, AttributeError):
        return None


def library(where: str, out: Place) -> tuple[Place, list[str]]:
    """The folder of a library, and the mesh files in it: all below a folder or an address but for what lies among the results, or those that a list of paths names.

    Raises
    ------
    FileError : nothing is there
    """
    if is_far(where) or Path(where).is_dir():
        top = place_at(where)
        results = out.address.removeprefix(top.address).lstrip("/") if out.address.startswith(f"{top.address}/") else None
        found = [p for p in top.files() if formats.is_mesh(p) and not (results and p.startswith(f"{results}/"))]
    elif Path(where).exists():
        top, found = Here(Path(where).parent), list(_listed(Path(where)))
    else:
        raise FileError(where, "there is no such folder or list")
    if not found:
        raise FileError(str(top), "there is no mesh file there", "", f"Mesh files end with {', '.join(formats.ENDINGS)}.")
    return top, sorted(found)


def _listed(where: Path) -> Iterator[str]:
    try:
        lines = where.read_text().splitlines()
    except (OSError, UnicodeDecodeError) as e:
        raise FileError(str(where), getattr(e, "strerror", None) or "it is no folder and no list of paths") from e
    for n, line in enumerate(lines, 1):
        path = line.strip()
        if not path or path.startswith("#"):
            continue
        target = where.parent / path
        if not formats.is_mesh(path) or not target.is_file():
            raise FileError(
                where.name, f"'{path[:120]}' is no mesh file that is there", f"line {n}", "Mend the list; paths are relative to its folder."
            )
        if not target.resolve().is_relative_to(where.parent.resolve()):
            raise FileError(
                where.name, f"'{path[:120]}' lies outside the folder of the list", f"line {n}", "Put the list above all of its files."
            )
        yield Path(path).as_posix()


def places_of(order: dict[str, Any]) -> tuple[Place, Place]:
    """The folder of the files of a batch's order, and that of its results."""
    return place_at(order["root"]).below(order["inner"]), place_at(order["out"]).below(order["name"])
