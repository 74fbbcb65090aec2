"""One command: database, demo, worker, web server; stopping it stops them all."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path
from types import FrameType


def prepare(demo: bool) -> None:
    """Bring the database up to date, compile the kernels, and load the demo when it is not there."""
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", verbosity=0)
    if demo:
        from demo.load import load_demo

        load_demo()


def serve(port: int, data: Path | None, demo: bool) -> int:
    """Run the application on the loopback address until it is told to stop."""
    if data is not None:
        os.environ["QUILT_DATA"] = str(data.resolve())
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    prepare(demo)
    import waitress

    from .wsgi import application

    worker = subprocess.Popen([sys.executable, "-m", "quilt_server.jobs.worker"])

    def stop(_signal: int, _frame: FrameType | None) -> None:
        worker.terminate()
        raise SystemExit(0)

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    print(f"Untold Quilt is ready at http://localhost:{port}", flush=True)
    try:
        waitress.serve(application, host="127.0.0.1", port=port, threads=16, _quiet=True, max_request_body_size=1 << 30)
    except OSError as e:
        print(f"quilt: port {port} cannot be used ({e.strerror}). Choose another with --port.", file=sys.stderr)
        return 2
    finally:
        worker.terminate()
    return 0
