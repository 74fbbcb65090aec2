"""Two computations at once, that can be stopped."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from threading import Event
from typing import TypeVar

from .trial import Stop

T = TypeVar("T")
_ASKED = 0.2  # seconds between the questions whether to stop, while the second one goes on alone


def side_by_side(first: Callable[[Stop], T], second: Callable[[Stop], T], stop: Stop) -> tuple[T, T]:
    """The results of both. The first runs in the calling thread, which alone asks `stop`: what it asks (a database, often) may belong to that thread.

    Raises
    ------
    Cancelled : it was stopped; and what either raises. Nothing goes on then.
    """
    halt = Event()

    def heard() -> bool:
        if stop():
            halt.set()
        return halt.is_set()

    with ThreadPoolExecutor(1) as pool:
        other = pool.submit(second, halt.is_set)
        try:
            one = first(heard)
            while not wait([other], _ASKED).done:
                heard()
            return one, other.result()
        except BaseException:
            halt.set()
            raise
