"""Only one program works on a data folder at a time."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path


class Taken(Exception):
    """Somebody else works on the data folder already; says who."""


def take(folder: Path, what: str) -> int:
    """Take a data folder for `what` until this process ends; returns the lock's file descriptor, which children close.

    Raises
    ------
    Taken : another process has it
    """
    folder.mkdir(parents=True, exist_ok=True)
    handle = os.open(folder / f"{what}.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as e:
        who = os.pread(handle, 100, 0).decode(errors="replace").strip()
        os.close(handle)
        raise Taken(f"The data folder {folder} is in use already{f' by process {who}' if who else ''}.") from e
    os.ftruncate(handle, 0)
    os.pwrite(handle, str(os.getpid()).encode(), 0)
    return handle
