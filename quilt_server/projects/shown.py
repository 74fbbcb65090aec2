"""Pictures as the browser shows them: made small once, one at a time, and kept; large ones in a process of their own."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from threading import Lock

from django.conf import settings

from quilt_core.errors import QuiltError
from quilt_core.formats.pictures import shown, size_of

from . import files

ENDING = ".shown"
_HERE = 2048 * 2048  # pixels of a picture that is made small in the web process itself
_one = Lock()


def kept(name: str, px: int, source: Callable[[Path], Path], called: str = "the picture", plain: bool = False) -> bytes:
    """A picture as PNG of at most about so many px.

    Parameters
    ----------
    name : of what it is made from, which never changes
    source : where its file stands, asked for once; it gets a folder for one that has to be taken out of something
    called : its name for errors; plain : see `pictures.shown`

    Raises
    ------
    QuiltError : it cannot be read, or is too large
    """
    side = 16
    while side < min(px, 4096):
        side *= 2
    path = files.folder("derived") / f"{name}.{side}{ENDING}"
    with _one:
        try:
            return path.read_bytes()
        except OSError:
            pass
        with tempfile.TemporaryDirectory(dir=path.parent, prefix=".new-") as folder:
            picture = source(Path(folder))
            size = size_of(picture)
            if size is None or size[0] * size[1] <= _HERE:
                body = shown(picture, side, settings.QUILT_PICTURE_PIXELS, called, plain)
            else:
                body = _apart(picture, Path(folder) / "made", side, called, plain)
        files.write_whole(path, body)
        return body


def of_original(sha: str, px: int, called: str = "the picture") -> bytes:
    """The same of one that was brought in."""
    return kept(sha, px, lambda _: files.path_of(sha), called)


def _apart(picture: Path, target: Path, side: int, called: str, plain: bool) -> bytes:
    command = [sys.executable, "-m", "quilt_cli.shown", str(picture), str(target), str(side), str(settings.QUILT_PICTURE_PIXELS), called]
    path = os.pathsep.join([str(settings.BASE_DIR), *filter(None, [os.environ.get("PYTHONPATH")])])
    done = subprocess.run(
        command + ["plain"] * plain, capture_output=True, timeout=120, env={**os.environ, "PYTHONPATH": path}, check=False
    )
    if done.returncode:
        words = done.stderr.decode(errors="replace").strip().splitlines()
        raise QuiltError(words[-1] if done.returncode == 1 and words else f"{called} takes more memory than it may. Make it smaller.")
    return target.read_bytes()
