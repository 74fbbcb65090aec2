"""Everything that changes a project, from eight threads at once, in a random order: no acknowledged change is missing at the end.

Each acknowledged change leads from the state that it named to another one. If nothing was overwritten, these steps form one way from the first state to the head:
every state is left as often as it is reached (Euler's condition for a trail, arithmetic)."""

from __future__ import annotations

import json
import random
import threading
from collections import Counter
from dataclasses import dataclass, field

import pytest
from django.db import connections
from django.test import Client

from quilt_server.jobs.worker import run_one
from quilt_server.projects.models import Job, Project, Snapshot
from tests.server.test_api import Browser
from tests.shapes import grid_obj

pytestmark = pytest.mark.django_db(transaction=True)
THREADS, EACH = 8, 40


@dataclass
class Log:
    """What was acknowledged: changes and moves of the pointer, each from a state to another, and names."""

    changes: list[tuple[int, int]] = field(default_factory=list)
    moves: list[tuple[int, int]] = field(default_factory=list)
    names: set[str] = field(default_factory=set)
    refused: int = 0
    errors: list[str] = field(default_factory=list)
    lock: threading.Lock = field(default_factory=threading.Lock)


class Tab(threading.Thread):
    """One tab of a browser that does one thing after another, on what it last saw."""

    def __init__(self, project: int, number: int, log: Log, undo: bool) -> None:
        super().__init__()
        self.chance, self.number, self.log, self.undo = random.Random(number), number, log, undo
        self.client, self.path = Client(headers={"x-quilt": "1"}), f"/api/projects/{project}"

    def run(self) -> None:
        try:
            for k in range(EACH):
                self.act(k)
        except Exception as e:
            self.log.errors.append(f"{type(e).__name__}: {e}")
        finally:
            connections.close_all()

    def state(self) -> dict:
        return self.client.get(self.path).json()

    def post(self, path: str, body: dict) -> dict | None:
        answer = self.client.post(self.path + path, json.dumps(body), content_type="application/json")
        if answer.status_code == 200:
            return answer.json()
        assert answer.status_code in (409, 422), (path, answer.status_code, answer.content)
        self.log.refused += 1
        return None

    def noted(self, steps: list[tuple[int, int]], base: int, answer: dict | None) -> None:
        if answer is not None and answer["snapshot"] != base:
            with self.log.lock:
                steps.append((base, answer["snapshot"]))

    def act(self, k: int) -> None:
        now = self.state()
        base, what = now["snapshot"], self.chance.random()
        if what < 0.15:
            name = f"Named {self.number}.{k}"
            answer = self.client.patch(self.path, json.dumps({"name": name}), content_type="application/json")
            assert answer.status_code == 200
            self.log.names.add(name)
        elif what < 0.6:
            file = now["files"][0]["id"]
            key, value = f"{file}:{self.number}", round(1 + k / 100, 3)
            settings = {**now["settings"], "weights": {**now["settings"]["weights"], key: value}}
            self.noted(self.log.changes, base, self.post("/change", {"base": base, "settings": settings}))
        elif what < 0.7 and self.undo:
            self.noted(self.log.moves, base, self.post(self.chance.choice(("/undo", "/redo")), {"base": base}))
        else:
            self.job(base, now)

    def job(self, base: int, now: dict) -> None:
        file = str(now["files"][0]["id"])
        kind, params = self.chance.choice(
            [
                ("mend", {"action": "move", "rows": {file: [[self.number, 0.0, 1, 1.0, 0.001, 0.0]]}, "label": "A little"}),
                ("objects", {"left_out": []}),
                ("settings", {"settings": {**now["settings"], "sheets": [{"id": 1, "name": f"Sheet {self.number}"}]}}),
                ("pack", {}),
                ("units", {"units": {file: self.chance.choice((1.0, 0.01, 0.001))}}),
                ("channel", {"channel": 0}),
            ]
        )
        started = self.post("/jobs", {"kind": kind, "base": base, "params": params})
        if started is None:
            return
        Job.objects.filter(pk=started["id"]).update(state="running")
        run_one(started["id"])
        done = Job.objects.get(pk=started["id"])
        assert done.state in ("done", "failed"), done.error
        assert "the log" not in done.error, done.error
        if done.state == "done" and kind != "pack":
            assert Snapshot.objects.filter(parent_id=base, project=done.project).exists(), f"{kind} is done and made no step"


def settled(undo: bool) -> tuple[Log, Project, int]:
    """A project after all tabs are through, and its first state."""
    browser = Browser()
    browser.upload(squares__obj=grid_obj(THREADS))
    state = browser.state()
    browser.change(settings={**state["settings"], "seconds": 0.1, "map_px": 256})
    first = browser.state()["snapshot"]
    log = Log()
    tabs = [Tab(browser.project, n, log, undo) for n in range(THREADS)]
    for t in tabs:
        t.start()
    for t in tabs:
        t.join()
    assert not log.errors, log.errors
    return log, Project.objects.get(pk=browser.project), first


def test_nothing_that_was_acknowledged_is_missing_from_the_chain_of_the_head() -> None:
    log, project, _ = settled(undo=False)
    chain, at = [], project.head
    while at is not None:
        chain.append(at.pk)
        at = at.parent
    assert len(log.changes) > THREADS, "the tabs did something"
    assert {new for _, new in log.changes} <= set(chain)
    assert set(Snapshot.objects.filter(project=project).values_list("pk", flat=True)) == set(chain), "a step lies beside the chain"
    assert project.name in log.names
    assert not Job.objects.exclude(state__in=Job.OVER).exists()


def test_with_undo_and_redo_the_acknowledged_steps_form_one_way_to_the_head() -> None:
    log, project, first = settled(undo=True)
    made = {s.pk: s.parent_id for s in Snapshot.objects.filter(project=project, pk__gt=first)}
    assert all(made[new] == base for base, new in log.changes) and log.moves
    # A state that was made is a step from its parent; undo and redo are steps among states that were there.
    balance: Counter[int | None] = Counter()
    for base, new in [(base, new) for new, base in made.items()] + log.moves:
        balance[base] += 1
        balance[new] -= 1
    off = {k: v for k, v in balance.items() if v}
    assert off in ({first: 1, project.head_id: -1}, {}), off
