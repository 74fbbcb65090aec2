"""What the browser tests do again and again."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from . import tile_px

FOLDED = {"Time": "Recipe", "Seed": "Recipe", "Columns": "Tiles", "Rows": "Tiles"}  # settings of Arrange, and what they stand in


def start(page: Page, address: str, name: str, *files: Path) -> None:
    """A project with files, at its Inspect stage."""
    page.goto(address)
    page.get_by_label("Name of the new project").fill(name)
    page.get_by_role("button", name="Start a project").click()
    page.get_by_test_id("files").set_input_files(files)
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible(timeout=60_000)


def stage(page: Page, name: str) -> None:
    page.get_by_role("navigation", name="Stages").get_by_role("button", name=name).click()


def deliver(page: Page, target: Path) -> zipfile.ZipFile:
    stage(page, "Deliver")
    with page.expect_download(timeout=60_000) as download:
        page.get_by_role("button", name="Make the zip").click()
    download.value.save_as(target)
    return zipfile.ZipFile(target)


def idle(page: Page) -> None:
    """Wait until nothing is being done."""
    page.wait_for_timeout(250)
    expect(page.get_by_text("All saved")).to_be_visible(timeout=90_000)
    page.wait_for_timeout(150)


def put(page: Page, name: str, value: str) -> None:
    if name in FOLDED:
        section(page, FOLDED[name])
    field = page.get_by_role("textbox", name=name, exact=True)
    field.fill(value)
    field.press("Enter")
    idle(page)


def packed(page: Page) -> None:
    """Wait until what is packed is proven."""
    expect(page.get_by_role("region", name="What was packed")).not_to_be_visible()
    expect(page.get_by_role("region", name="What was packed")).to_be_visible(timeout=120_000)
    idle(page)


def proving(page: Page) -> None:
    """The same, and on to the figures."""
    packed(page)
    page.get_by_role("button", name="Next: prove").click()


def section(page: Page, name: str) -> None:
    button = page.get_by_role("button", name=re.compile(f"^[▸▾] {re.escape(name)}"))
    if button.get_attribute("aria-expanded") == "false":
        button.click()


def on_table(page: Page) -> Callable[[float, float], tuple[float, float]]:
    """Where a UV is on the page while the table shows all of one tile."""
    box = page.get_by_test_id("table").bounding_box()
    assert box
    side = tile_px(box)
    left, low = box["x"] + box["width"] / 2 - side / 2, box["y"] + box["height"] / 2 + side / 2
    return lambda u, v: (left + u * side, low - v * side)
