"""One module for each kind of job, or for two that share most: its `KINDS` are found here by standing in this folder."""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import Any

from quilt_core.errors import QuiltError

from ..kind import Kind

ALL: dict[str, Kind] = {k.name: k for m in pkgutil.iter_modules(__path__) for k in import_module(f"{__name__}.{m.name}").KINDS}


def checked(kind: str, params: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a job, typed and checked.

    Raises
    ------
    QuiltError : unknown work, or parameters that cannot work
    """
    if kind not in ALL:
        raise QuiltError(f"'{kind[:40]}' is not work that can be started.")
    return ALL[kind].params(params, settings)
