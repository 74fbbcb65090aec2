"""Who asks just now: set for a request or a job, and written into what is made meanwhile."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass


@dataclass(frozen=True)
class Asker:
    """A signed-in person by number, None where nobody has to sign in; and whether what is asked changes anything."""

    user: int | None = None
    changes: bool = False


_NOBODY = Asker()
_asker: ContextVar[Asker] = ContextVar("asker", default=_NOBODY)


def asker() -> Asker:
    """Who asks."""
    return _asker.get()


def current_id() -> int | None:
    """The number of who asks, for rows that say who made them."""
    return _asker.get().user


@contextmanager
def asked_by(user: int | None, changes: bool = False) -> Iterator[None]:
    """What is done meanwhile is asked by somebody."""
    token = _asker.set(Asker(user, changes))
    try:
        yield
    finally:
        _asker.reset(token)
