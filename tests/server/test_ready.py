"""Make it ready: a kit with missing, folded and mirrored UVs becomes fit for baking in one undo step, and says what was done to which object."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable
from typing import Any

import pytest

from quilt_core import formats
from quilt_core.delivery.verify import Wanted, verify_report
from quilt_core.errors import NothingToDo
from quilt_server.jobs.kinds import ready
from quilt_server.projects.models import Job
from tests.shapes import kit

from .test_api import Browser, quick


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def rows(job: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {o["name"]: o for o in job["result"]["objects"]}


def test_a_kit_becomes_fit_for_baking_in_one_step(browser: Browser) -> None:
    browser.upload(kit__obj=kit())
    before = browser.state()
    quick(browser)
    head = browser.state()["snapshot"]
    done = browser.run("ready")
    assert done["state"] == "done", done
    found = rows(done)
    assert found["good"]["done"] == [] and found["mirrored"]["done"] == ["flip"]
    assert found["folded"]["done"] == ["relax"], "it needs no other seams"
    assert found["bare"]["done"] == ["unwrap"] and found["bare"]["was"]["without_uvs"] == 12
    assert found["folded"]["was"]["folded"] > 0 and all(o["now"]["folded"] == 0 and not o["left"] for o in found.values())
    assert done["result"]["verdict"].startswith("Fit for baking") and done["result"]["reasons"] == []
    after = browser.state()
    assert [o["name"] for o in after["objects"]] == [o["name"] for o in before["objects"]]
    job = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=job["id"]).output)) as z:
        name = next(n for n in z.namelist() if n.endswith(".obj"))
        scene = formats.read(z.read(name), name, 1.0, {})
    px = after["settings"]["map_px"]
    proof = verify_report([scene], 0, px, Wanted(after["settings"]["padding_px"], after["settings"]["margin_px"]))
    assert proof["ok"] and proof["flipped"] == 0 and proof["islands"] >= 4
    browser.post(f"/api/projects/{browser.project}/undo", {"base": after["snapshot"]})
    assert browser.state()["snapshot"] == head, "one step"
    redone = browser.post(f"/api/projects/{browser.project}/redo", {"base": head})
    assert redone["figures"]["overlap"]["pairs"] == 0


def test_what_is_ready_already_is_packed_alone(browser: Browser) -> None:
    good = kit().split(b"o mirrored")[0]
    browser.upload(good__obj=good)
    quick(browser)
    done = browser.run("ready", twins=True)
    assert done["state"] == "done", done
    assert [o["done"] for o in done["result"]["objects"]] == [[]] and done["result"]["coverage"] > 0.9


def test_several_files_keep_their_order_and_each_its_own_figures(browser: Browser) -> None:
    """The first file is made anew, so it has a newer number than the second: it still stands first, and what is told of it is its own."""
    bad, good = kit().replace(b"o ", b"o first-"), b"o second\n" + kit().split(b"o mirrored")[0].split(b"\n", 1)[1]
    browser.upload(first__obj=bad, second__obj=good)
    before = browser.state()
    names = [o["name"] for o in before["objects"]]
    assert names[0].startswith("first-") and names[-1] == "second"
    quick(browser)
    done = browser.run("ready")
    assert done["state"] == "done", done
    after = browser.state()
    assert [o["name"] for o in after["objects"]] == names and [f["name"] for f in after["files"]] == ["first.obj", "second.obj"]
    assert after["files"][0]["id"] > after["files"][1]["id"], "it is another file by now"
    found = done["result"]["objects"]
    assert [o["name"] for o in found] == names
    for o, was in zip(found, before["objects"], strict=True):
        assert o["was"]["islands"] == was["islands"], o["name"]
    assert next(o for o in found if o["name"] == "first-mirrored")["done"] == ["flip"]
    assert next(o for o in found if o["name"] == "second")["done"] == []


@pytest.mark.parametrize("how", ["words", "fault", "stop", "moved"])
def test_what_ends_on_the_way_leaves_the_project_as_it_was(browser: Browser, monkeypatch: pytest.MonkeyPatch, how: str) -> None:
    """Its first steps stayed as undo steps of their own."""
    from quilt_core.errors import Cancelled, QuiltError
    from quilt_server.jobs.kinds import ready
    from quilt_server.projects import state
    from quilt_server.projects.models import Layout, Project, Snapshot

    browser.upload(kit__obj=kit())
    quick(browser)
    before, counts = browser.state(), (Snapshot.objects.count(), Layout.objects.count())

    def ends(job: Job) -> None:
        assert Snapshot.objects.filter(proposal=True).exists(), "something was done before"
        if how == "moved":
            # Another tab's change comes in another process.
            token = state._aside.set(None)
            browser.change(settings={**before["settings"], "padding_px": 5.0})
            state._aside.reset(token)
            return real(job)
        raise {"words": QuiltError("No layout was found."), "fault": RuntimeError("broken"), "stop": Cancelled("Stopped.")}[how]

    real = ready.run_pack
    monkeypatch.setattr(ready, "run_pack", ends)
    done = browser.run("ready")
    assert done["state"] == ("stopped" if how == "stop" else "failed")
    after = browser.state()
    if how == "moved":
        assert "was changed while" in done["error"] and after["settings"]["padding_px"] == 5.0
        assert after["undo"].startswith("Change padding")
    else:
        assert after == before
        assert (Snapshot.objects.count(), Layout.objects.count()) == counts
    assert not Snapshot.objects.filter(proposal=True).exists()
    assert Project.objects.get(pk=browser.project).head_id == after["snapshot"]


def test_a_worker_that_dies_on_the_way_leaves_the_project_as_it_was(browser: Browser) -> None:
    from quilt_server.jobs.kinds.unwrap import Unwrap, run_unwrap
    from quilt_server.jobs.worker import sweep
    from quilt_server.projects.models import Project, Snapshot
    from quilt_server.projects.state import steps_aside

    browser.upload(kit__obj=kit())
    quick(browser)
    before = browser.state()
    project = Project.objects.get(pk=browser.project)
    job = Job.objects.create(project=project, kind="ready", state="running", params={"base": before["snapshot"]})
    with steps_aside():
        run_unwrap(Job(pk=job.pk, project=project, kind="ready", params={"base": before["snapshot"], **Unwrap().model_dump()}))
    assert Snapshot.objects.filter(proposal=True).count() == 1
    sweep()
    assert not Snapshot.objects.filter(proposal=True).exists() and browser.state() == {**before, "job": None}
    job.refresh_from_db()
    assert job.state == "interrupted"


def test_names_of_tries_never_come_twice(browser: Browser) -> None:
    browser.upload(kit__obj=kit())
    quick(browser, seconds=0.05)
    for _ in range(3):
        browser.run("pack")
    first, _, last = (t["id"] for t in browser.state()["tries"])
    for layout in (first, last):
        if layout != last:
            browser.post(
                f"/api/projects/{browser.project}/tries/discard", {"base": browser.state()["snapshot"], "layout": layout, "discarded": True}
            )
    browser.post(f"/api/projects/{browser.project}/thin", {"keep": 0})
    browser.run("pack")
    names = [t["name"] for t in browser.state()["tries"]]
    assert len(set(names)) == len(names) and names[-1] == "Try 4", names


def test_what_is_left_after_the_first_way_is_parted_and_made_anew(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    """*Make it ready* ended with "4 islands overlap themselves" and stopped there, though parting and unwrapping these would have helped."""
    calls: list[str] = []

    def once(name: str, run: Callable[[Job], None]) -> Callable[[Job], None]:
        def work(job: Job) -> None:
            calls.append(name)
            if calls.count(name) == 1:
                raise NothingToDo("Not this time.")
            run(job)

        return work

    for name in ("run_flatten", "run_unwrap"):
        monkeypatch.setattr(ready, name, once(name, getattr(ready, name)))
    browser.upload(kit__obj=kit())
    quick(browser)
    result = browser.run("ready")["result"]
    assert calls == ["run_flatten", "run_unwrap", "run_unwrap"]
    assert all(not o["left"] for o in result["objects"]) and result["grade"] == "fit"
    keys = {o["key"] for o in browser.state()["objects"]}
    assert {o["key"] for o in result["objects"]} == keys, "each can be shown"
