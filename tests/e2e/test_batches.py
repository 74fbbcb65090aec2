"""A batch in the real browser: started over a folder that the server may read, followed, stopped, gone on with, and an asset opened as a project."""

from __future__ import annotations

import os
import re
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.core.test_faults import squares
from tests.hostile.running import Running, running

from .test_accessible import serious

TWO = [(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]
JOB = (
    'job = 1\nname = "Kit"\n[recipe]\nmap_px = 256\npadding_px = 3.0\npasses = 2\n[check]\ndensity_least = 1.0\ndensity_greatest = 1000.0\n'
)
MANY = 12  # assets, which take a while
PART = re.compile(rf"^[1-9]\d? of {MANY} done, ")


@pytest.fixture(scope="module")
def with_library(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    top = tmp_path_factory.mktemp("assets")
    files = {"mill/crate.obj": squares(TWO), "mill/lid.obj": squares(TWO[:1]), "mill/torn.glb": b"glTF\x02\0\0\0"}
    files |= {f"quay/plank{n}.obj": squares(TWO, size=1.0 + n / MANY) for n in range(MANY)}
    for path, body in files.items():
        (top / path).parent.mkdir(exist_ok=True)
        (top / path).write_bytes(body)
    with running(tmp_path_factory.mktemp("kept") / "data", "--library", str(top)) as r:
        yield r


def start(page: Page, server: Running, folder: str, job: Path) -> None:
    job.write_text(JOB)
    page.goto(f"http://localhost:{server.port}/")
    page.get_by_role("button", name="Start a batch").click()
    page.get_by_role("group", name="Folder").get_by_role("button", name=folder, exact=True).click()
    page.get_by_test_id("batch-job").set_input_files([job])
    expect(page.get_by_role("button", name="Do it for")).to_be_enabled()
    assert serious(page) == [], "the start of a batch"
    page.get_by_role("button", name="Do it for").click()


def test_a_batch_is_started_followed_and_an_asset_opened(page: Page, with_library: Running, tmp_path: Path) -> None:
    start(page, with_library, "mill", tmp_path / "kit.toml")
    expect(page.get_by_role("status")).to_contain_text("3 of 3 done in", timeout=90_000)
    rows = page.get_by_test_id("asset")
    expect(rows).to_have_count(3)
    expect(rows.nth(0)).to_contain_text("torn.glb")
    page.get_by_role("tab", name="Fine 2").click()
    expect(rows).to_have_count(2)
    crate = rows.filter(has_text="crate.obj")
    expect(crate.locator("img")).to_have_js_property("naturalWidth", 640)
    assert serious(page) == [], "a batch"
    with page.expect_download() as table:
        page.get_by_role("link", name="Table (CSV)").click()
    assert "crate.obj" in Path(table.value.path()).read_text()
    page.get_by_role("button", name="Open crate.obj as a project").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("crate.obj", timeout=60_000)
    expect(page.get_by_text("Try 1, kept")).to_be_visible(timeout=30_000)
    page.go_back()
    expect(page.get_by_role("heading", level=1)).to_have_text("Kit, mill")


def test_a_batch_is_stopped_or_killed_and_goes_on_where_it_was(page: Page, with_library: Running, tmp_path: Path) -> None:
    start(page, with_library, "quay", tmp_path / "kit.toml")
    status = page.get_by_role("status")
    expect(status).to_have_text(PART, timeout=90_000)
    page.get_by_role("button", name="Stop").click()
    expect(status).to_contain_text("Stopped at", timeout=30_000)
    assert 1 <= int(status.inner_text().split()[2]) < MANY
    page.get_by_role("button", name="Go on").click()
    expect(page.get_by_test_id("asset").filter(has_text="unchanged since").first).to_be_visible(timeout=60_000)
    expect(status).to_have_text(PART, timeout=90_000)
    for pid in with_library.named("quilt_server.batches.runner"):
        os.kill(pid, signal.SIGKILL)
    expect(status).to_contain_text("Interrupted at", timeout=30_000)
    assert serious(page) == [], "with some that wait"
    page.get_by_role("button", name="Go on").click()
    expect(status).to_contain_text(f"{MANY} of {MANY} done in", timeout=120_000)
    page.get_by_role("button", name="Delete").click()
    page.get_by_role("button", name="Delete it with its results").click()
    expect(page.get_by_test_id("batch").filter(has_text="quay")).to_have_count(0)
    expect(page.get_by_test_id("batch").filter(has_text="mill")).to_have_count(1)
