"""Low meshes and the detailed ones that they are baked from, told by their names."""

from __future__ import annotations

from collections.abc import Sequence

Key = tuple[int, int]  # a file and an object in it, by their numbers


def partner(name: str) -> tuple[str, bool] | None:
    """The name without its suffix and whether it is the detailed one, for names that end in _low or _high; None for others."""
    low = name.lower()
    for suffix, high in (("_low", False), ("_high", True)):
        if low.endswith(suffix):
            return low[: -len(suffix)], high
    return None


def pairs_by_name(names: Sequence[Sequence[str]]) -> dict[Key, Key]:
    """The detailed object of each low one, where one called `_high` has one called `_low`.

    Parameters
    ----------
    names : of the objects of each file
    """
    found: dict[str, dict[bool, Key]] = {}
    for f, objects in enumerate(names):
        for n, name in enumerate(objects):
            pair = partner(name)
            if pair:
                found.setdefault(pair[0], {}).setdefault(pair[1], (f, n))
    return {both[False]: both[True] for both in found.values() if len(both) == 2}


def details(names: Sequence[Sequence[str]], bare: Sequence[Sequence[bool]]) -> dict[Key, Key]:
    """The low object of each detailed one that has no UVs, and needs none: others are baked from it.

    Parameters
    ----------
    names : of the objects of each file; bare : whether each has no UVs at all
    """
    return {high: low for low, high in pairs_by_name(names).items() if bare[high[0]][high[1]]}
