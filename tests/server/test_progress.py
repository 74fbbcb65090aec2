"""How far work is: steps within steps, never back, for the bar of its own project and for the others."""

from __future__ import annotations

from typing import Any

import pytest

from quilt_core.errors import Cancelled
from quilt_server.jobs import progress
from quilt_server.jobs.progress import part_of, say, steps
from quilt_server.projects.models import Job, Project

from .test_api import Browser
from .test_tile_rules import figure


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def told(monkeypatch: pytest.MonkeyPatch) -> list[dict[str, Any]]:
    """All progress that jobs report from now on."""
    found: list[dict[str, Any]] = []
    plain = progress.report_progress
    monkeypatch.setattr(progress, "report_progress", lambda job, p, draft=None: (found.append(p), plain(job, p, draft)))
    return found


@pytest.mark.django_db
def test_steps_within_steps_are_parts_of_their_step(monkeypatch: pytest.MonkeyPatch) -> None:
    found = told(monkeypatch)
    job = Job.objects.create(project=Project.objects.create(name="Crates"), kind="unwrap")
    for file in steps(job, ["a", "b"], "file {}".format, (0.0, 0.8)):
        for mesh in steps(job, [1, 2]):
            say(job, f"{file}{mesh}")
    say(job, "measuring")
    assert [(p["text"], round(p["part"], 9)) for p in found] == [
        ("file a", 0.0), ("a1", 0.0), ("a2", 0.2), ("file b", 0.4), ("b1", 0.4), ("b2", 0.6), ("measuring", 0.6),
    ]  # fmt: skip
    Job.objects.filter(pk=job.pk).update(cancel=True)
    with pytest.raises(Cancelled):
        list(steps(job, [1]))
    assert list(steps(job, [1, 2], stops=False)) == [1, 2]


def test_parts_come_from_time_or_steps() -> None:
    assert part_of({"seconds": 5.0, "of": 20.0}) == 0.25 and part_of({"seconds": 21.0, "of": 20.0}) == 1.0
    assert part_of({"text": "Reading", "part": 0.5}) == 0.5
    assert part_of({"text": "Reading", "part": 0.0}) is part_of({}) is None


def test_work_on_several_objects_has_a_figure_that_only_grows(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    found = told(monkeypatch)
    browser.upload(figure__obj=figure())
    keys = [o["key"] for o in browser.state()["objects"]]
    for kind, params in (("unwrap", {"objects": keys}), ("deliver", {}), ("dirt", {"objects": None}), ("shapes", {})):
        found.clear()
        done = browser.run(kind, **params)
        assert done["state"] == "done", done["error"]
        parts = [p["part"] for p in found if "part" in p]
        assert parts == sorted(parts) and len(set(parts)) > 1 and parts[-1] <= 1, kind


def test_what_is_done_in_all_projects_is_listed(browser: Browser) -> None:
    assert browser.client.get("/api/jobs").json() == []
    other = Project.objects.create(name="Barrels")
    job = Job.objects.create(project=other, kind="unwrap", state="running", progress={"text": "Unwrapping", "part": 0.25})
    row = browser.client.get("/api/jobs").json()[0]
    assert (row["id"], row["project"], row["name"], row["text"], row["part"]) == (job.pk, other.pk, "Barrels", "Unwrapping", 0.25)
    assert row["seconds"] >= 0
    assert browser.post(f"/api/jobs/{job.pk}/stop", {})["id"] == job.pk
    assert Job.objects.get(pk=job.pk).cancel
