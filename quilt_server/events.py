"""One stream of events for each page: what others do to its project, and what is being done in all of them, told within a moment of being written.

The database itself says that something changed, whoever changed it: this process, the worker, or the command line. One thread asks it for the number of its last
change (SQLite, "PRAGMA data_version"), which costs microseconds, and only while pages listen.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
import threading
import time
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from django.db import connection, connections
from django.http import Http404, HttpRequest, StreamingHttpResponse
from ninja import Router
from ninja.errors import HttpError

from .projects.asker import Right, asked_by, current_id
from .projects.people import project_of
from .rights import SIGNED_IN
from .sharing import now_of
from .work import work_in_all

router = Router()
OFTEN = 0.2  # seconds between two looks at the number of the last change
APART = 0.2  # seconds between two events of a stream at least
ALIVE = 10.0  # seconds after which a stream says that it is there, which also finds out whether somebody listens
LONGEST = 300.0  # seconds after which a page has to ask anew, and so to show who it is: somebody may have signed out meanwhile
MOST_STREAMS = 64  # pages that may listen; the next ones ask again every other second
_RETRY = 2000  # ms


class Watch:
    """Counts changes of the database while somebody waits for them."""

    def __init__(self) -> None:
        self.changed = threading.Condition()
        self.number = 0
        self.streams = 0
        self.ending = False
        self.thread: threading.Thread | None = None

    def join(self) -> bool:
        """One more listens; False where there are too many."""
        with self.changed:
            if self.streams >= MOST_STREAMS or self.ending:
                return False
            self.streams += 1
            if self.thread is None:
                self.thread = threading.Thread(target=self._look, name="watch", daemon=True)
                self.thread.start()
            return True

    def leave(self) -> None:
        """One less listens."""
        with self.changed:
            self.streams -= 1

    def end(self) -> None:
        """The program ends: all streams do."""
        with self.changed:
            self.ending = True
            self.changed.notify_all()

    def wait(self, known: int, seconds: float) -> int:
        """The number of the last change; waits for one after `known`, at most so long."""
        with self.changed:
            self.changed.wait_for(lambda: self.ending or self.number != known, seconds)
            return self.number

    def _look(self) -> None:
        name, last, db = str(connection.settings_dict["NAME"]), -1, None
        while True:
            with self.changed:
                if self.ending or not self.streams:
                    self.thread = None
                    break
            try:
                db = db or sqlite3.connect(f"file:{quote(name)}?mode=ro", uri=True)
                (now,) = db.execute("PRAGMA data_version").fetchone()
            except sqlite3.Error:  # the folder is gone just now: pages are told when it is back
                with contextlib.suppress(sqlite3.Error):
                    if db is not None:
                        db.close()
                db, now = None, last
            if now != last:
                last = now
                with self.changed:
                    self.number += 1
                    self.changed.notify_all()
            time.sleep(OFTEN)
        if db is not None:
            db.close()


watch = Watch()


def _told(user: int | None, project: int | None) -> dict[str, Any]:
    """What a page shows of what others do."""
    with asked_by(user, Right.LOOK):
        return {
            "now": None if project is None else now_of(project_of(project)).model_dump(),
            "work": [w.model_dump() for w in work_in_all()],
        }


def _stream(user: int | None, project: int | None) -> Iterator[bytes]:
    yield f"retry: {_RETRY}\n\n".encode()
    if not watch.join():
        with contextlib.suppress(Http404, HttpError):
            yield _event(_told(user, project))
        return
    try:
        number, last, until = -1, None, time.monotonic() + LONGEST
        while not watch.ending and time.monotonic() < until:
            try:
                told = _told(user, project)
            except (Http404, HttpError):
                yield b"event: gone\ndata: {}\n\n"
                return
            finally:
                # A stream stays for hours: it holds no connection meanwhile.
                if not connection.in_atomic_block:
                    connections.close_all()
            # How long work takes changes all the time, and is no event.
            alike = told | {"work": [w | {"seconds": 0} for w in told["work"]]}
            if alike != last:
                last = alike
                yield _event(told)
            begun = time.monotonic()
            before, number = number, watch.wait(number, ALIVE)
            if number == before:
                yield b": there\n\n"
            time.sleep(max(0.0, APART - (time.monotonic() - begun)))
    finally:
        watch.leave()


def _event(told: dict[str, Any]) -> bytes:
    return f"data: {json.dumps(told, allow_nan=False)}\n\n".encode()


@router.get("/events", include_in_schema=False)
@SIGNED_IN
def events(request: HttpRequest, project: int | None = None) -> StreamingHttpResponse:
    """Server-sent events (HTML standard, "Server-sent events"): what others do to a project, and what is being done in all that may be seen."""
    if project is not None:
        with asked_by(current_id(), Right.LOOK):
            project_of(project)
    answer = StreamingHttpResponse(_stream(current_id(), project), content_type="text/event-stream")
    answer["Cache-Control"] = "no-store"
    answer["X-Accel-Buffering"] = "no"
    return answer
