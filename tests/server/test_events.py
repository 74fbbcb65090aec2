"""The stream of events: what changed is told within a moment, by whom and whatever process wrote it, to whoever may see it, and to no more pages than there is room for."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User

from quilt_server import events
from quilt_server.projects.models import Job
from tests.core.test_faults import squares

from .test_api import Browser, quick
from .test_team import Person

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def browser() -> Iterator[Browser]:
    found = Browser()
    found.upload(a__obj=squares([(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]))
    yield found
    deadline = time.monotonic() + 5
    while events.watch.thread is not None and time.monotonic() < deadline:
        time.sleep(0.05)
    assert events.watch.streams == 0 and events.watch.thread is None, "nobody listens any more, and nobody looks"


def told(stream: Iterator[bytes]) -> dict[str, Any]:
    """The next event with something in it."""
    for part in stream:
        if part.startswith(b"data: "):
            return dict(json.loads(part[6:]))
    raise AssertionError("the stream ended")


def test_a_change_is_told_within_a_second_and_nothing_else_is(browser: Browser) -> None:
    stream = events._stream(None, browser.project)
    assert next(stream).startswith(b"retry:")
    first = told(stream)
    assert first["now"]["snapshot"] == browser.state()["snapshot"] and first["work"] == []
    begin = time.monotonic()
    quick(browser, padding_px=3.0)
    after = told(stream)
    assert time.monotonic() - begin < 2.0 and after["now"]["snapshot"] == browser.state()["snapshot"] and "padding" in after["now"]["label"]
    Job.objects.create(project_id=browser.project, kind="pack", state="running", progress={"text": "Packing", "seconds": 1.0, "of": 4.0})
    work = told(stream)
    assert work["now"]["work"]["text"] == "Packing" and [w["project"] for w in work["work"]] == [browser.project]
    stream.close()


def test_only_so_many_pages_listen_and_the_next_are_told_once(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(events, "MOST_STREAMS", 2)
    listening = [events._stream(None, browser.project) for _ in range(2)]
    for stream in listening:
        next(stream)
        told(stream)
    late = list(events._stream(None, browser.project))
    assert len(late) == 2 and late[0] == f"retry: {events._RETRY}\n\n".encode() and late[1].startswith(b"data: ")
    for stream in listening:
        stream.close()


def test_a_stream_ends_when_it_is_old_or_the_program_ends(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(events, "LONGEST", 1.5)
    monkeypatch.setattr(events, "ALIVE", 0.1)
    parts = list(events._stream(None, browser.project))
    # What was written before it began may still come as an event; then it says that it is there, and ends.
    assert b": there\n\n" in parts
    monkeypatch.setattr(events, "LONGEST", 60.0)
    stream = events._stream(None, browser.project)
    next(stream)
    told(stream)
    monkeypatch.setattr(events.watch, "ending", True)
    assert list(stream) in ([], [b": there\n\n"])


def test_a_stream_is_of_what_its_listener_may_see(settings: Any, browser: Browser) -> None:
    settings.QUILT_TEAM = True
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    mira, tomas = Person("mira"), Person("tomas")
    project = mira.project()
    assert tomas.ask("GET", f"/api/events?project={project}")[0] == 404
    number = User.objects.get(username="tomas").pk
    mira.ask("POST", f"/api/projects/{project}/people", {"name": "tomas", "how": "look"})
    Job.objects.create(project_id=browser.project, kind="pack", state="running", progress={"text": "Secret"})
    stream = events._stream(number, project)
    next(stream)
    assert told(stream)["work"] == [], "work of projects that are not theirs is not told"
    mira.ask("POST", f"/api/projects/{project}/people", {"name": "tomas", "how": "none"})
    rest = [p for p in stream if not p.startswith(b":")]
    assert rest == [b"event: gone\ndata: {}\n\n"], "it ends once it is theirs to see no more"
