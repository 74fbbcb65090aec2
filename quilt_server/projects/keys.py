"""Keys of objects ("file/number") and islands ("file:number") in settings, when files or islands get other numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


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
