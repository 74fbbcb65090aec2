"""A batch over a folder of the server, as the browser starts and follows it: what may be read, what became of each asset, and an asset opened as a project."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterator
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import pytest

from quilt_server.batches import runner
from quilt_server.batches.library import results_of
from quilt_server.batches.models import Asset, Batch
from quilt_server.jobfile import batch as engine
from quilt_server.jobfile.assets import Asset as Found
from quilt_server.jobfile.places import Here
from quilt_server.projects.models import Job
from tests.core.test_faults import squares
from tests.server.test_api import Browser

pytestmark = pytest.mark.django_db(transaction=True)
JOB = 'job = 1\nname = "Kit"\n[recipe]\nmap_px = 256\npadding_px = 3.0\npasses = 4\nhold = true\ndensity = 80.0\n[check]\ndensity_least = 100.0\n'
TWO = [(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]
BARE = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"


@pytest.fixture(scope="module")
def client() -> Iterator[Any]:
    """A cluster of one process, which all batches here share: a start takes seconds."""
    with engine.cluster(None, 1) as client:
        yield client


@pytest.fixture(autouse=True)
def _one_cluster(client: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(engine, "cluster", lambda *_, **__: nullcontext(client))


@pytest.fixture
def library(tmp_path: Path, settings: Any) -> Path:
    """Two that can be done, one of them with its material above itself; one without UVs, one torn, one that does not fit; and what may not be read."""
    top = tmp_path / "library"
    for path, body in {
        "kit/crate.obj": squares(TWO),
        "kit/deep/lid.obj": b"mtllib ../../paint.mtl\nusemtl wood\n" + squares(TWO),
        "paint.mtl": b"newmtl wood\nKd 0.5 0.4 0.3\n",
        "kit/bare.obj": BARE,
        "kit/torn.glb": b"glTF\x02\x00\x00\x00",
        "kit/vast.obj": squares(TWO, size=50.0),
        "kit/.hidden/secret.obj": squares(TWO),
        "other/more.obj": squares(TWO),
    }.items():
        (top / path).parent.mkdir(parents=True, exist_ok=True)
        (top / path).write_bytes(body)
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside" / "foreign.obj").write_bytes(squares(TWO))
    (top / "kit" / "link.obj").symlink_to(tmp_path / "outside" / "foreign.obj")
    (top / "away").symlink_to(tmp_path / "outside")
    settings.QUILT_LIBRARY = str(top)
    settings.QUILT_RESULTS = str(tmp_path / "results")
    return top


def started(browser: Browser, folder: str = "kit", **more: str) -> dict[str, Any]:
    return browser.post("/api/batches", {"folder": folder, "job_name": "kit.toml", "job_text": JOB, **more})


def assets(browser: Browser, batch: int, show: str = "all") -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = browser.client.get(f"/api/batches/{batch}/assets?show={show}").json()["rows"]
    return found


def opened(browser: Browser, batch: int, asset: dict[str, Any]) -> dict[str, Any]:
    """Open an asset; the job that does it, with the browser on its project."""
    found = browser.post(f"/api/batches/{batch}/assets/{asset['id']}/open", {})
    browser.project = found["project"]
    return browser.work(found["job"])


def test_without_a_library_nothing_of_this_machine_is_read(settings: Any) -> None:
    settings.QUILT_LIBRARY = None
    browser = Browser()
    assert browser.client.get("/api/library").json() is None
    told = browser.post("/api/batches", {"folder": "", "job_name": "kit.toml", "job_text": JOB}, 422)
    assert "--library" in told["detail"] and not Batch.objects.exists()


@pytest.mark.parametrize("folder", ["..", "kit/../..", "/etc", "away", "kit/.hidden", "kit/crate.obj", "gone"])
def test_a_folder_that_is_none_of_the_library_is_refused(library: Path, folder: str) -> None:
    browser = Browser()
    assert browser.client.get("/api/library", {"folder": folder}).status_code == 422
    assert "no folder" in browser.post("/api/batches", {"folder": folder, "job_name": "k.toml", "job_text": JOB}, 422)["detail"]


def test_what_a_folder_holds_is_shown(library: Path) -> None:
    seen = Browser().client.get("/api/library").json()
    assert seen == {"path": "", "folders": ["kit", "other"], "meshes": 7, "more": False}
    assert Browser().client.get("/api/library?folder=kit").json()["folders"] == ["deep"]


def test_a_job_file_that_is_none_starts_nothing(library: Path) -> None:
    told = Browser().post("/api/batches", {"folder": "kit", "job_name": "kit.toml", "job_text": "job = 1\n[recipee]\n"}, 422)
    assert "recipee" in told["detail"] and "recipe" in told["detail"] and not Batch.objects.exists()


def test_a_batch_is_done_and_its_assets_open_as_they_were_left(library: Path) -> None:
    browser = Browser()
    batch = started(browser)
    number = batch["id"]
    runner.work(Batch.objects.get(pk=number))
    rows = {r["name"]: r for r in assets(browser, number)}
    assert list(rows) == ["torn.glb", "vast.obj", "crate.obj", "deep/lid.obj", "bare.obj"], (
        "what failed first, then what is outside, then what is not fit"
    )
    assert [r["state"] for r in rows.values()] == ["failed", "failed", "done", "done", "done"]
    assert browser.client.get(f"/api/batches/{number}").json()["counts"] == {"failed": 2, "outside": 2, "unfit": 1, "fine": 0, "waiting": 0}
    assert rows["crate.obj"]["density"] == pytest.approx(80.0) and "20% below the least density" in rows["crate.obj"]["said"]
    assert "without UVs" in rows["bare.obj"]["said"] and not rows["bare.obj"]["picture"] and rows["bare.obj"]["files"]
    assert [r["name"] for r in assets(browser, number, "failed")] == ["torn.glb", "vast.obj"]
    table = browser.client.get(f"/api/batches/{number}/summary.csv").content.decode()
    assert len(table.splitlines()) == 6 and "foreign" not in table

    lid = f"/api/batches/{number}/assets/{rows['deep/lid.obj']['id']}"
    assert browser.client.get(f"{lid}/picture").content[:4] == b"\x89PNG"
    put_out = zipfile.ZipFile(io.BytesIO(b"".join(browser.client.get(f"{lid}/files").streaming_content)))  # type: ignore[attr-defined]
    told = json.loads(put_out.read("run.json"))
    assert opened(browser, number, rows["deep/lid.obj"])["state"] == "done"
    state = browser.state()
    assert state["name"] == "deep/lid.obj" and state["figures"]["coverage"] == pytest.approx(told["coverage"])
    assert state["tries"] and state["settings"]["map_px"] == 256
    delivered = zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=browser.run("deliver", templates="none")["id"]).output))
    for name in ("kit/deep/lid.obj", "paint.mtl"):
        assert delivered.read(name) == put_out.read(name), "what leaves the project is what the batch put out"


def test_an_asset_that_failed_opens_with_all_that_the_job_sets_up(library: Path) -> None:
    browser = Browser()
    number = started(browser)["id"]
    runner.work(Batch.objects.get(pk=number))
    torn, vast = assets(browser, number, "failed")
    assert opened(browser, number, vast)["state"] == "done"
    state = browser.state()
    assert len(state["objects"]) == 1 and state["settings"]["map_px"] == 256 and not state["tries"]
    told = opened(browser, number, torn)
    assert told["state"] == "failed" and "torn.glb" in told["error"] and browser.state()["files"] == []


def test_a_second_run_does_only_what_changed(library: Path) -> None:
    browser = Browser()
    number = started(browser, "other")["id"]
    runner.work(Batch.objects.get(pk=number))
    (library / "other" / "new.obj").write_bytes(squares(TWO[:1]))
    Batch.objects.filter(pk=number).update(state="done")
    assert browser.post(f"/api/batches/{number}/again", {})["state"] == "waiting"
    assert browser.post(f"/api/batches/{number}/again", {}, 409)["detail"] == "This batch is at work already."
    runner.work(Batch.objects.get(pk=number))
    assert {r["name"]: r["state"] for r in assets(browser, number)} == {"more.obj": "unchanged", "new.obj": "done"}


def test_a_batch_goes_with_its_results_and_not_while_it_is_at_work(library: Path) -> None:
    browser = Browser()
    batch = started(browser, "other")
    runner.work(Batch.objects.get(pk=batch["id"]))
    out = results_of(batch["id"], batch["name"])
    assert (out / "more.obj" / "run.json").is_file() and (out / "batch.html").is_file()
    assert browser.client.delete(f"/api/batches/{batch['id']}").status_code == 409
    Batch.objects.filter(pk=batch["id"]).update(state="done")
    assert browser.client.delete(f"/api/batches/{batch['id']}").json() == []
    assert not out.exists() and not Asset.objects.exists() and (library / "other" / "more.obj").is_file()


def test_a_page_of_a_large_batch_is_small(library: Path) -> None:
    browser = Browser()
    batch = Batch.objects.create(name="Large", folder="", job={"job": 1}, state="done")
    Asset.objects.bulk_create(Asset(batch=batch, name=f"a{n:05}.obj", rank=3, state="done", row={"ok": True}) for n in range(10_000))
    first = browser.client.get(f"/api/batches/{batch.pk}/assets").json()
    last = browser.client.get(f"/api/batches/{batch.pk}/assets?start=9950").json()
    assert (len(first["rows"]), first["more"], len(last["rows"]), last["more"]) == (100, 9900, 50, 0)
    assert first["rows"][0]["name"] == "a00000.obj" and last["rows"][-1]["name"] == "a09999.obj"


def test_what_a_link_leads_to_outside_the_library_is_no_asset(library: Path) -> None:
    batch = Batch.objects.create(name="All", folder="", job={"job": 1})
    found: list[Found] = runner.found_assets(batch, Here(results_of(batch.pk, batch.name)))
    assert {a.name for a in found} == {
        "kit/crate.obj",
        "kit/deep/lid.obj",
        "kit/bare.obj",
        "kit/torn.glb",
        "kit/vast.obj",
        "other/more.obj",
    }
    assert {a.name for a in found} == set(batch.assets.values_list("name", flat=True))
    assert any("link.obj" in p for p in Here(library).files()), "the link is there"
