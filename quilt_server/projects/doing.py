"""What is being done just now, for the states that it leads to: they keep it, so that a project can be saved as a job and done again.

Files have other numbers in every project, so what is kept names them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

# Parameters of jobs that hold something for each file, and those that list objects.
BY_FILE = ("islands", "edges", "faces", "points", "rows")
OF_OBJECTS = ("objects", "left_out")
# Not kept: which state it was asked for on, what came from outside, and settings, which the state has itself.
_LEFT = ("base", "label", "files", "settings", "left_out", "unit_m", "proposals")
_doing: ContextVar[tuple[str, dict[str, Any]] | None] = ContextVar("doing", default=None)


@contextmanager
def doing(kind: str, params: Mapping[str, Any]) -> Iterator[None]:
    """What is done meanwhile is a job of this kind."""
    token = _doing.set((kind, dict(params)))
    try:
        yield
    finally:
        _doing.reset(token)


def work_now(names: Mapping[int, str]) -> list[dict[str, Any]]:
    """The work that makes a state, as it keeps it; empty where no job does. `names`: of the files that it is done to, by number."""
    now = _doing.get()
    if now is None:
        return []
    kind, params = now
    return [{"do": kind, **with_files({k: v for k, v in params.items() if k not in _LEFT}, lambda number: names.get(int(number), ""))}]


def with_files(params: Mapping[str, Any], of: Callable[[str], str | int]) -> dict[str, Any]:
    """Parameters of a job with files called otherwise: numbers in place of names, or names in place of numbers. What is of no file is left out."""
    out = dict(params)
    for k in BY_FILE:
        if isinstance(out.get(k), dict):
            out[k] = {str(new): v for f, v in out[k].items() if (new := of(f)) != ""}
    for k in OF_OBJECTS:
        if isinstance(out.get(k), list):
            parted = [str(key).rpartition("/") for key in out[k]]
            out[k] = [f"{new}/{number}" for f, _, number in parted if (new := of(f)) != ""]
    if isinstance(out.get("strokes"), list):
        out["strokes"] = [s | {"file": new} for s in out["strokes"] if (new := of(str(s["file"]))) != ""]
    return out
