"""Findings as a list for people: how many, where, how heavy, and what to do; at a map size, padding and band."""

from __future__ import annotations

import pkgutil
from collections.abc import Callable, Mapping
from importlib import import_module

from . import kinds
from .fault import Fault, Limits
from .findings import Findings

KINDS: Mapping[str, Callable[[Findings, Limits], Fault | None]] = {
    m.name: import_module(f"{kinds.__name__}.{m.name}").found for m in pkgutil.iter_modules(kinds.__path__)
}


def listing(f: Findings, limits: Limits) -> list[Fault]:
    """All faults that were found, the heaviest first."""
    found = [make(f, limits) for make in KINDS.values()]
    return sorted((x for x in found if x is not None and x.count), key=lambda x: (-x.heavy, -x.count))
