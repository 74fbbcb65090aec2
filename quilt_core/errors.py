"""The errors that a user can cause, each with a sentence that says what to do about it."""

from __future__ import annotations


class QuiltError(Exception):
    """Something the user can mend. `str()` is one complete line for people."""


class FileError(QuiltError):
    """A file that cannot be read or written.

    Parameters
    ----------
    file : name of the file as the user knows it
    what : what is wrong, without a full stop
    where : the place inside the file ("line 12", "accessor 3"), or empty
    remedy : what the user can do, or empty
    """

    def __init__(self, file: str, what: str, where: str = "", remedy: str = "") -> None:
        self.file, self.what, self.where, self.remedy = file, what, where, remedy
        text = f"{file}: {where + ': ' if where else ''}{what}"
        end = "" if text.endswith(("?", ".")) else "."
        super().__init__(f"{text}{end} {remedy}" if remedy else text)


class DoesNotFit(QuiltError):
    """The islands do not fit at the density that has to be held.

    `islands` holds the indices of those that found no place; `best_density` is the greatest common
    density that did fit, as a share of the one asked for, or None when not even that is known.
    """

    def __init__(self, message: str, islands: list[int], best_density: float | None = None) -> None:
        super().__init__(message)
        self.islands, self.best_density = islands, best_density


class NothingToDo(QuiltError):
    """What was asked for is so already: an error for whoever pressed a button, none for a job that runs again."""


class Cancelled(QuiltError):
    """The user stopped the work before there was a result."""
