"""A batch being done, in a process of its own that the worker starts: `python -m quilt_server.batches.runner NUMBER`."""

from __future__ import annotations

import logging
import os
import signal
import sys
import time
from dataclasses import replace
from types import FrameType
from typing import TYPE_CHECKING, Any

from quilt_cli.child import die_with_parent

if TYPE_CHECKING:
    from ..jobfile.assets import Asset as Found
    from ..jobfile.places import Place
    from .models import Batch

log = logging.getLogger("quilt")
_GENTLY = 5  # whoever works on a project meanwhile goes first
Row = dict[str, Any]


class Stop(BaseException):
    """It was told to stop."""


def _stop(_signal: int, _frame: FrameType | None) -> None:
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    raise Stop


def found_assets(batch: Batch, out: Place) -> list[Found]:
    """The assets of a batch as they are in the library now, each with a row that waits. What a link in the library leads to outside it is none.

    Raises
    ------
    QuiltError : nothing is there
    """
    from django.db import transaction

    from ..jobfile.assets import assets_of
    from ..jobfile.places import library
    from .library import inside, root
    from .models import Asset

    here, top = inside(batch.folder), root()
    _, paths = library(str(here), out)
    inner = here.relative_to(top)
    found = [
        replace(a, inner=(inner / a.inner).as_posix())
        for a in assets_of([p for p in paths if (here / p).resolve().is_relative_to(top)], batch.group)
    ]
    rows = [Asset(batch=batch, name=a.name, folder=a.inner, files=list(a.files)) for a in found]
    with transaction.atomic():
        batch.assets.all().delete()
        Asset.objects.bulk_create(rows, batch_size=500)
    return found


def work(batch: Batch) -> None:
    """Do all of it; what is there already and fits what it was made from is not made again.

    Raises
    ------
    QuiltError : what cannot be done; Stop : it was told to
    """
    from django.conf import settings

    from ..jobfile import batch as engine
    from ..jobfile import summary
    from ..jobfile.places import Here
    from .library import results_of, root
    from .models import Batch

    out = Here(results_of(batch.pk, batch.name))
    least, greatest = summary.limits_of(batch.job)

    def tell(row: Row, _done: int, _of: int) -> None:
        rank, far = summary.place_of(row, least, greatest)
        batch.assets.filter(name=row["name"]).update(state=row["state"], rank=rank, far=far, row=row)

    begin = time.monotonic()
    with engine.cluster(settings.QUILT_SCHEDULER, None, page=False) as client:
        workers = engine.workers_of(client)
        Batch.objects.filter(pk=batch.pk).update(workers=workers)
        orders = [engine.order_of(a, batch.job, Here(root()), out, False, keep=True) for a in found_assets(batch, out)]
        rows = engine.run(client, orders, tell)
    out.sweep()
    summary.put(out, summary.report(rows, time.monotonic() - begin, workers), batch.job)


def main(number: int) -> int:
    """Do a batch, and write how it ended."""
    die_with_parent()
    os.nice(_GENTLY)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    import django

    django.setup()
    from quilt_core.errors import QuiltError

    from ..ours import of_machine
    from .models import Batch

    signal.signal(signal.SIGTERM, _stop)
    batch = Batch.objects.get(pk=number)
    begin = time.monotonic()
    state, error = "done", ""
    try:
        work(batch)
    except Stop:
        state, error = "stopped", ""
    except QuiltError as e:
        state, error = "failed", str(e)
    except Exception as e:
        told = of_machine(e)
        log.error("batch %d failed: %s", number, told or type(e).__name__, exc_info=None if told else e)
        state, error = "failed", told or "Something went wrong; the details are in logs/quilt.log of the data folder."
    Batch.objects.filter(pk=number).update(state=state, error=error, seconds=time.monotonic() - begin)
    return 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1])))
