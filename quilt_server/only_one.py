"""Only one program works on a data folder at a time, and only on one that it can use."""

from __future__ import annotations

import fcntl
import os
import sqlite3
from contextlib import closing
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


def unusable(data: Path) -> str | None:
    """What is wrong with a data folder, tried by writing into it; None where it can be used."""
    trial = data / ".trial"
    try:
        trial.write_bytes(b"x" * 65536)
        trial.unlink()
        with closing(sqlite3.connect(data / "quilt.sqlite3", timeout=20)) as db:
            db.execute("PRAGMA journal_mode=WAL")
            db.execute("CREATE TABLE IF NOT EXISTS quilt_trial (x)")
            db.execute("DROP TABLE quilt_trial")
    except (OSError, sqlite3.Error) as e:
        why = e.strerror if isinstance(e, OSError) and e.strerror else str(e)
        return f"the data folder {data} cannot be used ({why}). Mend that, or choose another with --data."
    return None
