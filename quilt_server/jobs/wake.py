"""How the web process tells the worker that there is work: a datagram on loopback, so that the worker sleeps until there is something to do. Whatever is lost on
the way is found when the worker looks by itself."""

from __future__ import annotations

import contextlib
import select
import signal
import socket
from pathlib import Path

from django.conf import settings

from ..projects.files import NoRoom, write_whole

_AT_ONCE = 256  # datagrams that are taken in one go


def _path() -> Path:
    """The file that says at which port the worker listens."""
    return Path(settings.DATA_DIR) / "wake"


def wake() -> None:
    """There is a new job, or one should stop."""
    try:
        port = int(_path().read_text() or 0)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
            s.sendto(b"!", ("127.0.0.1", port))
    except (OSError, ValueError, OverflowError):
        return  # no worker listens just now; the next one looks when it starts


class Bell:
    """The worker's end: rung by `wake`, and by the end of a child process."""

    def __init__(self) -> None:
        self.called = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.called.bind(("127.0.0.1", 0))
        self.ended, inner = socket.socketpair()
        for s in (self.called, self.ended, inner):
            s.setblocking(False)
        self._inner = inner
        signal.set_wakeup_fd(inner.fileno(), warn_on_full_buffer=False)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        with contextlib.suppress(OSError, NoRoom):  # a folder that cannot be written: the worker looks by itself
            write_whole(_path(), str(self.called.getsockname()[1]).encode())

    def wait(self, seconds: float) -> None:
        """Sleep until somebody rings, at most so long."""
        ready, _, _ = select.select([self.called, self.ended], [], [], seconds)
        for s in ready:
            with contextlib.suppress(BlockingIOError):
                for _ in range(_AT_ONCE):
                    s.recv(64)

    def leave(self) -> None:
        """A child of the worker hears nothing of this."""
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        for s in (self.called, self.ended, self._inner):
            s.close()
