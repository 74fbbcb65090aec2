"""The whole job in Chromium: the real application, its real worker, real files, clicks as a user makes them."""

from __future__ import annotations

import json
import re
import zipfile
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from quilt_core import formats
from quilt_core.measure.proof import prove
from quilt_core.uv.analysis import analyse
from tests.real_files import path


def coloured_pixels(page: Page, view: str) -> int:
    """Pixels of a view's canvas that are not its ground, read back from the picture that the user sees."""
    return page.evaluate(
        """async (id) => {
          const c = document.querySelector(`[data-testid=${id}] canvas`)
          const d = document.createElement('canvas'); d.width = c.width; d.height = c.height
          const g = d.getContext('2d'); g.drawImage(c, 0, 0)
          const p = g.getImageData(0, 0, d.width, d.height).data
          let n = 0
          for (let i = 0; i < p.length; i += 4) if (p[i + 3] > 200 && p[i] + p[i + 1] + p[i + 2] < 690) n++
          return n
        }""",
        view,
    )


def test_real_files_to_a_proven_zip(page: Page, address: str, tmp_path: Path) -> None:
    page.goto(address)
    page.get_by_label("Name of the new project").fill("Two controllers")
    page.get_by_role("button", name="Start a project").click()
    sources = [path("webxr", "hp-mixed-reality/left.glb"), path("pybullet", "a1/meshes/trunk.obj")]
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Choose files").click()
    chooser.value.set_files(sources)
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("listbox", name="Objects").get_by_role("option")).to_have_count(10)

    stages = page.get_by_role("navigation", name="Stages")
    stages.get_by_role("button", name="Arrange").click()
    page.get_by_label("Map size").select_option("1024")
    expect(page.get_by_label("Padding", exact=True)).to_have_value("4")
    page.get_by_role("button", name="▸ Recipe").click()
    page.get_by_role("textbox", name="Time").fill("3")
    page.get_by_role("textbox", name="Time").press("Enter")
    page.get_by_role("button", name="Pack this sheet").click()
    expect(page.get_by_role("status")).to_contain_text("best coverage", timeout=60_000)
    page.get_by_role("button", name="Next: prove").click(timeout=120_000)
    expect(page.get_by_role("heading", name="Prove")).to_be_visible()
    expect(page.get_by_text("Try 1, kept")).to_be_visible()
    assert coloured_pixels(page, "table") > 5000 and coloured_pixels(page, "model") > 1000

    stages.get_by_role("button", name="Deliver").click()
    with page.expect_download(timeout=120_000) as download:
        page.get_by_role("button", name="Make the zip").click()
    target = tmp_path / "out.zip"
    download.value.save_as(target)
    with zipfile.ZipFile(target) as archive:
        report = json.loads(archive.read("report.json"))
        pieces = [p for n in ("left.glb", "trunk.obj") for p in analyse(formats.read(archive.read(n), n), 0) if p]
        assert archive.read("template.1001.png")[:8] == b"\x89PNG\r\n\x1a\n"
    proof = prove(pieces, None, 1024)
    assert proof.islands == 609 and proof.overlap_pairs == 0 and proof.outside == 0
    assert proof.gap_px is not None and proof.gap_px >= 4 - 1e-3
    assert report["density_px_per_m"] == pytest.approx(report["density_px_per_m"]) and report["islands"] == 609


def test_demo_select_undo_reload(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("button", name="Tide mill, six parts").click()
    row = page.get_by_role("option", name=re.compile("sluice-gate"))
    row.click()
    expect(row).to_have_attribute("aria-selected", "true")
    page.keyboard.press("Escape")
    expect(row).to_have_attribute("aria-selected", "false")
    page.keyboard.press("Control+a")
    expect(page.locator('[role=option][aria-selected="true"]')).to_have_count(6)

    stages = page.get_by_role("navigation", name="Stages")
    stages.get_by_role("button", name="Arrange").click()
    page.get_by_role("button", name="▸ Recipe").click()
    page.get_by_role("textbox", name="Time").fill("60")
    page.get_by_role("textbox", name="Time").press("Enter")
    page.get_by_role("button", name="Pack this sheet").click()
    expect(page.get_by_role("status")).to_contain_text("best coverage", timeout=60_000)
    page.get_by_role("button", name="Stop, keep the best").click()
    expect(page.get_by_test_id("verdict")).to_have_text(re.compile("^Fit for baking"), timeout=20_000)
    expect(page.get_by_text("Try 1, kept")).to_be_visible()

    page.keyboard.press("Control+z")
    expect(page.get_by_text("Try 1, kept")).not_to_be_visible()
    page.reload()
    redo = page.get_by_role("button", name="Redo")
    expect(redo).to_be_enabled()
    redo.click()
    expect(page.get_by_text("Try 1, kept")).to_be_visible()

    table = page.get_by_test_id("table")
    box = table.bounding_box()
    assert box
    hit = False
    for k in range(1, 12):  # somewhere on this line lies an island
        page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * k / 12)
        hit = hit or page.locator('[role=option][aria-selected="true"]').count() == 1
    assert hit


def test_a_bad_file_says_where(page: Page, address: str, tmp_path: Path) -> None:
    page.goto(address)
    page.get_by_role("button", name="Start a project").click()
    page.get_by_test_id("files").set_input_files(path("assimp", "invalid/malformed.obj"))
    expect(page.get_by_role("alert")).to_contain_text("malformed.obj: line", timeout=30_000)
    expect(page.get_by_text("No objects yet")).to_be_visible()


def test_projects_come_back(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_label("Name of the new project").fill("Short-lived")
    page.get_by_role("button", name="Start a project").click()
    page.get_by_role("button", name="All projects").click()
    card = page.get_by_role("button", name="Short-lived")
    expect(card).to_be_visible()
    page.get_by_role("button", name="Delete").first.click()
    expect(card).not_to_be_visible()
    page.get_by_role("button", name="Bring it back").click()
    expect(card).to_be_visible()
