"""Faults of the machine that the program runs on, told as such: nobody who uses the page can have caused them."""

from __future__ import annotations

import errno
import logging
import sqlite3
import sys

from django.db import DatabaseError
from django.http import HttpRequest, HttpResponse, JsonResponse

from .projects.files import NoRoom

log = logging.getLogger("quilt")
_DISK = {errno.ENOSPC: "the disk is full", errno.EDQUOT: "the disk is full", errno.EROFS: "it is read-only", errno.EACCES: "it may not be written",
         errno.EIO: "the disk fails", errno.EFBIG: "files may not grow there"}  # fmt: skip
_DATABASE = (
    ("locked", "another program holds the database"),
    ("full", "the disk is full"),
    ("readonly", "it is read-only"),
    ("unable to open", "the folder is gone or may not be read"),
    ("disk i/o", "the disk fails or is full"),
    ("no such table", "the database in it is not ours any more"),
    ("malformed", "the database is damaged"),
)
AGAIN = "Nothing that was saved is lost. Do it again in a moment."


def of_machine(error: BaseException | None) -> str | None:
    """What is wrong with the machine, as a sentence with its remedy; None where the error is of another kind."""
    seen = set[int]()
    while error is not None and id(error) not in seen:
        seen.add(id(error))
        if isinstance(error, NoRoom):
            return str(error)
        if isinstance(error, MemoryError):
            return f"There is not enough memory for this just now. {AGAIN}"
        if isinstance(error, DatabaseError | sqlite3.Error):
            text = str(error).lower()
            why = next((words for sign, words in _DATABASE if sign in text), None)
            if why is not None:
                return f"The data folder cannot be used ({why}). {AGAIN}"
        if isinstance(error, OSError) and error.errno in _DISK:
            return f"The data folder cannot be written ({_DISK[error.errno]}). {AGAIN}"
        error = error.__cause__ or error.__context__
    return None


def answer(error: BaseException | None, what: str) -> HttpResponse:
    """The answer to a request that an error ended: 503 where it is the machine's, else 500; a line in the log either way."""
    told = of_machine(error)
    if told is not None:
        log.error("%s: %s (%s)", what, told, error)
        return JsonResponse({"detail": told}, status=503, headers={"Retry-After": "5"})
    log.error("%s failed", what, exc_info=error)
    return JsonResponse(
        {"detail": "Something went wrong here. The project is as it was; the details are in logs/quilt.log of the data folder."}, status=500
    )


def server_error(request: HttpRequest) -> HttpResponse:
    """Django's handler of errors that nothing else caught."""
    return answer(sys.exc_info()[1], f"{request.method} {request.path}")
