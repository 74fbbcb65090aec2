"""What the web process keeps is counted once, whoever misses it, and stays within its room however long it runs."""

from __future__ import annotations

import gc
import os
import threading

import psutil
import pytest

from quilt_server.projects import opened, sources
from quilt_server.projects.cache import Cache
from tests.core.test_faults import squares

from .test_api import Browser, quick

REQUESTS = int(os.environ.get("QUILT_REQUESTS", "700"))


def test_a_thing_that_many_threads_miss_is_booked_once() -> None:
    """One entry for each thread was booked, and what was not there took the room of all else: 622 MB for 4."""
    cache: Cache[bytes] = Cache(1000, len)
    gate = threading.Barrier(24)

    def work(n: int) -> None:
        gate.wait()
        for k in range(200):
            key = k % 7
            if cache.get(key) is None:
                cache.keep(key, bytes(100))

    threads = [threading.Thread(target=work, args=(n,)) for n in range(24)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert cache.booked == (7, 700)


def test_room_is_kept_and_the_last_thing_always_is() -> None:
    cache: Cache[bytes] = Cache(1000, len)
    for k in range(50):
        cache.keep(k, bytes(90))
        assert cache.booked[1] <= 1000
    assert cache.get(49) is not None and cache.get(0) is None
    cache.keep("huge", bytes(5000))
    assert cache.get("huge") is not None and cache.booked == (1, 1000)
    cache.keep("next", bytes(10))
    assert cache.booked == (1, 10)


@pytest.mark.django_db(transaction=True)
def test_many_requests_and_jobs_take_no_more_memory_than_some() -> None:
    browser = Browser()
    browser.upload(a__obj=squares([(0.03 * k, 0.0, 0.03 * k + 0.02, 0.9) for k in range(30)]))
    quick(browser, seconds=0.02)
    file = browser.state()["files"][0]["id"]
    me = psutil.Process()

    def some(count: int) -> None:
        for n in range(count):
            state = browser.state()
            layout = state["layout"]
            match n % 6:
                case 0:
                    browser.client.get(f"/api/projects/{browser.project}/faults")
                case 1:
                    browser.client.get(f"/api/layouts/{layout}/files/{file}")
                case 2:
                    browser.client.get(f"/api/files/{file}/channels/0/geometry")
                case 3:
                    browser.change(settings={**state["settings"], "band": 1 + n % 90})
                case 4:
                    browser.client.get("/api/projects/999999999999/nothing" + "x" * (n % 500))
                case _:
                    browser.client.get(f"/api/layouts/{layout}/files/{file}?since={max(1, layout - 1)}")
            if n % 60 == 59:
                browser.run("mend", action="move", rows={str(file): [[n % 30, 0.0, 1.0, 1.0, 0.001, 0.0]]}, label="Move")
        gc.collect()

    some(REQUESTS // 5)
    before = me.memory_info().rss
    some(REQUESTS - REQUESTS // 5)
    grown = (me.memory_info().rss - before) >> 20
    assert grown < 60, f"{grown} MB more after {REQUESTS} requests"
    assert opened._open.booked[1] <= 256 << 20 and sources._islands_open.booked[0] <= 1000
