"""Keys of objects ("file/number") and islands ("file:number") in settings, when files or islands get other numbers."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

BY_KEY = ("weights", "rotations", "sheet_of", "tile_of")  # settings that hold a value for objects and islands
Keys = Callable[[str], list[str]]


def rekeyed(settings: dict[str, Any], keys: Keys, same: Keys | None = None) -> dict[str, Any]:
    """Settings whose rules follow new keys.

    Parameters
    ----------
    keys : gives the new ones of an old key: none for what is gone, several for what was cut
    same : the same, for what is as it was alone: twins are of one shape, and what is held stays where it is; None where that is all

    Returns
    -------
    settings in which groups that are left with too few are dropped
    """
    same = same or keys

    def listed(old: list[str], by: Keys) -> list[str]:
        return list(dict.fromkeys(n for k in old for n in by(k)))

    out = dict(settings)
    for rule in BY_KEY:
        out[rule] = {n: v for k, v in settings.get(rule, {}).items() for n in keys(k)}
    out["held"] = listed(settings["held"], same)
    out["twins"] = [g for g in (listed(t, same) for t in settings["twins"]) if len(g) > 1]
    out["bunches"] = [b | {"members": m} for b in settings["bunches"] if (m := listed(b["members"], keys))]
    out["links"] = [x | {"members": m} for x in settings.get("links", []) if len(m := listed(x["members"], keys)) > 1]
    return out


class FileKeys:
    """Keys of objects and islands of an older file as those of the newer one.

    islands : (n,) the newer number of every older island that is as it was, -1 for others; None where all are; objects : likewise
    parts : the newer islands that hold what was in an older one, where it is not as it was
    elsewhere : whether islands in other channels than the one that is worked on are as they were
    """

    def __init__(
        self,
        old: int,
        new: int,
        islands: NDArray[np.int64] | None,
        objects: dict[int, int] | None = None,
        parts: Mapping[int, list[int]] | None = None,
        elsewhere: bool = True,
    ) -> None:
        self.old, self.new, self.islands, self.objects, self.parts = str(old), str(new), islands, objects, parts or {}
        self.elsewhere = elsewhere

    def same(self, k: str) -> list[str]:
        """The newer key, none where what it named is gone or changed."""
        sign = "/" if "/" in k else ":"
        file, _, number = k.partition(sign)
        if file != self.old:
            return [k]
        if sign == "/":
            n = int(number) if self.objects is None else self.objects.get(int(number), -1)
        elif self.islands is None:
            n = int(number)
        else:
            n = int(self.islands[int(number)]) if int(number) < len(self.islands) else -1
        return [] if n < 0 else [f"{self.new}{sign}{n}"]

    def keys(self, k: str) -> list[str]:
        """The newer keys of all that it named."""
        file, _, number = k.partition(":")
        if file == self.old and number.isdecimal() and int(number) in self.parts:
            return [f"{self.new}:{n}" for n in self.parts[int(number)]]
        return self.same(k)

    def settings(self, settings: dict[str, Any]) -> dict[str, Any]:
        """All rules of the settings with newer keys."""
        out = rekeyed(settings, self.keys, self.same)
        # What holds for islands in other channels counts those.
        there = FileKeys(int(self.old), int(self.new), None if self.elsewhere else np.zeros(0, np.int64), self.objects)
        out["shelved"] = {c: rekeyed(rules, there.keys) for c, rules in settings.get("shelved", {}).items()}
        return out
