"""The log: one file in the data folder that all processes write to, with a few older ones behind it."""

from __future__ import annotations

import fcntl
import logging
import os
from pathlib import Path
from typing import Any

NAME = "quilt.log"
_LARGEST, _OLDER = 2 << 20, 5


def log_path(data: Path) -> Path:
    """Where the log stands."""
    return data / "logs" / NAME


class SharedLog(logging.Handler):
    """Appends lines to a file that several processes share, and turns to a new one when it has grown; what cannot be written is said on standard error."""

    def __init__(self, path: str) -> None:
        super().__init__()
        self.path = Path(path)

    def emit(self, record: logging.LogRecord) -> None:
        """Write a record."""
        try:
            line = (self.format(record) + "\n").encode(errors="replace")
            self.path.parent.mkdir(exist_ok=True)  # never the data folder itself: where that is gone, it stays so
            with self.path.open("ab") as f:
                fcntl.flock(f, fcntl.LOCK_EX)
                # Whoever waited for the lock may hold a file that was turned meanwhile; its line is in the older one then.
                f.write(line)
                f.flush()
                if f.tell() > _LARGEST and os.fstat(f.fileno()).st_ino == self.path.stat().st_ino:
                    self._turn()
        except Exception:
            self.handleError(record)

    def _turn(self) -> None:
        for n in range(_OLDER, 0, -1):
            newer = self.path if n == 1 else self.path.with_suffix(f".{n - 1}.log")
            if newer.exists():
                newer.replace(self.path.with_suffix(f".{n}.log"))


def config(data: Path) -> dict[str, Any]:
    """Django's setting LOGGING: warnings and errors of ours and of the web, without requests that were only refused."""
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {"line": {"format": "{asctime} {levelname} {process} {name}: {message}", "style": "{"}},
        "handlers": {
            "file": {"class": "quilt_server.logs.SharedLog", "path": str(log_path(data)), "formatter": "line"},
            "screen": {"class": "logging.StreamHandler", "formatter": "line"},
        },
        "loggers": {
            "quilt": {"handlers": ["file", "screen"], "level": "INFO", "propagate": True},
            "django.request": {"handlers": ["file"], "level": "ERROR", "propagate": True},
            "waitress": {"handlers": ["file"], "level": "ERROR"},
        },
    }
