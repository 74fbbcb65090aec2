"""Make it ready: a kit with missing, folded and mirrored UVs becomes fit for baking in one undo step, and says what was done to which object."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import pytest

from quilt_core import formats
from quilt_core.delivery.report import verify_report
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
    proof = verify_report([scene], 0, px, after["settings"]["padding_px"], after["settings"]["margin_px"])
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
