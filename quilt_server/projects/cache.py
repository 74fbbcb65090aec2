"""What was made once and is kept for a while: bounded by what it holds, and safe for all threads of the web process."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

T = TypeVar("T")


class Cache(Generic[T]):
    """The last things that were asked for, `room` of them by `size`; the last one always.

    Threads that miss the same thing at the same time each make it, and one is kept and counted.
    """

    def __init__(self, room: int, size: Callable[[T], int] = lambda _: 1) -> None:
        self._kept: LRUCache[Hashable, T] = LRUCache(room, getsizeof=lambda value: min(size(value), room))
        self._lock = Lock()

    def get(self, key: Hashable) -> T | None:
        """What is kept under a key; None where nothing is."""
        with self._lock:
            return self._kept.get(key)

    def keep(self, key: Hashable, value: T) -> T:
        """Keep something, and let go what was not asked for for longest."""
        with self._lock:
            self._kept[key] = value
        return value

    def clear(self) -> None:
        """Let go of everything."""
        with self._lock:
            self._kept.clear()

    @property
    def booked(self) -> tuple[int, int]:
        """How many things are kept, and how large they count."""
        with self._lock:
            return len(self._kept), int(self._kept.currsize)
