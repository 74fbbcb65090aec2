"""Computations side by side, that can be stopped."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from threading import Event
from typing import TypeVar

from ..errors import Cancelled

T = TypeVar("T")
Stop = Callable[[], bool]
_ASKED = 0.2  # seconds between the questions whether to stop, while the other thread goes on alone


def side_by_side(tasks: Sequence[Callable[[Stop], T]], stop: Stop) -> list[T]:
    """The results of tasks that two threads do, one of them the calling one. It alone asks `stop`: what that asks (a database, often) may belong to it.

    Raises
    ------
    Cancelled : it was stopped; and what any of them raises. Nothing goes on then.
    """
    halt = Event()
    todo, out = deque(enumerate(tasks)), dict[int, T]()

    def heard() -> bool:
        if stop():
            halt.set()
        return halt.is_set()

    def work(ask: Stop) -> None:
        while todo:
            try:
                number, task = todo.popleft()
            except IndexError:  # the other one took the last
                return
            out[number] = task(ask)

    def beside() -> None:
        try:
            work(halt.is_set)
        except BaseException:
            halt.set()
            raise

    with ThreadPoolExecutor(1) as pool:
        other = pool.submit(beside)
        try:
            work(heard)
            while not wait([other], _ASKED).done:
                heard()
            other.result()
        except BaseException as e:
            halt.set()
            todo.clear()
            wait([other])
            cause = other.exception()
            # Of two, what went wrong is told, not that the other one was stopped for it.
            if isinstance(e, Cancelled) and cause is not None and not isinstance(cause, Cancelled):
                raise cause from None
            raise
    return [out[k] for k in range(len(tasks))]
