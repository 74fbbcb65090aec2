"""A state in which newer files take the place of older ones: their rules, what is left out of them and their layout follow."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Self

from quilt_core.model.scene import Floats

from ..projects.keys import FileKeys
from ..projects.models import Snapshot
from ..projects.state import settings_of


@dataclass
class Succession:
    """What a next snapshot holds; `transforms`: the layout by file, as layouts are kept."""

    files: list[int]
    left_out: list[str]
    settings: dict[str, Any]
    transforms: dict[str, Floats]

    @classmethod
    def of(cls, head: Snapshot, transforms: Mapping[str, Floats], settings: dict[str, Any] | None = None) -> Self:
        """A state as it is, with its layout; `settings` where they are other than its own."""
        return cls(list(head.files), list(head.left_out), settings_of(head) if settings is None else settings, dict(transforms))

    def take(self, places: FileKeys, rows: Floats) -> None:
        """Put a newer file, laid out by `rows` (n, 5), in the place of an older one."""
        self.settings = places.settings(self.settings)
        self.left_out = [n for k in self.left_out for n in places.same(k)]
        self.files = [int(places.new) if str(f) == places.old else f for f in self.files]
        self.transforms.pop(places.old)
        self.transforms[places.new] = rows

    @property
    def changes(self) -> dict[str, Any]:
        """Fields of the new snapshot."""
        return {"files": self.files, "left_out": self.left_out, "settings": self.settings}

    @property
    def snapshot(self) -> Snapshot:
        """The state; not saved."""
        return Snapshot(**self.changes)
