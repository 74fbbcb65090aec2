"""What was made of snapshots, kept for the last few: they never change, and every page asks for it again and again."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Generic, TypeVar

from .models import Snapshot

T = TypeVar("T")


class Recent(Generic[T]):
    """Makes something of a snapshot, once for each of the last few that are saved; threads of the web process share it."""

    def __init__(self, most: int, make: Callable[[Snapshot], T]) -> None:
        self.most, self.make, self.lock = most, make, Lock()
        self.kept: OrderedDict[tuple[int, str, int], T] = OrderedDict()

    def __call__(self, snapshot: Snapshot) -> T:
        """What is made of a snapshot."""
        # It changes only with what a newer program measures of its layout. Numbers of rows come again in the databases of tests, so the moment counts too.
        key = (snapshot.pk or 0, str(snapshot.created), snapshot.layout.measured if snapshot.layout else 0)
        with self.lock:
            if key in self.kept:
                self.kept.move_to_end(key)
                return self.kept[key]
        found = self.make(snapshot)
        if snapshot.pk:
            with self.lock:
                self.kept[key] = found
                while len(self.kept) > self.most:
                    self.kept.popitem(last=False)
        return found
