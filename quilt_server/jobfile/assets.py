"""What of a library is one asset, and the name that its results lie under: checked once, here."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import re2

from quilt_core.errors import FileError
from quilt_core.words import UNSHOWN

LONGEST_NAME, LONGEST_PART = 1000, 200  # bytes of a name, and of each folder in it


@dataclass(frozen=True)
class Asset:
    """What becomes one delivery: files of a folder that share their sheets. `name`: its folder below the results; `inner`: that of its files below the library."""

    name: str
    inner: str
    files: tuple[str, ...]


def assets_of(paths: list[str], group: str) -> list[Asset]:
    """The assets that the files of a library make. The results of none lie inside those of another.

    Parameters
    ----------
    paths : below the library
    group : "file" (each is one), "folder" (all of a folder are one), or a regular expression on paths, of which those with the same first group are one

    Raises
    ------
    FileError : the expression is none, or gives a name that cannot be one
    """
    together: dict[str, list[str]] = {}
    if group in ("file", "folder"):
        for p in paths:
            together.setdefault(p if group == "file" else Path(p).parent.as_posix(), []).append(p)
    else:
        of = pattern_of(group)
        for p in paths:
            together.setdefault(_checked(of(p), group, p), []).append(p)
    names = _apart(sorted(together))
    return sorted((_joined(names[k], found) for k, found in together.items()), key=lambda a: a.name)


def _joined(name: str, paths: list[str]) -> Asset:
    inner = os.path.commonpath([str(Path(p).parent) for p in paths])
    return Asset(name, inner or ".", tuple(Path(p).relative_to(inner).as_posix() for p in paths))


def pattern_of(group: str) -> Callable[[str], str]:
    """What gives the asset that a path belongs to, by a regular expression. Its engine takes time with the length of the path, whatever the expression is (RE2).

    Raises
    ------
    FileError : it is none
    """
    if group in ("file", "folder"):
        return lambda path: path
    try:
        options = re2.Options()
        options.log_errors, options.max_mem = False, 8 << 20
        found = re2.compile(group, options)
    except re2.error as e:
        why = str(e.args[0] if e.args else e)
        raise FileError(
            "--group", f"'{group[:80]}' is no regular expression that is taken ({why[:80]})", "",
            "Write file, folder, or one with a group in brackets; it cannot look ahead, behind, or back at a group.",
        ) from e  # fmt: skip

    def of(path: str) -> str:
        match = found.search(path)
        return (match and (match[1] if found.groups else match[0])) or path

    return of


def _checked(name: str, group: str, path: str) -> str:
    """A name that a folder below the results can have.

    Raises
    ------
    FileError : it has none of its own, or leads elsewhere
    """
    name = name.strip("/")
    parts = name.split("/")
    if (
        any(p in ("", ".", "..") or p.startswith(".new-") or len(p.encode()) > LONGEST_PART for p in parts)
        or UNSHOWN.search(name)
        or len(name.encode()) > LONGEST_NAME
    ):
        raise FileError(
            "--group",
            f"'{group[:80]}' finds '{name[:60]}' in {path[:120]}, which cannot be the name of a folder",
            "",
            "Let it find a name.",
        )
    return name


def _apart(names: list[str]) -> dict[str, str]:
    """For each name the one that its results lie under: where others would lie inside it, one beside them."""
    folders = {"/".join(parts[:n]) for name in names if (parts := name.split("/")) for n in range(1, len(parts))}
    taken = (set(names) | folders) - {"."}
    out = {}
    for name in names:
        wanted = "all" if name == "." else name
        if name == "." or name in folders:
            wanted = _free("all" if name == "." else f"{name} (its own files)", taken)
            taken.add(wanted)
        out[name] = wanted
    return out


def _free(name: str, taken: set[str]) -> str:
    """A name that nothing has."""
    found, n = name, 2
    while found in taken:
        found, n = f"{name} {n}", n + 1
    return found
