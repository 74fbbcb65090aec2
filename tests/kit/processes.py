"""Processes of the real program in tests: their ports, their children, and waiting for what they do."""

from __future__ import annotations

import contextlib
import socket
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[2]


def free_port() -> int:
    """A port that nobody listens on."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


def wait_for(what: Callable[[], Any], seconds: float = 60.0) -> Any:
    """Wait until something holds and give it; fails when it never does."""
    end = time.monotonic() + seconds
    while True:
        with contextlib.suppress(OSError, ValueError, KeyError):
            if found := what():
                return found
        assert time.monotonic() < end, "it did not happen"
        time.sleep(0.1)


def children(pid: int) -> list[int]:
    """Processes whose parent is `pid`, from Linux' /proc."""
    found = []
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = stat.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == pid and fields[0] != "Z":
            found.append(int(stat.parent.name))
    return found
