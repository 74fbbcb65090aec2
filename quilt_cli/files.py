"""Files on disk for the core, which itself opens nothing: meshes, and what lies beside them."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path
from typing import ClassVar, Protocol

from quilt_core import formats
from quilt_core.errors import FileError
from quilt_core.model.scene import Scene

from .child import Opened, bounded

UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}


class Elsewhere(Protocol):
    """A place that a folder of this machine stands for: files come here when they are asked for."""

    def fetch(self, path: Path) -> None:
        """Have a file here, where there is one."""

    def names(self, folder: Path) -> list[str]:
        """The files in a folder there."""


class Beside(Mapping[str, bytes]):
    """The files in and below a folder, read when asked for. Nothing outside the folder can be named, or outside `root` where that is one above it.
    `mirror`: where the folders of this process stand for another place."""

    mirror: ClassVar[Elsewhere | None] = None

    def __init__(self, folder: Path, root: Path | None = None) -> None:
        self.folder = folder.resolve()
        self.root = self.folder if root is None else root.resolve()

    def _path(self, name: object) -> Path | None:
        if not isinstance(name, str) or "\0" in name:
            return None
        path = (self.folder / name).resolve()
        if not path.is_relative_to(self.root):
            return None
        if self.mirror is not None:
            self.mirror.fetch(path)
        return path if path.is_file() else None

    def __contains__(self, name: object) -> bool:
        return self._path(name) is not None

    def __getitem__(self, name: str) -> bytes:
        path = self._path(name)
        if path is None:
            raise KeyError(name)
        return path.read_bytes()

    def __iter__(self) -> Iterator[str]:
        """Names in the folder, then those in each one above it up to the root: what names a picture without its folder means one of these."""
        at, way = self.folder, ""
        while at.is_dir():
            here = {p.name for p in at.iterdir() if p.is_file()}
            yield from (way + name for name in sorted(here.union(self.mirror.names(at) if self.mirror is not None else ())))
            if at == self.root or at == at.parent:
                return
            at, way = at.parent, f"../{way}"

    def __len__(self) -> int:
        return sum(1 for _ in self)


def say(text: str) -> None:
    """What is done just now, on a terminal's line for errors; nothing elsewhere."""
    if sys.stderr.isatty():
        print(f"\r{text[:100]:100}\r", end="", file=sys.stderr, flush=True)


def read(path: Path, unit_m: float, root: Path | None = None) -> Scene:
    """Read a mesh file with what it refers to; `unit_m`: see `formats.unit_for`; `root`: see `Beside`.

    Raises
    ------
    FileError : missing, unreadable, or not a mesh
    """
    try:
        data = path.read_bytes()
    except OSError as e:
        raise FileError(str(path), e.strerror or "it cannot be opened") from e
    unit, beside = formats.unit_for(path.name, unit_m), Beside(path.parent, root)
    _warm()
    # A child reads it first: what crashes a library, or takes more than it may, ends there.
    bounded(lambda limit: _read_through(data, path.name, unit, Opened(beside, limit, len(data))), path.name, len(data))
    return formats.read(data, path.name, unit, beside)


@cache
def _warm() -> None:
    """Have the compiled kernels here before a child is made, which would load them for itself alone."""
    formats.read(b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "warm.obj", 1.0, {})


def _read_through(data: bytes, name: str, unit: float, beside: Mapping[str, bytes]) -> None:
    formats.read(data, name, unit, beside)


def folders(paths: list[Path]) -> list[str]:
    """The folder that each file is written to below the output: none where all names differ, else the one that it has below what all have in common.

    Raises
    ------
    FileError : one file is named twice
    """
    whole = [p.resolve() for p in paths]
    if len(set(whole)) < len(whole):
        twice = next(p for p in whole if whole.count(p) > 1)
        raise FileError(str(twice), "it is named twice", "", "Name it once.")
    names = [p.name for p in whole]
    if len(set(names)) == len(names):
        return [""] * len(paths)
    common = Path(os.path.commonpath([str(p.parent) for p in whole]))
    return ["" if p.parent == common else p.parent.relative_to(common).as_posix() for p in whole]


def check_out(folder: Path, sources: list[Path]) -> None:
    """Refuse an output folder that is also the folder of an input.

    Raises
    ------
    FileError : naming the input that would be overwritten
    """
    for source in sources:
        if source.parent.resolve() == folder.resolve():
            raise FileError(str(source), "it would be overwritten", "", "Choose another folder for --out.")


def write(scene: Scene, folder: Path, source: Path, outputs: dict[str, bytes]) -> None:
    """Write a scene's new files, and copy what it refers to, unless a file of that name is there already."""
    targets = {folder / (name or scene.file): body for name, body in outputs.items()}
    beside = Beside(source.parent)
    for reference in scene.references:
        path = formats.find_resource(reference, beside)
        if path is not None and not (folder / path).exists():
            targets.setdefault(folder / path, beside[path])
    for target, body in targets.items():
        if not target.resolve().is_relative_to(folder.resolve()):
            raise FileError(scene.file, f"it refers to '{target.name}' outside its own folder", "", "Move that file beside it.")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(body)
