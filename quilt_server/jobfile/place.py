"""Where a job is done: a data folder of its own, which is made in a moment and thrown away."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_NAME = "quilt-job-"


def _sweep() -> None:
    """Away with what processes left that were killed."""
    for left in Path(tempfile.gettempdir()).glob(f"{_NAME}*-*"):
        pid = left.name.removeprefix(_NAME).partition("-")[0]
        if pid.isdigit() and not Path(f"/proc/{pid}").exists():
            shutil.rmtree(left, ignore_errors=True)


@contextmanager
def own_place() -> Iterator[Path]:
    """A new data folder with an empty database, for this process; it is gone afterwards. Only before anything else in the process uses one."""
    _sweep()
    folder = Path(tempfile.mkdtemp(prefix=f"{_NAME}{os.getpid()}-"))
    try:
        os.environ["QUILT_DATA"] = str(folder)
        os.environ["DJANGO_SETTINGS_MODULE"] = "quilt_server.settings"
        import django

        django.setup()
        from django.core.management import call_command
        from django.db import connections

        # Nobody needs what is left of it after a crash, so it need not wait for the disk.
        connections["default"].settings_dict["OPTIONS"]["init_command"] = (
            "PRAGMA journal_mode=MEMORY; PRAGMA synchronous=OFF; PRAGMA foreign_keys=ON;"
        )
        call_command("migrate", verbosity=0)
        try:
            yield folder
        finally:
            connections.close_all()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
