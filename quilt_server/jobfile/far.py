"""Libraries and results at an address: whatever fsspec opens (shares, object stores, FTP, archives). What a job needs of it is fetched; what it puts out is sent."""

from __future__ import annotations

import hashlib
import json
import os
import posixpath
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any

from quilt_cli.files import Beside
from quilt_core.errors import FileError, QuiltError

from .results import REPORT, Report, files_of, report_of

_PART = 1 << 20


def is_far(where: str) -> bool:
    """Whether something is an address and no path."""
    return "://" in where or "::" in where


def _told(url: str) -> str:
    """An address without the password in it."""
    return re.sub(r"//[^/@]*@", "//", url)[:200]


class Far:
    """A folder at an address. `inner`: one below it, which paths are counted from."""

    def __init__(self, url: str, inner: str = "") -> None:
        self.url, self.inner = url, "" if inner == "." else inner
        self._opened: tuple[int, Any, str] | None = None

    def __str__(self) -> str:
        return _told(self.url)

    def _open(self) -> tuple[Any, str]:
        """The filesystem and the path in it; another connection in each process."""
        if self._opened is None or self._opened[0] != os.getpid():
            import fsspec

            with self._telling(""):
                fs, base = fsspec.core.url_to_fs(self.url)
            # What others write meanwhile has to be seen.
            fs.invalidate_cache()
            self._opened = os.getpid(), fs, base.rstrip("/")
        return self._opened[1:]

    @contextmanager
    def _telling(self, rel: str) -> Iterator[None]:
        """What goes wrong at an address is told of it: each kind of filesystem has exceptions of its own."""
        try:
            yield
        except QuiltError:
            raise
        except ImportError as e:
            raise FileError(str(self), f"this kind of address needs a package more ({e})", "", "Install it beside untold-quilt.") from e
        except Exception as e:
            what = str(e).strip().splitlines()[0][:120] if str(e).strip() else type(e).__name__
            where = posixpath.join(str(self), rel) if rel else str(self)
            raise FileError(
                where, f"it cannot be used ({_told(what)})", "", "Check the address, and whether this machine may use it."
            ) from e

    def _at(self, rel: str) -> str:
        """A path in the filesystem; only below the address."""
        path = posixpath.normpath(posixpath.join(self.inner, rel))
        if path.startswith(("..", "/")):
            raise FileError(rel, f"it lies outside {self}", "", "Name the folder above it.")
        base = self._open()[1]
        return f"{base}/{path}" if base else path

    @property
    def address(self) -> str:
        """See `Place`."""
        return posixpath.join(self.url, self.inner) if self.inner else self.url

    @cached_property
    def _sizes(self) -> dict[str, int]:
        """Bytes of all files below the address, by path."""
        fs, base = self._open()
        with self._telling(""):
            found = fs.find(base, detail=True)
        return {name[len(base) :].strip("/"): int(info.get("size") or 0) for name, info in found.items()}

    def files(self) -> Iterator[str]:
        """See `Place`."""
        return (p for p in self._sizes if not any(n.startswith(".") for n in p.split("/")))

    def size(self, path: str) -> int:
        """See `Place`."""
        return self._sizes.get(path, 0)

    def names(self, folder: str) -> list[str]:
        """The files in a folder, not below it; none where it is not there."""
        fs, _ = self._open()
        try:
            found = fs.ls(self._at(folder), detail=True)
        except FileNotFoundError:
            return []
        return sorted(posixpath.basename(i["name"].rstrip("/")) for i in found if i["type"] == "file")

    def sha(self, rel: str) -> str | None:
        """The SHA-256 of a file, None where it is gone."""
        found = hashlib.sha256()
        try:
            with self._open()[0].open(self._at(rel), "rb") as f:
                while part := f.read(_PART):
                    found.update(part)
        except (OSError, KeyError, FileError):
            return None
        return found.hexdigest()

    def read(self, rel: str) -> bytes | None:
        """The bytes of a file, None where there is none."""
        try:
            with self._open()[0].open(self._at(rel), "rb") as f:
                body: bytes = f.read()
                return body
        except (FileNotFoundError, KeyError):
            return None

    def fetch(self, rel: str, target: Path) -> bool:
        """Copy a file here; whether there is one."""
        fs, _ = self._open()
        with self._telling(rel):
            path = self._at(rel)
            if not fs.isfile(path):
                return False
            target.parent.mkdir(parents=True, exist_ok=True)
            new = target.with_name(f".new-{target.name}")
            with fs.open(path, "rb") as f, new.open("wb") as out:
                shutil.copyfileobj(f, out, _PART)
            os.replace(new, target)
        return True

    def send(self, rel: str, body: bytes) -> None:
        """Write a file."""
        fs, _ = self._open()
        with self._telling(rel):
            path = self._at(rel)
            fs.makedirs(posixpath.dirname(path), exist_ok=True)
            with fs.open(path, "wb") as f:
                f.write(body)

    def _remove(self, rel: str) -> None:
        """Delete a file, where there is one."""
        fs, _ = self._open()
        with self._telling(rel):
            if fs.exists(self._at(rel)):
                fs.rm_file(self._at(rel))

    def below(self, inner: str) -> Far:
        """See `Place`."""
        return Far(self.url, posixpath.join(self.inner, inner))

    def put(self, files: dict[str, bytes], report: Report) -> None:
        """See `Place`. There is no moment at which an address changes as a whole: what is there counts once its report is, which goes first and comes last.

        Raises
        ------
        FileError : it cannot be written
        """
        old = files_of(report_of(self.read))
        self._remove(REPORT)
        for path, body in files.items():
            self.send(path, body)
        for path in sorted(old - set(files)):
            self._remove(path)
        self.send(REPORT, json.dumps(report, indent=2).encode() + b"\n")

    def at_hand(self, files: list[str], scratch: Path) -> tuple[Path, Path]:
        """See `Place`: they are fetched into a folder below `scratch`, and so is what they name as this process asks for it.

        Raises
        ------
        FileError : one that is gone, or cannot be fetched
        """
        root = scratch.resolve() / "there"
        folder = root / self.inner
        Beside.mirror = Mirror(Far(self.url), root)
        for name in files:
            if not self.fetch(name, folder / name):
                raise FileError(name, f"it is not at {self} any more")
        return folder, root

    def sweep(self) -> None:
        """See `Place`: what is half written has no report."""


class Mirror:
    """The part of an address that a job has asked for, in a folder of this machine."""

    def __init__(self, far: Far, folder: Path) -> None:
        self.far, self.folder = far, folder.resolve()
        self._names: dict[str, list[str]] = {}

    def fetch(self, path: Path) -> None:
        """Have a file here, where there is one."""
        if path.is_relative_to(self.folder) and not path.exists():
            self.far.fetch(path.relative_to(self.folder).as_posix(), path)

    def names(self, folder: Path) -> list[str]:
        """The files in a folder there."""
        if not folder.is_relative_to(self.folder):
            return []
        inner = folder.relative_to(self.folder).as_posix()
        if inner not in self._names:
            self._names[inner] = self.far.names(inner)
        return self._names[inner]
