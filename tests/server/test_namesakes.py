"""Files of one name: whatever is in the project leaves, each with what belongs to it; and a bad file among good ones keeps nobody out."""

from __future__ import annotations

import io
import json
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from quilt_core import formats
from tests.core.test_faults import squares
from tests.kit.files import png

from .test_api import Browser
from .test_sheets import job

pytestmark = pytest.mark.django_db(transaction=True)
ONE = [(0.1, 0.1, 0.4, 0.4)]
OTHER = [(0.5, 0.5, 0.9, 0.9), (0.1, 0.6, 0.2, 0.7)]
PLAIN = {"seconds": 0.3, "map_px": 256}


@pytest.fixture
def browser() -> Browser:
    return Browser()


def obj(boxes: list, library: str = "paint.mtl") -> bytes:
    return f"mtllib {library}\n".encode() + squares(boxes).replace(b"\nf ", b"\nusemtl wood\nf ", 1)


def flat(value: int) -> bytes:
    return png(np.full((8, 8, 3), value, np.uint8))


def mtl(picture: str, colour: float = 0.5) -> bytes:
    return f"newmtl wood\nKd {colour} {colour} {colour}\nmap_Kd {picture}\n".encode()


def bring(browser: Browser, *files: tuple[str, bytes], expect: str = "done") -> dict:
    body = {"files": [SimpleUploadedFile(n.rsplit("/", 1)[-1], b) for n, b in files], "paths": [n for n, _ in files]}
    answer = browser.client.post(f"/api/projects/{browser.project}/files", body)
    assert answer.status_code == 200, answer.content
    done = browser.work(answer.json())
    assert done["state"] == expect, done
    return done


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as z:
        for name, body in files.items():
            z.writestr(name, body)
    return out.getvalue()


def delivered(browser: Browser, **order: object) -> tuple[dict[str, bytes], list[dict]]:
    state = browser.state()
    browser.change(settings={**state["settings"], **PLAIN})
    assert job(browser, "pack")["state"] == "done"
    done = job(browser, "deliver", **({"templates": "none"} | order))
    assert done["state"] == "done", done["error"]
    data = b"".join(browser.client.get(f"/api/jobs/{done['id']}/output").streaming_content)
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        assert len({n.casefold() for n in z.namelist()}) == len(z.namelist()), "two files of one name in the zip"
        files = {n: z.read(n) for n in z.namelist()}
    return files, json.loads(files["manifest.json"])["files"]


def kit(boxes: list, colour: int) -> tuple[tuple[str, bytes], ...]:
    return ("crate.obj", obj(boxes)), ("paint.mtl", mtl("wood.png", colour / 255)), ("wood.png", flat(colour))


def looks(files: dict[str, bytes], path: str) -> tuple[int, set[bytes]]:
    """Triangles of a mesh in the zip, and the pictures that it shows, by what lies in the zip alone."""
    folder = path.rpartition("/")[0]
    beside = formats.seen_from(folder, {k: v for k, v in files.items() if k != path})
    scene = formats.read(files[path], path, 1.0, beside)
    beside = beside | dict(scene.inside)
    found = {formats.find_resource(p, beside) for m in scene.materials for p in m.images.values()}
    assert None not in found, "a picture is missing in the zip"
    return sum(len(m.triangles) for m in scene.meshes), {beside[p] for p in found if p}


@pytest.mark.parametrize("order", [{}, {"paint": True}, {"format": "obj"}, {"format": "glb"}, {"format": "dae"}, {"format": "usda"}])
def test_two_uploads_of_one_name_both_leave_with_what_is_theirs(browser: Browser, order: dict) -> None:
    first, second = kit(ONE, 200), kit(OTHER, 90)
    bring(browser, *first)
    bring(browser, *second)
    names = [f["name"] for f in browser.state()["files"]]
    assert names == ["crate.obj", "crate (2).obj"]
    files, manifest = delivered(browser, **order)
    meshes = {m["came_as"][0]: m["path"] for m in manifest if m["kind"] == "mesh"}
    assert set(meshes) == set(names) and set(meshes.values()) <= set(files)
    seen = {n: looks(files, p) for n, p in meshes.items()}
    assert seen["crate.obj"][0] == 2 and seen["crate (2).obj"][0] == 4
    if not order:
        assert seen["crate.obj"][1] == {first[2][1]} and seen["crate (2).obj"][1] == {second[2][1]}


def test_namesakes_in_two_zips_keep_their_own_library(browser: Browser) -> None:
    first, second = kit(ONE, 200), kit(OTHER, 90)
    bring(browser, ("old.zip", zipped(dict(first))), ("new.zip", zipped(dict(second))))
    state = browser.state()
    assert sorted(f["name"] for f in state["files"]) == ["crate.obj", "new/crate.obj"]
    files, manifest = delivered(browser)
    meshes = {m["came_as"][0]: m["path"] for m in manifest if m["kind"] == "mesh"}
    assert looks(files, meshes["crate.obj"]) == (2, {first[2][1]})
    assert looks(files, meshes["new/crate.obj"]) == (4, {second[2][1]})


def test_folders_of_one_name_in_one_upload(browser: Browser) -> None:
    first = tuple((f"kit/{n}", b) for n, b in kit(ONE, 200))
    second = tuple((f"kit/{n}", b) for n, b in kit(OTHER, 90))
    bring(browser, *first, *second)
    files, manifest = delivered(browser)
    meshes = {m["came_as"][0]: m["path"] for m in manifest if m["kind"] == "mesh"}
    assert set(meshes) == {"kit/crate.obj", "kit/crate (2).obj"}
    assert looks(files, meshes["kit/crate.obj"]) == (2, {first[2][1]})
    assert looks(files, meshes["kit/crate (2).obj"]) == (4, {second[2][1]})


def test_a_library_that_two_files_share_stays_one(browser: Browser) -> None:
    _, library, picture = kit(ONE, 200)
    bring(browser, ("a.obj", obj(ONE)), ("b.obj", obj(OTHER)), library, picture)
    files, _ = delivered(browser)
    assert {n for n in files if n.endswith((".obj", ".mtl", ".png"))} == {"a.obj", "b.obj", "paint.mtl", "wood.png"}


def test_a_mesh_whose_library_another_one_writes_over(browser: Browser) -> None:
    """`a.obj` gets a library `a.mtl` of its own with its new paint; `b.obj`, which has no paint, shows the old `a.mtl`."""
    bring(browser, ("a.obj", obj(ONE, "a.mtl")), ("b.obj", obj(OTHER, "a.mtl")), ("a.mtl", mtl("wood.png")), ("wood.png", flat(9)))
    files, manifest = delivered(browser, paint=True)
    for m in manifest:
        if m["kind"] == "mesh":
            looks(files, m["path"])


def test_a_file_that_is_called_as_the_report(browser: Browser) -> None:
    bring(browser, ("report.json", b"{}"), ("crate.obj", obj(ONE, "report.json")))
    files, manifest = delivered(browser)
    assert json.loads(files["report.json"])["islands"] == 1
    assert files[next(m["path"] for m in manifest if m["kind"] == "mesh")]


def test_a_bad_file_among_good_ones_is_told_and_keeps_nobody_out(browser: Browser) -> None:
    bring(browser, ("first.obj", squares(OTHER)))
    before = browser.state()
    done = bring(
        browser, ("good.obj", squares(ONE)), ("empty.obj", b""), ("bad.glb", b"glTF\x02\0\0\0no"), ("bad.zip", b"PK\x03\x04nothing"),
    )  # fmt: skip
    refused = {r["file"]: r["why"] for r in done["result"]["refused"]}
    assert set(refused) == {"empty.obj", "bad.glb", "bad.zip"} and all(name in why for name, why in refused.items())
    state = browser.state()
    assert [f["name"] for f in state["files"]] == ["first.obj", "good.obj"]
    browser.post(f"/api/projects/{browser.project}/undo", {"base": state["snapshot"]})
    assert browser.state()["files"] == before["files"], "one step takes it back"


def test_where_nothing_can_be_read_nothing_changes(browser: Browser) -> None:
    done = bring(browser, ("empty.obj", b""), ("bad.glb", b"glTF"), expect="failed")
    assert "empty.obj" in done["error"] and "bad.glb" in done["error"]
    assert browser.state()["files"] == []


def test_a_fault_of_the_disk_leaves_no_file_out(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is wrong with the machine ends the job in words: a file that is sound is not told to be bad."""
    from quilt_server.projects import files

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    body = {"files": [SimpleUploadedFile("a.obj", squares(ONE)), SimpleUploadedFile("b.obj", b"")], "paths": ["a.obj", "b.obj"]}
    started = browser.client.post(f"/api/projects/{browser.project}/files", body).json()
    monkeypatch.setattr(files.os, "replace", full)
    done = browser.work(started)
    assert done["state"] == "failed" and "data folder cannot be written" in done["error"] and "refused" not in done["result"], done


def test_after_the_first_files_are_taken_back_others_come_in(browser: Browser) -> None:
    bring(browser, ("a.obj", squares(ONE)))
    empty = browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert not empty["files"] and not empty["undo"]
    refused = job(browser, "pack")
    assert refused["state"] == "failed" and "Bring in a mesh first" in refused["error"]
    bring(browser, ("b.obj", squares(OTHER)))
    now = browser.state()
    assert [f["name"] for f in now["files"]] == ["b.obj"] and now["undo"] == "Bring in b.obj"
