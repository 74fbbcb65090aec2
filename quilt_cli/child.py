"""Work in a child process with bounds on its memory and time: a damaged file ends an attempt, never the program."""

from __future__ import annotations

import contextlib
import ctypes
import os
import pickle
import resource
import select
import signal
import sys
import time
import traceback
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from quilt_core.errors import Cancelled, FileError, QuiltError
from quilt_core.model.scene import Scene

T = TypeVar("T")
_PR_SET_PDEATHSIG = 1
_MB = 1 << 20


@dataclass(frozen=True)
class Bounds:
    """How much work on so many bytes may take: memory beyond what the process has already, and time.

    times, room : memory in bytes is times * size + room
    seconds, per_mb : time in s is seconds + per_mb * size / 2^20
    """

    times: float = 40.0
    room: int = 200 * _MB
    seconds: float = 20.0
    per_mb: float = 5.0

    def memory(self, size: int) -> int:
        """Bytes that may be taken."""
        return int(self.times * size) + self.room

    def time(self, size: int) -> float:
        """Seconds that may pass."""
        return self.seconds + self.per_mb * size / _MB


READING = Bounds()
# Opening a zip onto the disk: its size says little of how much comes out, the limits of uploads do.
UNPACKING = Bounds(times=2.0, seconds=300.0)
# Finding islands in what was read, by the bytes of its arrays; machines are slow when they are busy.
FINDING = Bounds(times=40.0, room=400 * _MB, seconds=120.0, per_mb=10.0)


def die_with_parent() -> None:
    """Ask Linux to end this process when its parent ends, however that happens."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def taken() -> int:
    """Bytes of memory that this process has for its data."""
    with open("/proc/self/status", "rb") as f:
        for line in f:
            if line.startswith(b"VmData:"):
                return int(line.split()[1]) * 1024
    return 0


class Limit:
    """The bound on this process's memory and time, for children only: it can be moved while the work goes on."""

    def __init__(self) -> None:
        self.base, self.memory = taken(), 0
        signal.signal(signal.SIGPROF, signal.SIG_DFL)

    def allow(self, bounds: Bounds, size: int) -> None:
        """Let what comes now take what the bounds say for so many bytes: memory beyond what the process had at first, and time of the processor from now."""
        self.memory = bounds.memory(size)
        # A process of the machine's own limits keeps those where they are less.
        with contextlib.suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_DATA, (self.base + self.memory, resource.getrlimit(resource.RLIMIT_DATA)[1]))
        signal.setitimer(signal.ITIMER_PROF, bounds.time(size))

    def lift(self) -> None:
        """No bound any more: what is left is to tell what was found."""
        signal.setitimer(signal.ITIMER_PROF, 0)
        with contextlib.suppress(ValueError, OSError):
            hard = resource.getrlimit(resource.RLIMIT_DATA)[1]
            resource.setrlimit(resource.RLIMIT_DATA, (hard, hard))


class Opened(Mapping[str, bytes]):
    """Files beside one that is read: those that are opened count for its bounds."""

    def __init__(self, files: Mapping[str, bytes], limit: Limit, size: int) -> None:
        self.files, self.limit, self.size, self.known = files, limit, size, set[str]()

    def __getitem__(self, path: str) -> bytes:
        body = self.files[path]
        if path not in self.known:
            self.known.add(path)
            self.size += len(body)
            self.limit.allow(READING, self.size)
        return body

    def __contains__(self, path: object) -> bool:
        return path in self.files

    def __iter__(self) -> Iterator[str]:
        return iter(self.files)

    def __len__(self) -> int:
        return len(self.files)


def bytes_of(scene: Scene) -> int:
    """Bytes of what was read of all meshes."""
    arrays = [m.positions for m in scene.meshes] + [m.triangles for m in scene.meshes]
    return sum(a.nbytes for a in arrays) + sum(c.uvs.nbytes + c.triangles.nbytes for m in scene.meshes for c in m.channels.values())


def bounded(work: Callable[[Limit], T], name: str, size: int, bounds: Bounds = READING, stop: Callable[[], bool] | None = None) -> T:
    """Do work in a child process and give what it returns, which can be pickled.

    Parameters
    ----------
    work : gets its bound, which it may move for what comes after reading
    name : of the file, for errors; size : in bytes, which the bounds follow
    stop : asked a few times a second; the child is ended where it says so

    Raises
    ------
    FileError : the child crashed, or took more memory or time than it may
    Cancelled : it was to stop
    QuiltError : what the work raised
    """
    sys.stdout.flush()
    sys.stderr.flush()
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(read)
        _child(work, write, bounds, size)
    os.close(write)
    try:
        body = _received(read, time.monotonic() + _PATIENCE, stop)
    except BaseException:
        os.kill(child, signal.SIGKILL)
        raise
    finally:
        os.close(read)
        _, status = os.waitpid(child, 0)
    return _result(name, body, status)


_PATIENCE = 1800.0  # seconds; a child that does nothing at all is ended then
_REMEDY = "Export it again, in smaller parts if it is large."


def _child(work: Callable[[Limit], Any], write: int, bounds: Bounds, size: int) -> None:
    """The child's side; never returns."""
    answer: tuple[Any, ...]
    try:
        die_with_parent()
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        limit = Limit()
        limit.allow(bounds, size)
        try:
            answer = ("done", work(limit))
        except FileError as e:
            answer = ("file", e.file, e.what, e.where, e.remedy)
        except Cancelled as e:
            answer = ("cancelled", str(e))
        except QuiltError as e:
            answer = ("error", str(e))
        except MemoryError:
            answer = ("memory", limit.memory)
        except Exception as e:
            limit.lift()
            traceback.print_exc()
            answer = ("foreign", type(e).__name__)
        limit.lift()
        with os.fdopen(write, "wb") as f:
            pickle.dump(answer, f, protocol=pickle.HIGHEST_PROTOCOL)
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(0)


def _received(read: int, until: float, stop: Callable[[], bool] | None) -> bytearray:
    """What a child wrote before it ended."""
    body = bytearray()
    while time.monotonic() < until:
        ready, _, _ = select.select([read], [], [], 0.2)
        if ready:
            part = os.read(read, 1 << 20)
            if not part:
                return body
            body += part
        elif stop is not None and stop():
            raise Cancelled("Stopped. The project is as it was.")
    raise QuiltError("Reading was given up after half an hour without an answer.")


def _result(name: str, body: bytearray, status: int) -> Any:
    if os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGPROF:
        raise FileError(name, "reading it takes more time than a sound file of its size needs", "", _REMEDY)
    try:
        kind, *rest = pickle.loads(bytes(body))
    except (EOFError, pickle.UnpicklingError):
        # It ended without a word: a library gave up over it, or the system took its memory.
        raise FileError(name, "it is damaged, or far larger inside than its size says: the reader ended over it", "", _REMEDY) from None
    match kind:
        case "done":
            return rest[0]
        case "file":
            raise FileError(*rest)
        case "cancelled":
            raise Cancelled(rest[0])
        case "memory":
            raise FileError(
                name, f"reading it takes more than {rest[0] >> 20:,} MB, which is more than a sound file of its size needs", "", _REMEDY
            )
        case "foreign":
            raise FileError(name, f"it cannot be read ({rest[0]})", "", "It may be damaged. Export it again.")
    raise QuiltError(rest[0])
