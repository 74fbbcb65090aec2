"""Files that cannot be read among others that can: told, and taken back in one step."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from tests.shapes import grid_obj

from .steps import deliver, idle, put, section, stage, start


def test_bad_files_among_good_ones_are_told_and_the_others_can_be_taken_back(page: Page, address: str, tmp_path: Path) -> None:
    (tmp_path / "crate.obj").write_bytes(grid_obj(4))
    (tmp_path / "empty.obj").write_bytes(b"")
    (tmp_path / "torn.glb").write_bytes(b"glTF\x02\x00\x00\x00")
    page.goto(address)
    page.get_by_label("Name of the new project").fill("Mixed")
    page.get_by_role("button", name="Start a project").click()
    page.get_by_test_id("files").set_input_files([tmp_path / n for n in ("crate.obj", "empty.obj", "torn.glb")])
    told = page.get_by_role("region", name="Files that did not come in")
    expect(told).to_be_visible(timeout=60_000)
    expect(told).to_contain_text("2 files did not come in")
    expect(told.get_by_role("listitem")).to_have_count(2)
    expect(told).to_contain_text("empty.obj")
    expect(told).to_contain_text("torn.glb")
    expect(page.get_by_text("crate.obj", exact=True)).to_be_visible()
    told.get_by_role("button", name="Take the others back").click()
    expect(told).not_to_be_visible()
    idle(page)
    expect(page.get_by_text("crate.obj", exact=True)).not_to_be_visible()
    page.get_by_role("button", name="Redo").click()
    expect(page.get_by_text("crate.obj", exact=True)).to_be_visible()


def test_a_project_is_saved_as_one_file_and_opened_as_another(page: Page, address: str, tmp_path: Path) -> None:
    (tmp_path / "crate.obj").write_bytes(grid_obj(4))
    start(page, address, "Travelling", tmp_path / "crate.obj")
    idle(page)
    stage(page, "Gather")
    with page.expect_download() as download:
        page.get_by_role("button", name="Save it with its history").click()
    target = tmp_path / download.value.suggested_filename
    assert target.name == "Travelling.quilt.zip"
    download.value.save_as(target)
    page.goto(address)
    page.get_by_test_id("open-saved").set_input_files(target)
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible(timeout=60_000)
    idle(page)
    stage(page, "Gather")
    expect(page.get_by_text("crate.obj", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()


def test_a_project_is_saved_as_a_job_file_and_done_again(page: Page, address: str, tmp_path: Path) -> None:
    """The layout of the second project is that of the first, since its passes were counted."""
    (tmp_path / "crate.obj").write_bytes(grid_obj(4))
    start(page, address, "Again and again", tmp_path / "crate.obj")
    idle(page)
    stage(page, "Arrange")
    section(page, "Recipe")
    page.get_by_role("combobox", name="The search ends").select_option("passes")
    put(page, "Passes", "5")
    page.get_by_role("button", name="Pack this sheet").click()
    idle(page)
    stage(page, "Deliver")
    first = deliver(page, tmp_path / "first.zip").read("crate.obj")
    stage(page, "Gather")
    with page.expect_download() as download:
        page.get_by_role("button", name="Save as a job file").click()
    target = tmp_path / download.value.suggested_filename
    download.value.save_as(target)
    expect(page.get_by_text("All of the project is in the job file.")).to_be_visible()
    assert "passes = 5" in target.read_text() and '"crate.obj"' in target.read_text()
    page.goto(address)
    page.get_by_test_id("open-job").set_input_files([target, tmp_path / "crate.obj"])
    expect(page.get_by_role("heading", name="Prove")).to_be_visible(timeout=60_000)
    idle(page)
    assert deliver(page, tmp_path / "again.zip").read("crate.obj") == first
