"""Whom rules and steps are for: from patterns to the objects and islands of a state, and back."""

from __future__ import annotations

import glob
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from functools import cached_property

import numpy as np

from ..projects.models import Reading, Snapshot
from ..projects.reading import choose, kinds_of_islands, parts_of
from ..projects.state import readings, source_files
from .model import Who


def fits(name: str, patterns: Sequence[str]) -> bool:
    """Whether a name fits any of some shell patterns."""
    return any(fnmatchcase(name, p) for p in patterns)


def _is_number(pattern: str) -> bool:
    return pattern[:1] == "#" and pattern[1:].isdecimal()


@dataclass
class _Object:
    file: int
    file_name: str
    number: int
    name: str
    path: str
    first: int
    end: int

    @property
    def key(self) -> str:
        return f"{self.file}/{self.number}"

    def fits(self, patterns: Sequence[str]) -> bool:
        """Whether any of some patterns means it: a number in its file, or a name or path."""
        return any(p[1:] == str(self.number) if _is_number(p) else fnmatchcase(self.name, p) or fnmatchcase(self.path, p) for p in patterns)


class People:
    """The objects and islands of a state, by what they are called."""

    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self.names = {k: f.name for k, f in source_files(snapshot).items()}
        self.numbers = {name: k for k, name in self.names.items()}
        self.readings: dict[int, Reading] = {r.file_id: r for r in readings(snapshot)}
        self.objects = [
            _Object(f, self.names[f], n, info["name"], info["path"], *info["islands"])
            for f, r in sorted(self.readings.items())
            for n, info in enumerate(r.objects_info)
        ]

    def counts(self) -> dict[int, int]:
        """How many islands each file has."""
        return {f: r.objects_info[0]["file_islands"] if r.objects_info else 0 for f, r in self.readings.items()}

    @cached_property
    def _materials(self) -> dict[str, list[str]]:
        """Keys of islands by the material of most of their faces."""
        chosen = choose(self.snapshot, whole=True)
        parts = parts_of(chosen)
        kinds, names = kinds_of_islands(chosen, parts, "material")
        keys, out = np.array(parts.names(), object), dict[str, list[str]]()
        for k in np.unique(kinds):
            out.setdefault(names[k], []).extend(keys[kinds == k].tolist())
        return out

    def files(self, patterns: Sequence[str] | None) -> set[int]:
        """The files whose names fit; all where nothing is asked."""
        return set(self.names) if patterns is None else {k for k, name in self.names.items() if fits(name, patterns)}

    def keys(self, who: Who) -> list[str]:
        """Keys of the objects that are meant, or of the islands where these are told by number or material."""
        inside = self.files(who.files)
        found = [o for o in self.objects if o.file in inside and (who.objects is None or o.fits(who.objects))]
        if who.islands is None and who.materials is None:
            return [o.key for o in found]
        out = [f"{f}:{i}" for f in sorted(inside) for i in range(self.counts().get(f, 0))] if who.materials is None else []
        if who.materials is not None:
            out = [
                k for name, keys in self._materials.items() if fits(name, who.materials) for k in keys if int(k.partition(":")[0]) in inside
            ]
        if who.islands is not None:
            wanted = set(who.islands)
            out = [k for k in out if int(k.partition(":")[2]) in wanted]
        if who.objects is not None:
            of = {f"{o.file}:{i}" for o in found for i in range(o.first, o.end)}
            out = [k for k in out if k in of]
        return out

    def islands(self, who: Who) -> list[str]:
        """Keys of islands alone: those of the objects where objects are meant."""
        found = self.keys(who)
        if who.islands is not None or who.materials is not None:
            return found
        of = {o.key: o for o in self.objects}
        return list(dict.fromkeys(f"{of[k].file}:{i}" for k in found for i in range(of[k].first, of[k].end)))

    def called(self, keys: Iterable[str], by_name: bool = False) -> list[Who]:
        """The other way: whom keys of objects and islands mean, file by file. It gives the same keys again. `by_name`: objects are named also where they are all
        that a file has."""
        objects: dict[int, list[int]] = {}
        islands: dict[int, list[int]] = {}
        for key in keys:
            sign = "/" if "/" in key else ":"
            file, _, number = key.partition(sign)
            if int(file) in self.names:
                (objects if sign == "/" else islands).setdefault(int(file), []).append(int(number))
        out = []
        single = len(self.names) == 1
        for f, numbers in objects.items():
            mine = [o for o in self.objects if o.file == f]
            where = None if single else [glob.escape(self.names[f])]
            every = not by_name and set(numbers) >= {o.number for o in mine}
            out.append(Who(files=where, objects=None if every else self._called(mine, numbers)))
        for f, numbers in islands.items():
            out.append(Who(files=[glob.escape(self.names[f])], islands=sorted(set(numbers))))
        return out

    @staticmethod
    def _called(mine: Sequence[_Object], numbers: Iterable[int]) -> list[str]:
        """Patterns that fit these objects of a file and no others: names, paths where names are not enough, numbers where paths are not."""
        uses = Counter(x for o in mine for x in {o.name, o.path})
        out = []
        for n in sorted(set(numbers)):
            o = next((o for o in mine if o.number == n), None)
            if o is None:
                continue
            alone = next((x for x in (o.name, o.path) if x and uses[x] == 1), None)
            pattern = f"#{n}" if alone is None else glob.escape(alone)
            # One that is called like a number is no number.
            out.append(f"[#]{pattern[1:]}" if alone is not None and _is_number(pattern) else pattern)
        return out
