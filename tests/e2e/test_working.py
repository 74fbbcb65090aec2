"""What is being done: its figure, its stop, and the work of other projects."""

from __future__ import annotations

import re
from pathlib import Path

import trimesh
from playwright.sync_api import Page, expect

from tests.shapes import grid_obj

from .steps import idle, put, stage, start


def long_packing(page: Page, address: str, file: Path, name: str) -> None:
    """A project that packs for ten minutes."""
    start(page, address, name, file)
    stage(page, "Arrange")
    put(page, "Time", "600")
    page.get_by_role("button", name="Pack this sheet").click()
    expect(page.get_by_role("banner").get_by_text("of 600 s")).to_be_visible()


def test_work_of_another_project_is_listed_and_stopped(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "patches.obj"
    file.write_bytes(grid_obj(9))
    long_packing(page, address, file, "Long one")
    expect(page.get_by_role("progressbar", name="Done of it")).to_be_attached()
    page.get_by_role("button", name="All projects").click()
    at_work = page.get_by_role("region", name="At work")
    expect(at_work.get_by_text("Long one")).to_be_visible()
    start(page, address, "Short one", file)
    page.get_by_role("button", name="1 more at work").click()
    expect(page.get_by_role("dialog").get_by_text("Packing")).to_be_visible()
    page.get_by_role("button", name="Stop the work of Long one").click()
    expect(page.get_by_role("button", name="1 more at work")).not_to_be_visible()
    page.get_by_role("button", name="All projects").click()
    page.get_by_role("button", name="Long one", exact=True).click()
    stage(page, "Arrange")
    # Stopped packing keeps the best that it had.
    expect(page.get_by_role("region", name="What was packed")).to_be_visible()


def test_work_that_takes_a_while_has_a_stop(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "ball.obj"
    trimesh.creation.icosphere(6).export(file)
    start(page, address, "Stopped", file)
    stage(page, "Mend")
    page.get_by_role("listbox", name="Objects").get_by_role("option").first.click()
    page.get_by_role("button", name="Unwrap the whole object selected").click()
    page.get_by_role("banner").get_by_role("button", name="Stop", exact=True).click()
    expect(page.get_by_role("alert").get_by_text("Stopped.")).to_be_visible()
    idle(page)
    expect(page.get_by_role("button", name="Undo")).to_have_attribute("title", re.compile("Undo Bring in ball.obj"))
