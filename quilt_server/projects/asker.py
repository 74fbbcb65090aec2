"""Who asks just now: set for a request or a job, and written into what is made meanwhile."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from enum import IntEnum


class Right(IntEnum):
    """What an address asks of who calls it. ANYBODY: nothing, not even to be signed in; SIGNED_IN: of no one project; the others: of the project that it names."""

    ANYBODY, SIGNED_IN, LOOK, CHANGE, OWN = range(5)


@dataclass(frozen=True)
class Asker:
    """A signed-in person by number, None where nobody has to sign in; and the right that what is asked needs."""

    user: int | None = None
    right: Right = Right.LOOK


_NOBODY = Asker()
_asker: ContextVar[Asker] = ContextVar("asker", default=_NOBODY)


def asker() -> Asker:
    """Who asks."""
    return _asker.get()


def current_id() -> int | None:
    """The number of who asks, for rows that say who made them."""
    return _asker.get().user


@contextmanager
def asked_by(user: int | None, right: Right = Right.LOOK) -> Iterator[None]:
    """What is done meanwhile is asked by somebody, and needs a right."""
    token = _asker.set(Asker(user, right))
    try:
        yield
    finally:
        _asker.reset(token)
