"""All formats: whatever folder stands here with a `FORMAT`."""

from __future__ import annotations

import pkgutil
from importlib import import_module
from pathlib import Path

import numpy as np

from ..errors import FileError, QuiltError
from ..model.scene import Floats, Scene
from .format import Format

_HERE = __name__.rpartition(".")[0]
FORMATS: tuple[Format, ...] = tuple(
    import_module(f"{_HERE}.{m.name}").FORMAT for m in pkgutil.iter_modules([str(Path(__file__).parent)]) if m.ispkg
)
ENDINGS = tuple(e for f in FORMATS for e in f.endings)
EXPORTS: dict[str, str] = {name: words for f in FORMATS for name, words in f.exports.items()}


def ending(name: str) -> str:
    """The lower-case ending of a file name, with its dot."""
    return "." + name.rsplit(".", 1)[-1].lower() if "." in name else ""


def named(name: str) -> Format:
    """The format that a `Scene.format` names."""
    return next(f for f in FORMATS if f.name == name)


def for_file(file: str) -> Format:
    """The format of a file of this name.

    Raises
    ------
    FileError : there is none
    """
    kind = ending(file)
    for f in FORMATS:
        if kind in f.endings:
            return f
    titles = [f.title for f in FORMATS]
    raise FileError(
        file, f"'{kind or 'no ending'}' is not a format that is read here", "", f"Use {', '.join(titles[:-1])} or {titles[-1]}."
    )


def for_export(name: str) -> Format:
    """The format that an export is asked for by.

    Raises
    ------
    QuiltError : there is none
    """
    for f in FORMATS:
        if name in f.exports:
            return f
    raise QuiltError(f"'{name}' is not a format that is written here: {', '.join(EXPORTS)} are.")


def normals(scene: Scene, mesh: int) -> Floats | None:
    """Normals (T, 3, 3) at the corners of the triangles of a mesh, in its own space; None where the file has none that fit."""
    found = named(scene.format).normals(scene, mesh)
    return None if found is None or not np.isfinite(found).all() else found


def load_quick() -> None:
    """Load what reads and writes files of all formats but the slow ones: for a process whose children should not have to."""
    for f in FORMATS:
        if not f.slow:
            for part in (f.read, f.write, f.normals):
                assert callable(part)
