"""Figures that were not true, and changes that got lost: each as it was found."""

from __future__ import annotations

import io
import json
import threading
import zipfile
from pathlib import Path

import numpy as np
import pytest
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import close_old_connections
from django.test import Client

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core.arrays import unpack_arrays
from quilt_server.jobs.kinds import pack as packing
from quilt_server.projects import files, sources
from quilt_server.projects.measuring import VERSION
from quilt_server.projects.models import Job, Layout, Original, Project, Snapshot
from quilt_server.projects.refresh import refresh
from quilt_server.projects.room import forget_beyond
from tests.core.test_faults import squares
from tests.shapes import PLANE, grid_obj

from .test_api import Browser, quick
from .test_mending import kinds
from .test_sheets import settle_settings, sheet

pytestmark = pytest.mark.django_db(transaction=True)
OVERLAPPING = [(0.1, 0.1, 0.4, 0.4), (0.3, 0.2, 0.6, 0.5)]


@pytest.fixture
def browser() -> Browser:
    return Browser()


def by_objects(places: list[tuple[float, float, float, float]]) -> bytes:
    """Boxes, each an object of its own."""
    body = squares(places).decode().splitlines()
    faces = iter([line for line in body if line.startswith("f ")])
    return "\n".join(
        [line for line in body if not line.startswith("f ")] + [x for k, f in enumerate(faces) for x in (f"o part_{k}", f)]
    ).encode()


def test_objects_taken_in_again_are_measured_again(browser: Browser) -> None:
    browser.upload(two__obj=by_objects(OVERLAPPING))
    keys = [o["key"] for o in browser.state()["objects"]]
    assert browser.state()["figures"]["overlap"]["pairs"] == 1
    browser.run("objects", left_out=[keys[1]])
    assert (
        browser.state()["figures"]["overlap"]["pairs"] == 0
        and browser.state()["figures"]["islands"] == 1
        and "overlap" not in kinds(browser)
    )
    browser.run("objects", left_out=[])
    assert browser.state()["figures"]["overlap"]["pairs"] == 1 and kinds(browser)["overlap"]["count"] == 1
    assert browser.state()["undo"] == "Choose objects"


def test_what_is_left_out_is_not_moved_by_repairs(browser: Browser) -> None:
    browser.upload(two__obj=by_objects([(1.2, 0.1, 1.4, 0.4), (2.3, 0.2, 2.6, 0.5)]))
    keys = [o["key"] for o in browser.state()["objects"]]
    browser.run("objects", left_out=[keys[1]])
    assert browser.run("mend", action="into_tile", islands=None)["result"]["changed"] == 1


def test_a_kept_try_has_its_own_figures_and_bleed_proof(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(5))
    quick(browser, padding_px=8.0)
    first = browser.run("pack")["result"]["layout"]
    browser.run("bleed")
    proven = browser.state()["sheets"][0]["bleed"]
    density = browser.state()["figures"]["density"]
    quick(browser, padding_px=40.0)
    browser.run("pack")
    state = browser.state()
    assert state["sheets"][0]["bleed"] is None and state["figures"]["density"] != density
    browser.run("bleed")
    assert browser.run("keep", layout=first)["state"] == "done"
    state = browser.state()
    assert state["sheets"][0]["bleed"] == proven and state["figures"]["density"] == pytest.approx(density)
    row = {state["files"][0]["id"]: [[0, 0.0, 1, 1.0, 0.5, 0.0]]}
    browser.run("mend", action="move", rows={str(k): v for k, v in row.items()}, label="Away")
    assert browser.state()["sheets"][0]["bleed"] is None, "an island moved: what was proven is another layout"


def test_a_change_of_name_and_of_settings_at_once_lose_neither(browser: Browser) -> None:
    """The renaming request read the project before the other one moved its head on."""
    browser.upload(plane__obj=PLANE)
    stale = Project.objects.get(pk=browser.project)
    browser.change(settings={**browser.state()["settings"], "padding_px": 3.0})
    head = Project.objects.get(pk=browser.project).head_id
    stale.name = "Renamed"
    stale.save(update_fields=["name", "modified"])
    browser.client.patch(f"/api/projects/{browser.project}", json.dumps({"name": "Again"}), content_type="application/json")
    after = Project.objects.get(pk=browser.project)
    assert (after.name, after.head_id) == ("Again", head) and browser.state()["settings"]["padding_px"] == 3.0


def test_renaming_deleting_and_changing_from_many_sides_lose_no_change(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    done: list[float] = []
    path = f"/api/projects/{browser.project}"

    def rename() -> None:
        client = Client(headers={"x-quilt": "1"})
        for k in range(15):
            client.patch(path, json.dumps({"name": f"Name {k}"}), content_type="application/json")
            client.delete(path)
            client.post(f"{path}/restore")
        close_old_connections()

    def change() -> None:
        for k in range(15):
            value = 2.0 + k / 10
            browser.change(settings={**browser.state()["settings"], "padding_px": value})
            done.append(value)
        close_old_connections()

    threads = [threading.Thread(target=t) for t in (rename, change)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    found, at = [], Project.objects.get(pk=browser.project).head
    while at is not None:
        found.append(at.settings.get("padding_px"))
        at = at.parent
    assert len(done) == 15 and set(done) <= set(found)


def test_a_setting_changed_during_a_channel_job_stays(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    from quilt_server.jobs.kinds import channel as gather

    browser.upload(two__glb=two_channels([box(Part("a"), (0, 0, 0), (1, 1, 1)).uv(0.1)], 1.0, png("crane")))
    real = gather.measure

    def slow(*args: object, **more: object) -> None:
        real(*args, **more)  # type: ignore[arg-type]
        browser.change(settings={**browser.state()["settings"], "padding_px": 3.5})

    monkeypatch.setattr(gather, "measure", slow)
    answer = browser.run("channel", channel=1)
    assert answer["state"] == "failed" and "Nothing was done" in answer["error"] and browser.state()["settings"]["padding_px"] == 3.5


def test_a_setting_changed_during_a_pack_leaves_its_result_as_a_try(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    browser.upload(squares__obj=grid_obj(5))
    quick(browser)
    real = packing.measure

    def slow(*args: object, **more: object) -> None:
        real(*args, **more)  # type: ignore[arg-type]
        browser.change(settings={**browser.state()["settings"], "padding_px": 21.0})

    monkeypatch.setattr(packing, "measure", slow)
    answer = browser.run("pack")
    assert answer["state"] == "done" and "kept as Try 1" in answer["result"]["note"]
    state = browser.state()
    assert [t["kept"] for t in state["tries"]] == [False] and state["settings"]["padding_px"] == 21.0 and not state["packed"]
    monkeypatch.setattr(packing, "measure", real)
    assert browser.run("keep", layout=state["tries"][0]["id"])["state"] == "done"
    assert browser.state()["sheets"][0]["stale"] == ["padding 8 to 21 px"], "it says why it is stale"


def test_tiles_above_what_is_measured_are_not_called_dirty(browser: Browser) -> None:
    browser.upload(squares__obj=squares([(0.1, 0.1, 0.2, 0.2), (0.5, 0.5, 0.7, 0.7)]))
    browser.change(settings={**browser.state()["settings"], "map_px": 16384})
    found = browser.run("bleed")["result"]["sheets"]["1"]
    assert found["clean"] is None and found["unmeasured"] == [1001] and found["tiles"] == []
    sheet = browser.state()["sheets"][0]
    assert sheet["verdict"]["grade"] == "fit" and "mip" not in sheet["verdict"]["line"]


def test_one_verdict_on_the_screen_in_the_report_and_on_its_page(browser: Browser) -> None:
    """A mirrored island: it can be baked, with a fault, wherever one looks."""
    mirrored = PLANE.replace(b"vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1", b"vt 1 0\nvt 0 0\nvt 0 1\nvt 1 1")
    browser.upload(plane__obj=mirrored)
    quick(browser)
    browser.run("pack")
    said = browser.state()["sheets"][0]["verdict"]
    assert said["grade"] == "fit with faults" and "1 island is mirrored" in said["reasons"][0]
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    report = json.loads(archive.read("report.json"))["sheets"]["Sheet 1"]
    assert report["grade"] == said["grade"] and report["reasons"] == said["reasons"]
    assert said["line"].endswith("not measured yet") and "not measured" not in report["verdict"]
    assert report["verdict"] in archive.read("report.html").decode()
    assert browser.state()["sheets"][0]["verdict"]["line"] == report["verdict"], "what the delivery measured is known from then on"


@pytest.mark.parametrize("sheets", [1, 2])
def test_make_it_ready_says_what_the_report_says(browser: Browser, sheets: int) -> None:
    """It said "Fit for baking", and the report of that layout said that it is not: the one had not looked at how far colours stay apart. Of several sheets
    it told the first."""
    sliver = b"o thin\nv 0 0 3\nv 1 0 3\nv 1 0.0001 3\nv 0 0.0001 3\nvt 0 0\nvt 1 0\nvt 1 0.0001\nvt 0 0.0001\nf 1/1 2/2 3/3 4/4\n"
    browser.upload(plane__obj=PLANE, sliver__obj=sliver)
    if sheets == 2:
        thin = next(o["key"] for o in browser.state()["objects"] if o["name"] == "thin")
        settle_settings(browser, sheets=[sheet(1), sheet(2), sheet(3)], sheet_of={thin: 2})
    quick(browser)
    done = browser.run("ready")
    assert done["state"] == "done", done["error"]
    ready = done["result"]
    rows = [r["verdict"] for r in browser.state()["sheets"] if r["verdict"]]
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    report = json.loads(archive.read("report.json"))
    assert len(rows) == sheets
    assert [r["grade"] for r in rows] == [s["grade"] for s in report["sheets"].values()]
    assert [r["line"] for r in rows] == [s["verdict"] for s in report["sheets"].values()]
    assert ready["verdict"] == report["verdict"] and ready["reasons"] == report["reasons"]
    assert ready["grade"] == rows[-1]["grade"] == "fit with faults" and "thinner than a texel" in ready["reasons"][0], "the worst sheet's"


def test_two_files_of_one_path_both_join(browser: Browser) -> None:
    data = {
        "files": [SimpleUploadedFile("a.obj", PLANE), SimpleUploadedFile("a.obj", grid_obj(2))],
        "paths": ["set/a.obj", "set/a.obj"],
    }
    browser.work(browser.client.post(f"/api/projects/{browser.project}/files", data).json())
    assert [f["name"] for f in browser.state()["files"]] == ["set/a.obj", "set/a (2).obj"]
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    assert {"set/a.obj", "set/a (2).obj"} <= set(archive.namelist())


def test_a_texture_beside_the_folder_of_the_mesh_is_found_and_delivered_and_one_that_is_missing_is_named(browser: Browser) -> None:
    mesh = b"mtllib a.mtl\n" + PLANE.replace(b"\nf ", b"\nusemtl wood\nf ", 1)
    library = b"newmtl wood\nmap_Kd ../textures/w.png\nmap_Bump ../textures/gone.png\n"
    bodies = {"kit/meshes/a.obj": mesh, "kit/meshes/a.mtl": library, "kit/textures/w.png": png("wheel")}
    data = {"files": [SimpleUploadedFile(p.rsplit("/", 1)[-1], b) for p, b in bodies.items()], "paths": list(bodies)}
    made = browser.work(browser.client.post(f"/api/projects/{browser.project}/files", data).json())
    assert made["state"] == "done", made["error"]
    (file,) = browser.state()["files"]
    assert any(m["images"] for m in file["materials"]) and any("gone.png" in w for w in file["warnings"])
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    assert {"kit/meshes/a.obj", "kit/meshes/a.mtl", "kit/textures/w.png"} <= set(archive.namelist())
    assert archive.read("kit/textures/w.png") == bodies["kit/textures/w.png"]


@pytest.mark.parametrize("pattern", ["{tile", "}", "{tile:>99999999999}", "{sheet.__class__}{tile}", "{0}{tile}", 5, None, ["{tile}"]])
def test_names_of_tile_images_are_replaced_and_never_formatted(browser: Browser, pattern: object) -> None:
    browser.upload(plane__obj=PLANE)
    body = {"kind": "deliver", "base": browser.state()["snapshot"], "params": {"pattern": pattern}}
    assert "names of tile images" in browser.post(f"/api/projects/{browser.project}/jobs", body, 422)["detail"]


def test_outputs_and_originals_are_files_and_a_purged_project_gives_them_back(browser: Browser) -> None:
    body = grid_obj(7)
    browser.upload(only__obj=body)
    other = Browser()
    other.upload(plane__obj=PLANE)
    made = browser.run("deliver")
    row = Job.objects.get(pk=made["id"])
    sha = sources.store(body)
    there = [files.path_of(sha), files.path_of(row.output_sha)]
    assert all(p.exists() for p in there) and there[0].read_bytes() == body
    derived = {p.name for p in files.folder("derived").iterdir()}
    path = f"/api/projects/{browser.project}"
    assert "Delete the project first" in browser.post(f"{path}/purge", {}, 422)["detail"]
    browser.client.delete(path)
    left = browser.post(f"{path}/purge", {})
    assert browser.project not in [p["id"] for p in left] and other.project in [p["id"] for p in left]  # type: ignore[index]
    assert not any(p.exists() for p in there) and not Original.objects.filter(sha=sha).exists()
    assert {p.name for p in files.folder("derived").iterdir()} < derived
    assert other.state()["objects"] and other.run("pack")["state"] == "done", "another project keeps what it needs"


def test_history_is_thinned_to_the_last_steps(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(4))
    quick(browser)
    kept = browser.run("pack")["result"]["layout"]
    file = str(browser.state()["files"][0]["id"])
    for k in range(6):
        browser.run("mend", action="move", rows={file: [[0, 0.0, 1, 1.0, 0.001 * (k + 1), 0.0]]}, label="A little")
    before = browser.state()
    answer = browser.post(f"/api/projects/{browser.project}/thin", {"keep": 2})
    assert answer["steps"] == Snapshot.objects.filter(project=browser.project).count() + 4 and answer["freed"] > 0
    after = browser.state()
    assert after["figures"] == before["figures"] and after["undo"] and [t["id"] for t in after["tries"]] == [kept]
    for _ in range(2):
        state = browser.state()
        browser.post(f"/api/projects/{browser.project}/undo", {"base": state["snapshot"]})
    assert browser.state()["undo"] is None, "two steps are left, no more"
    assert "can be kept" in browser.post(f"/api/projects/{browser.project}/thin", {"keep": -1}, 422)["detail"]


def test_what_an_older_version_measured_is_measured_again_at_the_start(browser: Browser) -> None:
    browser.upload(two__obj=by_objects(OVERLAPPING))
    layout = browser.state()["layout"]
    figures = browser.state()["figures"]
    Layout.objects.filter(pk=layout).update(measured=0, findings=b"", pieces=[])
    for path in files.folder("derived").iterdir():
        path.unlink()
    sources._islands_open.clear()
    refresh()
    found = Layout.objects.get(pk=layout)
    assert found.measured == VERSION and browser.state()["figures"] == figures
    assert len(unpack_arrays(found.findings)["box"]) == 2 and np.isfinite(unpack_arrays(found.findings)["box"]).all()


def test_a_full_disk_is_told_in_words(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(files.os, "replace", full)
    answer = browser.client.post(
        f"/api/projects/{browser.project}/files", {"files": [SimpleUploadedFile("x.obj", b"v 9 9 9")], "paths": ["x.obj"]}
    )
    assert answer.status_code == 503 and "Make room" in answer.json()["detail"]
    assert not list(Path(settings.DATA_DIR).glob("files/*/.new-*"))


def test_history_beyond_the_limit_forgets_itself(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    browser.change(settings={**browser.state()["settings"], "history": 4})
    for k in range(14):
        assert browser.run("mend", action="even", density=100.0 + k)["state"] == "done"
    steps = Snapshot.objects.filter(project_id=browser.project).count()
    assert 5 <= steps <= 4 + 5, "sixteen steps, of which few over the limit wait to be forgotten"
    assert forget_beyond(Project.objects.get(pk=browser.project)) == 0
    while browser.state()["undo"]:
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
        steps -= 1
    assert steps == 1
    assert not browser.state()["undo"]
    browser.post(
        f"/api/projects/{browser.project}/change",
        {"base": browser.state()["snapshot"], "settings": {**browser.state()["settings"], "history": -1}},
        422,
    )
