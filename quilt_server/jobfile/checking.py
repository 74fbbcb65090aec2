"""A job file read in a process of its own, for whoever must not wait long for it: `python -m quilt_server.jobfile.checking NAME` gets it on its standard input and
writes the job as plain values, or what is wrong."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
from typing import Any

from quilt_core.errors import FileError, QuiltError

MOST_BYTES = 2 << 20
_SECONDS = 8  # of a processor for the reading itself: a machine that is busy makes no file too large
_LONGEST = 90.0  # seconds, whatever else the machine does


def checked_apart(body: bytes, name: str) -> dict[str, Any]:
    """The plain values of a job file that came in by a request.

    Raises
    ------
    QuiltError : what is wrong with it; it is larger than a request takes, or takes longer
    """
    if len(body) > MOST_BYTES:
        raise FileError(name, f"it is {len(body) >> 20} MB; a job file has {MOST_BYTES >> 20} MB at most here", "", "Choose another file.")
    command = [sys.executable, "-m", "quilt_server.jobfile.checking", name]
    slow = FileError(name, "reading it takes longer than a job file needs", "", "Make it smaller.")
    try:
        done = subprocess.run(command, input=body, capture_output=True, timeout=_LONGEST, check=False)
    except subprocess.TimeoutExpired as e:
        raise slow from e
    if done.returncode == -signal.SIGXCPU:
        raise slow
    try:
        found: dict[str, Any] = json.loads(done.stdout)
    except ValueError as e:
        raise FileError(name, "it cannot be read as a job file", "", "Mend it there.") from e
    if "wrong" in found:
        raise QuiltError(found["wrong"])
    return dict(found["job"])


def main(name: str) -> int:
    """Read it from the standard input."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    import django

    django.setup()
    from . import text

    used = resource.getrusage(resource.RUSAGE_SELF)
    most = int(used.ru_utime + used.ru_stime) + _SECONDS
    resource.setrlimit(resource.RLIMIT_CPU, (most, most + 1))
    try:
        job = text.read(sys.stdin.buffer.read(), name)
        json.dump({"job": text.plain(job), "name": job.name}, sys.stdout)
    except QuiltError as e:
        json.dump({"wrong": str(e)}, sys.stdout)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
