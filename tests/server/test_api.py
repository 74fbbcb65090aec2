"""The API with a real database, and jobs run as the worker runs them."""

from __future__ import annotations

import io
import json
import struct
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from pytest_django import DjangoAssertNumQueries

from quilt_core import formats
from quilt_core.measure.proof import prove
from quilt_core.uv.analysis import analyse
from quilt_server.jobs.worker import run_one, sweep
from quilt_server.projects.models import Job, Project, Snapshot
from quilt_server.schemas.state import FaultOut, StateOut
from quilt_server.states import state_of
from tests.shapes import PLANE, gltf_plane, grid_obj

pytestmark = pytest.mark.django_db(transaction=True)


class Browser:
    """What the front end does, without the drawing."""

    def __init__(self) -> None:
        self.client = Client(headers={"x-quilt": "1"})
        self.project = self.post("/api/projects", {"name": "Test"})["id"]

    def post(self, path: str, body: object, expect: int = 200) -> dict:
        answer = self.client.post(path, json.dumps(body), content_type="application/json")
        assert answer.status_code == expect, answer.content
        return answer.json()

    def state(self) -> dict:
        return self.client.get(f"/api/projects/{self.project}").json()

    def upload(self, **files: bytes) -> dict:
        names = {k.replace("__", "."): v for k, v in files.items()}
        data = {"files": [SimpleUploadedFile(n, b) for n, b in names.items()], "paths": list(names)}
        answer = self.client.post(f"/api/projects/{self.project}/files", data)
        assert answer.status_code == 200, answer.content
        return self.work(answer.json())

    def work(self, job: dict) -> dict:
        Job.objects.filter(pk=job["id"]).update(state="running")
        run_one(job["id"])
        return self.client.get(f"/api/jobs/{job['id']}").json()

    def change(self, expect: int = 200, **change: object) -> dict:
        return self.post(f"/api/projects/{self.project}/change", {"base": self.state()["snapshot"], **change}, expect)

    def run(self, kind: str, **params: object) -> dict:
        body = {"kind": kind, "base": self.state()["snapshot"], "params": params}
        return self.work(self.post(f"/api/projects/{self.project}/jobs", body))


@pytest.fixture
def browser() -> Browser:
    return Browser()


def quick(browser: Browser, **more: object) -> None:
    browser.change(settings={**browser.state()["settings"], "seconds": 0.5, "map_px": 1024, **more})


def test_the_whole_job(browser: Browser) -> None:
    assert browser.upload(squares__obj=grid_obj(6), plane__gltf=gltf_plane([{"mesh": 0, "scale": [2, 2, 2]}]))["state"] == "done"
    quick(browser, padding_px=6.0)
    assert browser.state()["figures"]["overlap"]["pairs"] > 0
    assert browser.run("pack")["state"] == "done"
    state = browser.state()
    assert state["packed"] and state["figures"]["overlap"]["pairs"] == 0 and state["figures"]["smallest_gap_px"] >= 6 - 1e-3
    medians = [o["density"]["median"] for o in state["objects"]]
    assert max(medians) / min(medians) == pytest.approx(1, rel=1e-5)
    job = browser.run("deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{job['id']}/output").getvalue()))
    assert set(archive.namelist()) == {"squares.obj", "plane.gltf", "report.json", "report.html", "manifest.json", "template.1001.png"}
    pieces = [p for n in ("squares.obj", "plane.gltf") for p in analyse(formats.read(archive.read(n), n), 0) if p]
    proof = prove(pieces, None, 1024)
    assert proof.ok and proof.gap_px is not None and proof.gap_px >= 6 - 1e-3
    report = json.loads(archive.read("report.json"))
    assert report["ok"] and report["smallest_gap_px"] == pytest.approx(proof.gap_px, abs=1e-4)


def test_the_state_is_what_its_schema_says(browser: Browser) -> None:
    """The state is sent unchecked: nothing that the schema promises may be missing in it, nor be of another kind."""

    def promised(found: object, schema: object) -> None:
        if isinstance(schema, dict) and isinstance(found, dict):
            assert set(schema) <= set(found), set(schema) - set(found)
            for k in schema:
                promised(found[k], schema[k])
        elif isinstance(schema, list) and isinstance(found, list):
            for a, b in zip(found, schema, strict=True):
                promised(a, b)
        else:
            assert found == schema

    def check() -> None:
        found = browser.state()
        promised(found, StateOut(**found).model_dump(mode="json"))
        faults = browser.client.get(f"/api/projects/{browser.project}/faults").json()
        promised(faults, [FaultOut(**f).model_dump(mode="json") for f in faults])

    check()
    browser.upload(squares__obj=grid_obj(6), plane__gltf=gltf_plane([{"mesh": 0, "scale": [2, 2, 2]}]))
    check()
    quick(browser)
    for kind in ("pack", "bleed"):
        assert browser.run(kind)["state"] == "done"
        check()


def test_the_state_takes_few_queries_however_many_objects_there_are(
    browser: Browser, django_assert_max_num_queries: DjangoAssertNumQueries
) -> None:
    browser.upload(**{f"squares{k}__obj": grid_obj(40) for k in range(5)})
    quick(browser)
    browser.run("pack")
    assert len(browser.state()["objects"]) >= 5
    with django_assert_max_num_queries(7):
        browser.state()


def test_a_state_that_is_told_again_is_as_it_is_by_then(browser: Browser) -> None:
    """Most of a state is written once; whatever can change without a step has to show all the same."""
    project = f"/api/projects/{browser.project}"

    def told() -> dict:
        found = browser.state()
        assert found == json.loads(json.dumps(state_of(Project.objects.get(pk=browser.project))))
        return found

    browser.upload(squares__obj=grid_obj(6))
    quick(browser)
    browser.run("pack")
    before = told()
    browser.run("bleed")
    proven = told()
    assert before["sheets"][0]["bleed"] is None and proven["sheets"][0]["bleed"] is not None and proven["snapshot"] == before["snapshot"]
    browser.client.patch(project, json.dumps({"name": "Otherwise"}), content_type="application/json")
    assert told()["name"] == "Otherwise"
    number = proven["tries"][0]["id"]
    browser.post(f"{project}/tries/discard", {"base": proven["snapshot"], "layout": number, "discarded": False, "name": "Tight"})
    assert told()["tries"][0]["name"] == "Tight"
    browser.change(settings=proven["settings"] | {"band": 33.0})
    browser.post(f"{project}/undo", {"base": browser.state()["snapshot"]})
    again = told()
    assert again["redo"] and again["undo"] and again["snapshot"] == proven["snapshot"]
    browser.post(f"{project}/thin", {"keep": 0})
    assert told()["undo"] is None
    job = browser.post(f"{project}/jobs", {"kind": "pack", "base": again["snapshot"], "params": {}})
    assert told()["job"] == job["id"]


def test_undo_and_redo_move_the_pointer_and_lose_nothing(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(4))
    quick(browser)
    before = browser.state()
    browser.run("pack")
    packed = browser.state()
    path = f"/api/projects/{browser.project}"
    undone = browser.post(f"{path}/undo", {"base": packed["snapshot"]})
    assert undone["layout"] == before["layout"] and undone["redo"] and not undone["packed"] and len(undone["tries"]) == 1
    redone = browser.post(f"{path}/redo", {"base": undone["snapshot"]})
    assert redone["layout"] == packed["layout"]
    kept = browser.post(f"{path}/undo", {"base": redone["snapshot"]})
    browser.run("keep", layout=packed["layout"])
    again = browser.state()
    assert again["figures"]["coverage"] == packed["figures"]["coverage"] and again["snapshot"] != kept["snapshot"]
    assert again["packed"] and [t["kept"] for t in again["tries"]] == [True]


def test_a_second_tab_is_told(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    old = browser.state()
    quick(browser)
    answer = browser.post(f"/api/projects/{browser.project}/change", {"base": old["snapshot"], "settings": old["settings"]}, 409)
    assert "another tab" in answer["detail"]
    assert browser.state()["settings"]["map_px"] == 1024


def test_bad_files_leave_the_project_as_it_was(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    before = browser.state()
    job = browser.upload(bad__obj=PLANE.replace(b"4/4", b"9/4"))
    assert job["state"] == "failed" and "bad.obj: line 11" in job["error"]
    assert browser.state() == before
    assert "no mesh" in browser.upload(notes__txt=b"hello")["error"]
    assert "zip" in browser.upload(a__zip=b"PK not really")["error"]


def test_more_files_join_and_a_layout_stays(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    quick(browser)
    browser.run("pack")
    density = browser.state()["objects"][0]["density"]["median"]
    browser.upload(plane__obj=PLANE)
    state = browser.state()
    assert [o["name"] for o in state["objects"]] == ["squares", "plane"] and not state["packed"]
    assert state["objects"][0]["density"]["median"] == pytest.approx(density)


def test_left_out_objects_are_not_packed(browser: Browser) -> None:
    browser.upload(two__obj=grid_obj(2) + b"o other\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0.2 0.2\nvt 0.4 0.2\nvt 0.2 0.4\nf -3/-3 -2/-2 -1/-1\n")
    quick(browser)
    keys = [o["key"] for o in browser.state()["objects"]]
    browser.run("objects", left_out=[keys[1], "999/0"])
    browser.run("pack")
    state = browser.state()
    assert state["figures"]["islands"] == 2 and [o["left_out"] for o in state["objects"]] == [False, True]
    table = np.frombuffer(browser.client.get(f"/api/layouts/{state['layout']}/files/{state['files'][0]['id']}").content, "<f4").reshape(
        -1, 5
    )
    assert table[2].tolist() == [0, 1, 1, 0, 0] and table[0, 2] != 1


def test_a_zip_with_folders(browser: Browser) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as z:
        z.writestr("set/a.obj", PLANE)
        z.writestr("set/sub/b.obj", grid_obj(2))
    assert browser.upload(set__zip=out.getvalue())["state"] == "done"
    assert [f["name"] for f in browser.state()["files"]] == ["set/a.obj", "set/sub/b.obj"]


def test_a_zip_whose_file_has_no_name_is_told(browser: Browser) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as z:
        z.writestr("a.obj", PLANE)
        z.writestr("lid.obj", PLANE)
    told = browser.upload(set__zip=out.getvalue().replace(b"lid.obj", b"\0id.obj"))
    assert told["state"] == "failed" and "set.zip" in told["error"] and "is not a file name" in told["error"]


@pytest.mark.parametrize("name", ["../up.obj", "/etc/a.obj", "a/../../b.obj"])
def test_names_that_climb_are_refused(browser: Browser, name: str) -> None:
    data = {"files": [SimpleUploadedFile("x.obj", PLANE)], "paths": [name]}
    assert browser.client.post(f"/api/projects/{browser.project}/files", data).status_code == 422


def test_geometry_is_what_its_header_says(browser: Browser) -> None:
    browser.upload(plane__gltf=gltf_plane([{"mesh": 0}, {"mesh": 0, "translation": [5, 0, 0]}]))
    file = browser.state()["files"][0]["id"]
    body = browser.client.get(f"/api/files/{file}/channels/0/geometry").content
    size = struct.unpack_from("<I", body)[0]
    header = json.loads(body[4 : 4 + size])
    assert len(body) == 4 + size + sum(4 * n * w for _, _, n, w in header["arrays"])
    assert [o["table"] for o in header["objects"]] == [True, False] and header["islands"] == 1
    assert header["objects"][0]["edge"][1] == 4  # a square has four outline edges, its diagonal is none


def test_projects_are_renamed_copied_deleted_and_brought_back(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    quick(browser)
    browser.run("pack")
    path = f"/api/projects/{browser.project}"
    copy = browser.post(f"{path}/copy", {})
    state = browser.client.get(f"/api/projects/{copy['id']}").json()
    own = browser.state()
    assert state["packed"] and state["figures"]["coverage"] == own["figures"]["coverage"]
    # Figures that name islands name the copy's own.
    files = [s["files"][0]["id"] for s in (own, state)]
    named = [s["figures"]["tiles"][0]["margin_at"][0].split(":") for s in (own, state)]
    assert files[0] != files[1] and [int(n[0]) for n in named] == files and named[0][1] == named[1][1]
    browser.project = copy["id"]
    assert browser.run("deliver")["state"] == "done"
    rename = browser.client.patch(path, json.dumps({"name": "Other"}), content_type="application/json")
    assert rename.json()["name"] == "Other"
    assert browser.client.delete(path).json()["deleted"] and not browser.post(f"{path}/restore", {})["deleted"]
    assert browser.post("/api/projects", {"name": "  "}, 422)["detail"]


def test_settings_that_cannot_work_are_refused(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    settings = browser.state()["settings"]
    for bad in ({"padding_px": -1}, {"map_px": 7}, {"rotate": "11"}, {"hold": True, "density": 0}):
        browser.change(422, settings={**settings, **bad})
    assert browser.state()["settings"] == settings


def test_what_does_not_fit_is_said_and_nothing_changes(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    quick(browser, hold=True, density=1e5)
    before = browser.state()
    job = browser.run("pack")
    assert job["state"] == "failed" and "do not fit" in job["error"] and browser.state() == before


def test_a_change_during_packing_is_not_overwritten(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    quick(browser)
    job = browser.post(f"/api/projects/{browser.project}/jobs", {"kind": "pack", "base": browser.state()["snapshot"]})
    assert browser.post(f"/api/projects/{browser.project}/jobs", {"kind": "pack", "base": browser.state()["snapshot"]}, 409)
    quick(browser, seconds=0.3)
    assert "changed" in browser.work(job)["error"]


def test_interrupted_jobs_are_reported(browser: Browser) -> None:
    job = Job.objects.create(project_id=browser.project, kind="pack", state="running")
    sweep()
    job.refresh_from_db()
    assert job.state == "interrupted" and "again" in job.error


def test_foreign_pages_cannot_change_anything(browser: Browser) -> None:
    body = json.dumps({"name": "x"})
    assert Client().post("/api/projects", body, content_type="application/json").status_code == 403
    assert (
        browser.client.post("/api/projects", body, content_type="application/json", headers={"origin": "http://evil.test"}).status_code
        == 403
    )
    assert browser.client.get("/api/projects", headers={"host": "evil.test"}).status_code == 400
    assert Project.objects.count() == 1


def test_snapshots_are_never_rewritten(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    first = Snapshot.objects.exclude(layout=None).values().get()
    quick(browser)
    assert Snapshot.objects.values().get(pk=first["id"]) == first
