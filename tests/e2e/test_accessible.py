"""No serious finding of axe-core (Deque, MPL 2.0; it ships with the front end's tools) on any stage, the start page and the dialogs; the whole job by keyboard alone."""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import Path
from typing import Literal

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import FileChooser, Page, expect

from tests.server.test_tile_rules import figure

from .steps import idle, packed, put, stage, start

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
STAGES = ("Gather", "Inspect", "Mend", "Even", "Arrange", "Prove", "Deliver")


def serious(page: Page) -> list[str]:
    """Findings that axe-core calls serious or critical, each with the first element that it is about."""
    page.evaluate(AXE.read_text())
    found = page.evaluate("() => axe.run(document, { resultTypes: ['violations'] })")
    return [
        f"{v['id']}: {v['nodes'][0]['html'][:160]} ({len(v['nodes'])})"
        for v in found["violations"]
        if v["impact"] in ("serious", "critical")
    ]


@pytest.mark.reference("axe-core 4.14 on every screen", "axe-core, npm")
@pytest.mark.parametrize("theme", ["light", "dark"])
def test_no_screen_has_a_serious_finding(page: Page, address: str, tmp_path: Path, theme: Literal["light", "dark"]) -> None:
    """Contrast of text is among what is checked, in both themes."""
    page.emulate_media(color_scheme=theme)
    file = tmp_path / "figure.obj"
    file.write_bytes(figure())
    page.goto(address)
    page.get_by_role("button", name="Start a project").wait_for()
    assert serious(page) == [], "start page"
    start(page, address, "Axe", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_role("button", name="Pack this sheet").click()
    packed(page)
    for name in STAGES:
        stage(page, name)
        page.wait_for_timeout(200)
        assert serious(page) == [], name
    for page_role in ("main", "navigation"):
        expect(page.get_by_role(page_role)).to_have_count(1)
    expect(page.get_by_role("heading", level=1)).to_have_text("Axe")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.wait_for_timeout(400)
    assert serious(page) == [], "keys"


def ground(page: Page) -> float:
    """How light the page's ground is, 0 to 255."""
    return page.evaluate(
        "() => getComputedStyle(document.body).backgroundColor.match(/[0-9.]+/g).slice(0, 3).reduce((a, b) => a + +b / 3, 0)"
    )


def middle(page: Page) -> float:
    """How light the middle of the tile on the table is: what is drawn there follows the theme too."""
    page.wait_for_timeout(300)
    box = page.get_by_test_id("table").bounding_box()
    assert box
    clip = {"x": box["x"] + box["width"] / 2 - 4, "y": box["y"] + box["height"] / 2 - 4, "width": 8, "height": 8}
    return float(np.asarray(Image.open(io.BytesIO(page.screenshot(clip=clip))).convert("L")).mean())


def test_the_theme_follows_the_system_until_somebody_chooses(page: Page, address: str) -> None:
    page.emulate_media(color_scheme="dark")
    page.goto(address)
    page.get_by_role("button", name="Start a project").click()
    expect(page.get_by_test_id("table")).to_be_visible()
    switch = page.get_by_role("button", name="Dark theme")
    expect(switch).to_have_attribute("aria-pressed", "true")
    assert ground(page) < 60 and middle(page) < 80
    page.emulate_media(color_scheme="light")
    expect(switch).to_have_attribute("aria-pressed", "false")
    assert ground(page) > 200 and middle(page) > 200
    switch.click()
    page.reload()
    expect(switch).to_have_attribute("aria-pressed", "true")
    assert ground(page) < 60
    # Who turns it to what the system says follows the system again.
    switch.click()
    page.emulate_media(color_scheme="dark")
    expect(switch).to_have_attribute("aria-pressed", "true")


def tab_to(page: Page, name: str, most: int = 80) -> None:
    """Tab on until what is called so has the focus."""
    for _ in range(most):
        page.keyboard.press("Tab")
        here = page.evaluate("() => document.activeElement.getAttribute('aria-label') || document.activeElement.textContent")
        if re.fullmatch(name, here.strip()):
            return
    raise AssertionError(f"{name} cannot be reached by Tab")


def test_the_whole_job_by_keyboard_alone(page: Page, address: str, tmp_path: Path) -> None:
    """From the start page to the zip; only the dialog of the browser that chooses files is not ours."""
    file = tmp_path / "figure.obj"
    file.write_bytes(figure())
    page.goto(address)
    page.get_by_role("button", name="Start a project").wait_for()
    tab_to(page, "Name of the new project")
    page.keyboard.type("By keys")
    page.keyboard.press("Enter")
    page.get_by_test_id("files").wait_for(state="attached")
    idle(page)
    # Listened for from now on: on a busy machine the dialog may be asked for before a listener that is made just then is heard.
    choosers: list[FileChooser] = []
    page.on("filechooser", lambda c: choosers.append(c))
    tab_to(page, "Choose files")
    for _ in range(10):
        page.keyboard.press("Enter")
        page.wait_for_timeout(1500)
        if choosers:
            break
    choosers[0].set_files(file)
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible(timeout=60_000)
    idle(page)
    # An object is chosen in the ledger, opened, and its first island chosen.
    for _ in range(40):
        page.keyboard.press("Tab")
        if page.evaluate("() => document.activeElement.getAttribute('role')") == "option":
            break
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.locator('[role=option][aria-selected="true"]')).to_have_count(1)
    page.keyboard.press("5")
    expect(page.get_by_role("heading", name="Arrange")).to_be_visible()
    tab_to(page, "Pack this sheet")
    page.keyboard.press("Enter")
    packed(page)
    tab_to(page, "Next: prove", 120)
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("verdict")).to_have_text(re.compile("^Fit for baking"))
    page.keyboard.press("7")
    tab_to(page, "Make the zip", 120)
    with page.expect_download(timeout=60_000) as download:
        page.keyboard.press("Enter")
    download.value.save_as(tmp_path / "a.zip")
    with zipfile.ZipFile(tmp_path / "a.zip") as z:
        assert json.loads(z.read("report.json"))["ok"]
