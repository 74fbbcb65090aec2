"""A project saved as one file and opened again: the same layouts, history, tries and deliveries; what is damaged is told."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from quilt_core.arrays import unpack_arrays
from quilt_server.projects.measuring import VERSION as MEASURED
from quilt_server.projects.models import Job, Layout, Project, Snapshot, SourceFile
from tests.core.test_faults import squares

from .test_api import Browser
from .test_namesakes import bring, flat, mtl, obj
from .test_sheets import job

pytestmark = pytest.mark.django_db(transaction=True)
CASES = 80  # more were run by hand
BOXES = [(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9), (0.1, 0.6, 0.2, 0.7)]


@pytest.fixture
def browser() -> Browser:
    b = Browser()
    bring(b, ("crate.obj", obj(BOXES)), ("paint.mtl", mtl("wood.png")), ("wood.png", flat(90)))
    bring(b, ("plain.obj", squares(BOXES[:1])))
    state = b.state()
    file = state["files"][0]["id"]
    b.change(settings={**state["settings"], "seconds": 0.3, "map_px": 256, "weights": {f"{file}:1": 2.0}, "held": [f"{file}:2"]})
    job(b, "pack")
    job(b, "mend", action="move", rows={str(file): [[0, 0.0, 1, 1.0, 0.001, 0.0]]}, label="A little")
    return b


def saved(browser: Browser, **params: object) -> bytes:
    done = job(browser, "save", **params)
    assert done["state"] == "done", done["error"]
    answer = browser.client.get(f"/api/jobs/{done['id']}/saved")
    assert "Test.quilt.zip" in answer["Content-Disposition"]
    return b"".join(answer.streaming_content)


def opened(data: bytes, expect: str = "done") -> tuple[Browser, dict]:
    other = Browser()
    answer = other.client.post("/api/open", {"file": SimpleUploadedFile("Test.quilt.zip", data)})
    assert answer.status_code == 200, answer.content
    other.project = answer.json()["project"]
    done = other.work(answer.json()["job"])
    assert done["state"] == expect, done
    return other, done


def alike(a: dict, b: dict) -> None:
    """Two states but for the numbers of their rows."""
    for key in ("name", "figures", "undo", "packed", "channels"):
        assert a[key] == b[key] or key == "figures"
    assert [f["name"] for f in a["files"]] == [f["name"] for f in b["files"]]
    plain = ("name", "path", "islands", "weight", "density", "materials", "sheets", "points")
    assert [[o[k] for k in plain] for o in a["objects"]] == [[o[k] for k in plain] for o in b["objects"]]
    for one, other in zip(a["sheets"], b["sheets"], strict=True):
        assert one["stale"] == other["stale"] and one["verdict"] == other["verdict"]
        assert one["figures"]["coverage"] == other["figures"]["coverage"]
    assert a["settings"]["seconds"] == b["settings"]["seconds"] and list(a["settings"]["weights"].values()) == list(
        b["settings"]["weights"].values()
    )


def rows(browser: Browser) -> list[np.ndarray]:
    layout = Layout.objects.get(pk=browser.state()["layout"])
    return [v for _, v in sorted(unpack_arrays(bytes(layout.transforms)).items(), key=lambda x: int(x[0]))]


def test_a_project_is_the_same_where_it_is_opened(browser: Browser) -> None:
    other, done = opened(saved(browser))
    assert done["result"]["name"] == "Test"
    a, b = browser.state(), other.state()
    alike(a, b)
    assert all(np.array_equal(x, y) for x, y in zip(rows(browser), rows(other), strict=True))
    assert len(a["tries"]) == len(b["tries"]) == 1 and b["tries"][0]["kept"]
    # Its history, step by step, is the other's.
    while a["undo"]:
        a, b = (x.post(f"/api/projects/{x.project}/undo", {"base": s["snapshot"]}) for x, s in ((browser, a), (other, b)))
        assert (a["undo"], len(a["objects"]), len(a["files"])) == (b["undo"], len(b["objects"]), len(b["files"]))
    assert not b["undo"] and not b["objects"]


def test_it_goes_on_and_delivers_where_it_is_opened(browser: Browser) -> None:
    other, _ = opened(saved(browser, history=False))
    state = other.state()
    assert not state["undo"] and len(state["tries"]) == 1
    assert job(other, "pack")["state"] == "done"
    done = job(other, "deliver", templates="none")
    data = b"".join(other.client.get(f"/api/jobs/{done['id']}/output").streaming_content)
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        assert {"crate.obj", "plain.obj", "paint.mtl", "wood.png"} <= set(z.namelist())
        assert z.read("wood.png") == flat(90)


def test_uvs_that_were_made_here_come_along(browser: Browser) -> None:
    assert job(browser, "unwrap", objects=[browser.state()["objects"][0]["key"]])["state"] == "done"
    other, _ = opened(saved(browser))
    alike(browser.state(), other.state())
    files = SourceFile.objects.filter(project=other.project)
    assert any(f.revision and f.before is not None and f.before.project_id == other.project for f in files)


def test_what_an_older_version_measured_is_measured_again(browser: Browser) -> None:
    data = changed(saved(browser), lambda t: [x.update(measured=MEASURED - 1, figures={}) for x in t["layouts"]])
    other, _ = opened(data)
    alike(browser.state(), other.state())


def changed(data: bytes, change: object, **manifest: object) -> bytes:
    """A saved project with another table, and a manifest that fits."""
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        parts = {n: z.read(n) for n in z.namelist()}
    tables, told = json.loads(parts["project.json"]), json.loads(parts["manifest.json"])
    change(tables)  # type: ignore[operator]
    parts["project.json"] = json.dumps(tables).encode()
    for p in told["parts"]:
        p["bytes"], p["sha256"] = len(parts[p["path"]]), hashlib.sha256(parts[p["path"]]).hexdigest()
    parts["manifest.json"] = json.dumps(told | manifest).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as z:
        for name, body in parts.items():
            z.writestr(name, body)
    return out.getvalue()


def test_a_newer_programs_fields_are_left_out_and_a_newer_format_is_told(browser: Browser) -> None:
    data = saved(browser)
    other, _ = opened(changed(data, lambda t: [x.update(more=[1, 2]) for x in t["files"] + t["snapshots"]], version=7))
    alike(browser.state(), other.state())
    _, done = opened(changed(data, lambda t: None, needs=2), "failed")
    assert "a newer program saved it" in done["error"]


def test_what_the_file_does_not_hold_is_not_taken_from_the_data_folder(browser: Browser) -> None:
    """A table that names bytes of somebody else by their hash."""
    bring(browser, ("secret.obj", squares(BOXES[1:2])))
    secret = SourceFile.objects.get(name="secret.obj").original_id
    plain = Browser()
    bring(plain, ("mine.obj", squares(BOXES[:1])))
    _, done = opened(changed(saved(plain), lambda t: t["files"][0].update(original_id=secret)), "failed")
    assert "is not in it" in done["error"]


BROKEN = {
    "a file is named that is not in it": lambda t: t["snapshots"][0]["files"].append(999_999),
    "no such original": lambda t: t["files"][0].update(original_id="0" * 64),
    "a name that climbs out": lambda t: t["files"][0].update(name="../../crate.obj"),
    "something beside it that climbs out": lambda t: t["files"][0]["companions"].update(
        {"../../wood.png": next(iter(t["files"][0]["companions"].values()))}
    ),
    "a map of no size": lambda t: t["snapshots"][0]["settings"].update(map_px=0),
    "a path for a hash": lambda t: t["files"][0].update(original_id="../../secret"),
    "a channel of 99": lambda t: t["snapshots"][0]["settings"].update(channel_in=99),
    "settings of another kind": lambda t: t["snapshots"][0]["settings"].update(map_px={"a": 1}),
    "no layout": lambda t: t["layouts"].clear(),
    "names that are no texts": lambda t: t["files"][0].update(name=5),
}


@pytest.mark.parametrize("case", BROKEN)
def test_what_does_not_hang_together_is_told_and_leaves_nothing(browser: Browser, case: str) -> None:
    before = Snapshot.objects.count()
    other, done = opened(changed(saved(browser), BROKEN[case]), "failed")
    assert "Test.quilt.zip" in done["error"] and "something went wrong" not in done["error"].lower(), done["error"]
    assert Project.objects.get(pk=other.project).head is None and Snapshot.objects.count() == before
    assert not SourceFile.objects.filter(project=other.project).exists()


def test_a_byte_that_flipped_is_told(browser: Browser) -> None:
    data = saved(browser)
    for at in (*range(40, len(data) - 200, len(data) // 12), *range(data.rfind(b"manifest.json", 0, -200) + 20, len(data) - 400, 23)):
        torn = bytearray(data)
        torn[at] ^= 0x55
        answer = Browser().client.post("/api/open", {"file": SimpleUploadedFile("t.quilt.zip", bytes(torn))})
        other = Browser()
        other.project = answer.json()["project"]
        done = other.work(answer.json()["job"])
        assert (done["state"] == "failed" and "damaged" in done["error"]) or done["state"] == "done", done
    for nothing in (b"", b"PK\x03\x04", data[: len(data) // 2]):
        _, done = opened(nothing or b"x", "failed")
        assert "no saved project, or damaged" in done["error"]


def test_any_table_is_opened_or_refused_in_words(browser: Browser) -> None:
    """Values of the tables are odd ones, with a manifest that fits: what somebody with bad intent would send."""
    import random

    from tests.hostile.mutate import spoil

    data = saved(browser)
    for case in range(CASES):
        chance = random.Random(case)
        torn = changed(data, lambda t, c=chance: [spoil(c, t) for _ in range(c.choice((1, 1, 3)))])
        other = Browser()
        answer = other.client.post("/api/open", {"file": SimpleUploadedFile("t.quilt.zip", torn)})
        other.project = answer.json()["project"]
        done = other.work(answer.json()["job"])
        assert done["state"] in ("done", "failed") and "omething went wrong" not in done["error"], (case, done["error"])
        assert other.client.get(f"/api/projects/{other.project}").status_code == 200, case


def test_a_saved_project_whose_opening_is_killed_is_opened_again_and_leaves_no_empty_project(transactional_db: None) -> None:
    """It left an empty project, and the file had to be chosen again."""
    from quilt_server.jobs.worker import run_one, sweep

    browser = Browser()
    browser.upload(a__obj=squares([(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]))
    saved = browser.run("save")
    body = browser.client.get(f"/api/jobs/{saved['id']}/saved").getvalue()
    opened = browser.client.post("/api/open", {"file": SimpleUploadedFile("kit.quilt.zip", body)}).json()
    work, project = Job.objects.get(pk=opened["job"]["id"]), Project.objects.get(pk=opened["project"])
    # Killed in the middle: some rows are there, and no state.
    first = SourceFile.objects.first()
    SourceFile.objects.create(project=project, name="half.obj", original_id=first.original_id)
    Job.objects.filter(pk=work.pk).update(state="running")
    sweep()
    work.refresh_from_db()
    assert work.state == "waiting" and not SourceFile.objects.filter(project=project).exists()
    Job.objects.filter(pk=work.pk).update(state="running")
    run_one(work.pk)
    project.refresh_from_db()
    work.refresh_from_db()
    assert work.state == "done" and project.head is not None and project.deleted is None
    # What was filled already is not emptied, whatever was not written of how it ended.
    Job.objects.filter(pk=work.pk).update(state="running")
    sweep()
    project.refresh_from_db()
    work.refresh_from_db()
    assert work.state == "done" and project.head is not None
    # Killed twice it is put aside, with nothing in it.
    again = browser.client.post("/api/open", {"file": SimpleUploadedFile("kit.quilt.zip", body)}).json()
    for _ in range(2):
        Job.objects.filter(pk=again["job"]["id"]).update(state="running")
        sweep()
    aside = Project.objects.get(pk=again["project"])
    assert aside.deleted is not None and not Layout.objects.filter(project=aside).exists()
    assert Job.objects.get(pk=again["job"]["id"]).state == "interrupted"
