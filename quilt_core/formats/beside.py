"""Files that came together: what a relative path in one of them means. Nothing outside them is ever opened."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from functools import lru_cache
from typing import TypeVar
from urllib.parse import unquote

T = TypeVar("T")


def find_resource(uri: str, resources: Mapping[str, bytes]) -> str | None:
    """The path among `resources` that a relative reference means, by any case of letters where that is the only one; None where there is none."""
    wanted = posixpath.normpath(unquote(uri).replace("\\", "/"))
    if wanted in resources:
        return wanted
    matches = [p for p in resources if p.lower() == wanted.lower()]
    return matches[0] if len(matches) == 1 else None


def seen_from(folder: str, bodies: Mapping[str, T]) -> dict[str, T]:
    """Files that came together as they are seen from a folder among them: by relative path, those above it with `../`.

    Parameters
    ----------
    folder : empty for the top; bodies : what they hold, or what stands for it, by relative path without any `..`
    """
    return {_joined(_way(posixpath.dirname(p), folder), posixpath.basename(p)): body for p, body in bodies.items()}


@lru_cache(maxsize=4096)
def _way(to: str, start: str) -> str:
    """The way from one folder to another; kits have many files in few folders, so it is looked up more often than found."""
    return posixpath.relpath(to or ".", start or ".")


def _joined(way: str, name: str) -> str:
    return name if way == "." else f"{way}/{name}"
