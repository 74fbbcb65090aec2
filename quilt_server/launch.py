"""One command: database, demo, worker, web server; stopping it stops them all."""

from __future__ import annotations

import logging
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import MutableMapping
from dataclasses import dataclass
from pathlib import Path
from types import FrameType
from typing import Any

log = logging.getLogger("quilt")
_SOON = 5.0  # seconds; a worker that ends sooner than that is not started again at once


def prepare(demo: bool) -> None:
    """Bring the database up to date, measure anew what an older version measured, and load the demo when it is not there."""
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    from .projects.refresh import refresh

    refresh()
    if demo:
        from demo.load import load_demo

        load_demo()


class Keeper:
    """Keeps a worker running: one that dies is started again, and what it worked on is reported as interrupted."""

    def __init__(self) -> None:
        self.ending = threading.Event()
        self.worker = self._start()
        threading.Thread(target=self._watch, daemon=True).start()

    def _start(self) -> subprocess.Popen[bytes]:
        self.begun = time.monotonic()
        return subprocess.Popen([sys.executable, "-m", "quilt_server.jobs.worker"])

    def _watch(self) -> None:
        while not self.ending.wait(0.5):
            if self.worker.poll() is None:
                continue
            log.error("The worker ended unexpectedly (%s); it is started again.", self.worker.returncode)
            if time.monotonic() - self.begun < _SOON and self.ending.wait(_SOON):
                return
            self.worker = self._start()

    def end(self) -> None:
        """Stop the worker, and with it its jobs."""
        self.ending.set()
        self.worker.terminate()


_HERE = ("127.0.0.1", "localhost", "::1")


@dataclass(frozen=True)
class Where:
    """Where it listens, and for whom. `team`: people sign in; always so where others than this machine can come; `names` that they may call it by;
    `plain`: nothing in front of it speaks TLS; `library`: the folder whose meshes batches may read; `results`: where theirs go; `scheduler`: what gives them out."""

    host: str = "127.0.0.1"
    port: int = 8321
    team: bool = False
    names: tuple[str, ...] = ()
    plain: bool = False
    library: Path | None = None
    results: Path | None = None
    scheduler: str | None = None

    def into(self, env: MutableMapping[str, str]) -> bool:
        """Say it to the settings; whether people sign in."""
        team = self.team or self.host not in _HERE
        own = [self.host] if self.host not in (*_HERE, "0.0.0.0", "::") else []
        env["QUILT_TEAM"] = "1" if team else "0"
        env["QUILT_PLAIN_HTTP"] = "1" if self.plain else "0"
        env["QUILT_HOSTS"] = ",".join(filter(None, [*env.get("QUILT_HOSTS", "").split(","), *self.names, *own]))
        for name, path in (("QUILT_LIBRARY", self.library), ("QUILT_RESULTS", self.results)):
            if path is not None:
                env[name] = str(path.resolve())
        if self.scheduler is not None:
            env["QUILT_SCHEDULER"] = self.scheduler
        return team


def serve(where: Where, data: Path | None, demo: bool) -> int:
    """Run the application until it is told to stop."""
    team = where.into(os.environ)
    if data is not None:
        os.environ["QUILT_DATA"] = str(data.resolve())
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    from django.conf import settings

    from .only_one import Taken, take, unusable

    try:
        take(settings.DATA_DIR, "application")
    except OSError as e:
        print(
            f"quilt: the data folder {settings.DATA_DIR} cannot be used ({e.strerror}). Mend that, or choose another with --data.",
            file=sys.stderr,
        )
        return 2
    except Taken as e:
        print(f"quilt: {e} Open the one that runs in the browser, stop it, or choose another folder with --data.", file=sys.stderr)
        return 2
    unfit = unusable(settings.DATA_DIR)
    if unfit:
        print(f"quilt: {unfit}", file=sys.stderr)
        return 2
    prepare(demo)
    if team:
        from django.contrib.auth.models import User

        from .accounts import own

        if not User.objects.exists():
            print("quilt: others could come in, and there is no account yet. Make one first: ./quilt user add NAME", file=sys.stderr)
            return 2
        own()
    import waitress

    from .events import MOST_STREAMS, watch
    from .jobs import kinds  # noqa: F401  (so that the first request does not wait for it)
    from .wsgi import application

    keeper = Keeper()

    def stop(_signal: int, _frame: FrameType | None) -> None:
        watch.end()
        keeper.end()
        raise SystemExit(0)

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    print(f"Untold Quilt is ready at http://{'localhost' if where.host in _HERE else where.host}:{where.port}", flush=True)
    if team and where.host not in _HERE and not where.plain:
        print(
            "People sign in over TLS only: put a proxy in front that speaks it, or start with --plain-http. See docs/security.md.",
            flush=True,
        )
    # Of what a proxy in front of it says, only that the browser's side is TLS.
    proxy: dict[str, Any] = (
        {"trusted_proxy": os.environ.get("QUILT_PROXY", "127.0.0.1"), "trusted_proxy_headers": {"x-forwarded-proto"}} if team else {}
    )
    try:
        waitress.serve(
            application,
            host=where.host,
            port=where.port,
            threads=24 + MOST_STREAMS,  # a page that listens has one of its own
            _quiet=True,
            **proxy,
            max_request_body_size=settings.QUILT_UPLOAD_BYTES + (16 << 20),
        )
    except OSError as e:
        print(f"quilt: port {where.port} cannot be used ({e.strerror}). Choose another with --port.", file=sys.stderr)
        return 2
    finally:
        keeper.end()
    return 0
