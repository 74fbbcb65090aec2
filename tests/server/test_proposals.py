"""Proposals: the same unwrapped in several ways, looked at before one is taken; until then the project is as it was."""

from __future__ import annotations

from typing import Any

import pytest
import trimesh

from quilt_server.projects.models import Job, Layout, Snapshot
from tests.shapes import kit

from .test_api import Browser


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def ball() -> bytes:
    """A ball without UVs: the fewer seams, the more stretch."""
    solid = trimesh.creation.icosphere(3)
    return (
        "o ball\n"
        + "".join("v {} {} {}\n".format(*p) for p in solid.vertices)
        + "".join("f {} {} {}\n".format(*f) for f in solid.faces + 1)
    ).encode()


def got(browser: Browser, path: str) -> Any:
    return browser.client.get(path).json()


def proposed(browser: Browser) -> list[dict[str, Any]]:
    job = browser.run("propose")
    assert job["state"] == "done", job
    return job["result"]["proposals"]


def test_one_of_several_is_looked_at_and_taken(browser: Browser) -> None:
    browser.upload(ball__obj=ball())
    base = browser.state()
    rows = proposed(browser)
    assert [r["stretch"] for r in rows] == [1.6, 1.25, 1.1], "from few seams to little stretch"
    assert all(0 < r["coverage"] < 1 and r["under_1_5"] > 0.9 and r["islands"] > 0 for r in rows)
    assert rows[0]["seam_m"] < rows[1]["seam_m"] < rows[2]["seam_m"]
    assert rows[0]["under_1_1"] < rows[1]["under_1_1"] < rows[2]["under_1_1"]
    now = browser.state()
    assert (now["snapshot"], now["redo"]) == (base["snapshot"], None), "nothing is done yet, and no step leads there"
    project = f"/api/projects/{browser.project}"
    looked = got(browser, f"{project}?look={rows[0]['snapshot']}")
    assert looked["snapshot"] == rows[0]["snapshot"] and looked["files"] != base["files"]
    assert looked["objects"][0]["islands"] == rows[0]["islands"] and base["objects"][0]["islands"] == 0
    assert browser.client.get(f"{project}/faults?look={rows[0]['snapshot']}").status_code == 200
    taken = browser.post(f"{project}/take", {"base": base["snapshot"], "snapshot": rows[1]["snapshot"]})
    assert taken["snapshot"] == rows[1]["snapshot"] and taken["undo"].startswith("Unwrap")
    assert not Snapshot.objects.filter(proposal=True).exists()
    assert set(Layout.objects.values_list("pk", flat=True)) == set(
        Snapshot.objects.exclude(layout=None).values_list("layout_id", flat=True)
    )
    assert browser.state()["layout"] == taken["layout"]
    back = browser.post(f"{project}/undo", {"base": taken["snapshot"]})
    assert back["snapshot"] == base["snapshot"] and back["redo"] == taken["undo"]


def test_proposals_of_a_state_that_is_gone_are_refused(browser: Browser) -> None:
    browser.upload(ball__obj=ball())
    base = browser.state()["snapshot"]
    row = proposed(browser)[0]
    browser.change(settings={**browser.state()["settings"], "padding_px": 3.0})
    project, head = f"/api/projects/{browser.project}", browser.state()["snapshot"]
    assert head != base
    answer = browser.client.post(f"{project}/take", {"base": head, "snapshot": row["snapshot"]}, content_type="application/json")
    assert answer.status_code in (400, 409, 422) and b"moved on" in answer.content
    assert browser.client.get(f"{project}?look={row['snapshot']}").status_code in (400, 409, 422)
    assert browser.state()["snapshot"] == head


def test_a_way_that_another_beats_is_no_choice(browser: Browser) -> None:
    """Boxes lie flat whatever is allowed: then only what needs the fewest seams is proposed, and nothing is left of the others."""
    browser.upload(kit__obj=kit())
    rows = proposed(browser)
    assert len(rows) == 1 and rows[0]["under_1_1"] > 0.99
    assert Snapshot.objects.filter(proposal=True).count() == 1


def test_a_stop_between_two_ways_keeps_what_there_is(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    def told_to_stop(*_: object) -> float:
        Job.objects.filter(state="running").update(cancel=True)
        return 0.5

    monkeypatch.setattr("quilt_server.jobs.kinds.propose._coverage", told_to_stop)
    browser.upload(ball__obj=ball())
    assert len(proposed(browser)) == 1
