"""The same job over many assets, on as many processes and machines as there are: Dask gives out the work, and gives it out again where a worker is lost."""

from __future__ import annotations

import glob
import json
import logging
import os
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from quilt_core.errors import QuiltError

from .assets import Asset
from .desk import Desk
from .places import Place, places_of, unchanged
from .results import key_of, short

WAITING = 400  # tasks that are handed over before the first of them is done, at least
TASKS_EACH, MOST_TOGETHER = 50, 32  # tasks that every worker gets at least before assets go together, and how many may
WORKERS_EACH = 16  # workers for each asset in a task: so many leave the engine idle for most of the time
LOST = 50  # how often the worker of a task may be lost before the task is given up
Row = dict[str, Any]
# Its watching of itself, every 10 or 20 ms in each of its processes, would take a seventh of the machine from the work.
_CONFIG = {
    "distributed.scheduler.allowed-failures": LOST, "distributed.comm.timeouts.connect": "30s", "distributed.worker.profile.enabled": False,
    "distributed.admin.tick.interval": "1s", "distributed.admin.system-monitor.interval": "5s", "distributed.admin.system-monitor.gil.enabled": False,
    "distributed.scheduler.active-memory-manager.start": False, "distributed.admin.event-loop": "tornado",
}  # fmt: skip
# Dask opens the port of its page in any case; with no routes nothing answers there.
_NO_PAGE: dict[str, list[str]] = {"distributed.scheduler.http.routes": [], "distributed.worker.http.routes": []}


def order_of(asset: Asset, job: Row, top: Place, out: Place, force: bool, keep: bool = False) -> Row:
    """What a worker is asked for: all of it, so that it can be asked of any. `keep`: the project goes among the results."""
    mine = {**job, "input": {**job.get("input", {}), "files": [glob.escape(f) for f in asset.files]}}
    return {
        "name": asset.name, "root": top.address, "inner": asset.inner, "out": out.address, "files": list(asset.files), "job": mine,
        "key": key_of(json.dumps(mine, sort_keys=True).encode()), "force": force, "keep": keep,
        "size": sum(top.size(os.path.normpath(os.path.join(asset.inner, f))) for f in asset.files),
    }  # fmt: skip


_desk: Desk | None = None


def one(order: Row) -> Row:
    """Do an asset, in a worker: what is there already and fits what it was made from is not made again.

    Raises
    ------
    RuntimeError : the process that does the work was lost; ask again
    """
    global _desk
    if order["key"] != key_of(json.dumps(order["job"], sort_keys=True).encode()):
        return {
            "name": order["name"],
            "state": "failed",
            "kind": "failed",
            "why": "This worker has another version of the program.",
            "seconds": 0.0,
        }
    folder, out = places_of(order)
    old = None if order["force"] else unchanged(out, folder, order["key"], order["files"])
    if old is not None:
        # A worker may have been lost when this was written and not yet told.
        state = "done" if old.get("batch") is not None and old["batch"] == order.get("batch") else "unchanged"
        return {"name": order["name"], "state": state, "seconds": 0.0, **short(old)}
    _desk = _desk or Desk()
    return _desk.do(order)


@contextmanager
def cluster(scheduler: str | None, workers: int | None, page: bool = True) -> Iterator[Any]:
    """A client of a running scheduler, or of a cluster of its own with one process for each core, which takes work from nobody else who is on this machine;
    `page`: that shows its work to them."""
    import dask
    from distributed import Client, LocalCluster

    dask.config.set(_CONFIG)
    if scheduler is not None:
        try:
            client = Client(scheduler, timeout="15s")
        except (OSError, TimeoutError, ValueError) as e:
            raise QuiltError(
                f"No scheduler answers at {scheduler}. Start one with `dask scheduler`, and workers with `dask worker {scheduler}`."
            ) from e
        with client:
            yield client
        return
    # Only whoever gives out the work is told of lost workers.
    for name in ("distributed.nanny", "distributed.scheduler", "distributed.worker", "distributed.core", "distributed.comm"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    with (
        dask.config.set({} if page else _NO_PAGE),
        LocalCluster(
            n_workers=workers or cores(),
            threads_per_worker=1,
            processes=True,
            memory_limit=0,
            security=True,  # certificates of this run alone: a scheduler runs whatever it is sent
            dashboard_address="127.0.0.1:0",
            scheduler_kwargs={"dashboard": page},
            silence_logs=logging.CRITICAL,
        ) as local,
        Client(local) as client,
    ):
        yield client


def cores() -> int:
    """Processors that this process may use."""
    return len(os.sched_getaffinity(0))


def workers_of(client: Any) -> int:
    """How many workers a client's scheduler has now, at least one."""
    return len(client.scheduler_info(n_workers=-1)["workers"]) or 1


def window(workers: int) -> int:
    """Tasks that are handed over before the first of them is done: a few for each worker, so that none waits, and never a library at once."""
    return max(WAITING, 4 * workers)


def together(assets: int, workers: int) -> int:
    """Assets in one task. The engine's own time for a task is a few ms one after the other: many workers ask for more tasks than it can give, so several assets go
    together then, as long as every worker still gets enough tasks that none waits long for the last. With few workers each asset is told as soon as it is done."""
    return max(1, min(MOST_TOGETHER, workers // WORKERS_EACH, assets // (workers * TASKS_EACH)))


def _some(work: Callable[[Row], Row], orders: list[Row]) -> list[Row]:
    return [work(o) for o in orders]


def run(client: Any, orders: list[Row], tell: Callable[[Row, int, int], None], work: Callable[[Row], Row] = one) -> list[Row]:
    """Do all orders (`work` on each, in a worker); the rows in the order of the orders. `tell` hears each as it is done, how many are, and of how many."""
    from distributed import as_completed

    workers = workers_of(client)
    # The largest first: what takes longest should not be what all wait for at the end.
    turn = sorted(orders, key=lambda o: -o.get("size", 0))
    many = together(len(turn), workers)
    batch = uuid.uuid4().hex
    # Every so many-th, so that no task holds all of the largest.
    count = -(-len(turn) // many)
    waiting = iter([[{**o, "batch": batch} for o in turn[n::count]] for n in range(count)])
    rows: dict[str, Row] = {}
    names: dict[str, list[str]] = {}

    def hand_over() -> Any | None:
        some = next(waiting, None)
        if some is None:
            return None
        key = f"{some[0]['name']}-{batch}"
        names[key] = [o["name"] for o in some]
        # A task that its worker's own process was lost with is asked again too.
        return client.submit(_some, work, some, key=key, retries=LOST, pure=False)

    going = as_completed([f for _ in range(window(workers)) if (f := hand_over()) is not None])
    for future in going:
        mine = names.pop(future.key)
        try:
            found = future.result()
        except Exception as e:  # whatever became of it is told with its assets
            why = f"It could not be done: {type(e).__name__}: {str(e)[:200]}"
            found = [{"name": n, "state": "failed", "kind": "lost", "why": why, "seconds": None} for n in mine]
        future.release()
        for row in found:
            rows[row["name"]] = row
            tell(row, len(rows), len(orders))
        if (more := hand_over()) is not None:
            going.add(more)
    return [rows[o["name"]] for o in orders]
