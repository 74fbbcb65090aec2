"""Keys of objects ("file/number") and islands ("file:number") in settings, when files or islands get other numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray


def rekeyed(settings: dict[str, Any], key: Callable[[str], str | None]) -> dict[str, Any]:
    """Settings whose rules follow new keys; `key` gives the new one, None for what is gone. Groups that are left with too few are dropped."""

    def listed(keys: list[str]) -> list[str]:
        return list(dict.fromkeys(n for n in map(key, keys) if n is not None))

    out = dict(settings)
    for rule in ("weights", "rotations", "sheet_of"):
        out[rule] = {n: v for k, v in settings[rule].items() if (n := key(k)) is not None}
    out["held"] = listed(settings["held"])
    out["twins"] = [g for g in map(listed, settings["twins"]) if len(g) > 1]
    out["bunches"] = [b | {"members": m} for b in settings["bunches"] if (m := listed(b["members"]))]
    return out


class FileKeys:
    """Keys of objects and islands of an older file as those of the newer one."""

    def __init__(self, old: int, new: int, islands: NDArray[np.int64], objects: dict[int, int]) -> None:
        self.old, self.new, self.islands, self.objects = str(old), str(new), islands, objects

    def key(self, k: str) -> str | None:
        """The newer key; None where what it named is gone or changed."""
        sign = "/" if "/" in k else ":"
        file, _, number = k.partition(sign)
        if file != self.old:
            return k
        if sign == "/":
            n = self.objects.get(int(number), -1)
        else:
            n = int(self.islands[int(number)]) if int(number) < len(self.islands) else -1
        return None if n < 0 else f"{self.new}{sign}{n}"

    def settings(self, settings: dict[str, Any]) -> dict[str, Any]:
        """All rules of the settings with newer keys."""
        out = rekeyed(settings, self.key)
        out["welded"] = [int(self.new) if str(f) == self.old else f for f in settings["welded"]]
        return out
