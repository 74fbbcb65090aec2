"""Inspect, mend, even, rules, hints, channels and keys through the interface, as a user does it."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.uv.analysis import analyse
from quilt_core.uv.density import densities
from tests.core.test_faults import squares
from tests.real_files import path

from .steps import deliver, on_table, put, section, stage, start

FAULTY = squares([(0.1, 0.1, 0.3, 0.3), (4.1, 4.1, 4.5, 4.5), (0.9, 0.4, 1.1, 0.6)], flip=frozenset({0}))


def test_each_fault_is_found_mended_and_counted_again(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "faulty.obj"
    file.write_bytes(FAULTY)
    start(page, address, "Faulty", file)
    sheet = page.get_by_test_id("worksheet-panel")
    for fault in ("1 island is mirrored", "1 island lies outside the sheet", "1 island lies across the border"):
        expect(sheet.get_by_text(fault)).to_be_visible()
    page.get_by_role("button", name="Flip all back").click()
    expect(sheet.get_by_text("1 island is mirrored")).not_to_be_visible()
    page.keyboard.press("n")
    expect(page.get_by_text(re.compile("1 of 1"))).to_be_visible()
    page.keyboard.press("Escape")
    stage(page, "Mend")
    expect(page.get_by_text("2 are outside or astride")).to_be_visible()
    page.get_by_role("button", name="Bring in", exact=True).click()
    expect(page.get_by_text("2 islands changed.")).to_be_visible()
    expect(page.get_by_text("0 are outside or astride")).to_be_visible()
    page.get_by_role("button", name="Bring in", exact=True).click()
    expect(page.get_by_text("Nothing had to be changed.")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("2 are outside or astride")).to_be_visible()


def test_evening_with_a_weight_reaches_the_file(page: Page, address: str, tmp_path: Path) -> None:
    """A newcomer evens a project to 512 px/m, with one part at half of it."""
    source = path("webxr", "hp-mixed-reality/left.glb")
    start(page, address, "Evened", source)
    stage(page, "Even")
    page.get_by_role("textbox", name="Target density").fill("512")
    page.get_by_role("textbox", name="Target density").press("Enter")
    expect(page.get_by_text("Packing will hold this number too.")).to_be_visible()
    row = page.get_by_role("listbox", name="Objects").get_by_role("option").first
    row.click()
    page.get_by_role("textbox", name="Weight").fill("0.5")
    page.get_by_role("button", name="Set", exact=True).click()
    expect(row).to_contain_text("×0.5")
    page.get_by_role("button", name="Take all").click()
    page.get_by_role("button", name="Even all islands").click()
    expect(page.get_by_text("islands changed.")).to_be_visible(timeout=30_000)
    page.get_by_label("What the model shows").select_option("density")
    page.get_by_label("What the table shows").select_option("density")
    with deliver(page, tmp_path / "even.zip") as archive:
        pieces = [p for p in analyse(formats.read(archive.read("left.glb"), "left.glb"), 0) if p]
    d = [densities(p.islands.area, p.world_area, 2048) for p in pieces]
    known = [x[x > 0] for x in d]
    assert known[0] == pytest.approx(256, rel=1e-3)
    assert all(x == pytest.approx(512, rel=1e-3) for x in known[1:])
    with page.expect_download() as report:
        stage(page, "Even")
        page.get_by_role("link", name="Density report, CSV").click()
    assert report.value.suggested_filename == "density.csv"
    # The number is held where it acts, with a way out.
    stage(page, "Arrange")
    held = page.get_by_role("group", name="Density that is held")
    expect(held).to_contain_text("Holds 512")
    held.get_by_role("button", name="As dense as fits").click()
    expect(held).to_have_count(0)


def test_islands_are_held_by_rules(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("button", name="Tide mill, six parts").click()
    stage(page, "Mend")
    page.get_by_role("button", name="Bring in", exact=True).click()
    expect(page.get_by_text("islands changed.")).to_be_visible(timeout=20_000)
    page.get_by_test_id("open crane-lamp").click()
    island = page.get_by_role("option", name="island 1 ").first
    island.click()
    expect(island).to_have_attribute("aria-selected", "true")
    stage(page, "Arrange")
    section(page, "Rules")
    expect(page.get_by_text("For the selection: 1 island")).to_be_visible()
    page.get_by_role("button", name="Hold in place").click()
    expect(page.get_by_text("1 held, 0 turn")).to_be_visible()
    page.get_by_role("button", name="Drop all rules").click()
    expect(page.get_by_text("1 held")).not_to_be_visible()


def test_hints_act(page: Page, address: str, tmp_path: Path) -> None:
    """Three strips as long as the tile limit this set: turned freely they find the diagonal."""
    file = tmp_path / "strips.obj"
    strips = [(0.02, 0.02 + 0.05 * k, 0.92, 0.03 + 0.05 * k) for k in range(3)]
    file.write_bytes(squares([*strips, *((0.1 * k, 0.5, 0.1 * k + 0.08, 0.58) for k in range(6))]))
    start(page, address, "Strips", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    section(page, "What limits this layout?")
    page.get_by_role("button", name="Try what would help").click()
    hint = page.get_by_text(re.compile("longest islands turn freely"))
    expect(hint).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Do it").first.click()
    expect(page.get_by_role("button", name="Next: prove")).to_be_visible(timeout=30_000)
    section(page, "Rules")
    expect(page.get_by_text("3 turn in their own way")).to_be_visible()


def test_the_channel_that_is_worked_on_is_chosen(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "bollard.glb"
    data = two_channels([box(Part("bollard"), (0, 0, 0), (1, 1, 1)).uv(0.1)], 4.0, png("crane"))
    file.write_bytes(data)
    start(page, address, "Channels", file)
    stage(page, "Gather")
    page.get_by_label("UV channel to work on").select_option("1")
    expect(page.get_by_role("button", name="Undo")).to_have_attribute("title", re.compile("Read channel 1"), timeout=20_000)
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_role("button", name="Pack this sheet").click()
    expect(page.get_by_test_id("verdict")).to_have_text(re.compile("^Fit for baking"), timeout=60_000)
    stage(page, "Deliver")
    page.get_by_label("UV channel to write").select_option("1")
    expect(page.get_by_text("channel 1 goes into channel 1")).to_be_visible()
    with deliver(page, tmp_path / "out.zip") as archive:
        new = formats.read(archive.read("bollard.glb"), "bollard.glb")
        assert json.loads(archive.read("report.json"))["ok"]
    old = formats.read(data, "bollard.glb")
    assert (old.meshes[0].channels[0].uvs == new.meshes[0].channels[0].uvs).all()
    assert not (old.meshes[0].channels[1].uvs == new.meshes[0].channels[1].uvs).all()


def test_keys_and_splits_are_remembered(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("button", name="The whole quay").click()
    listing = page.get_by_role("listbox", name="Objects")
    expect(listing.get_by_role("option").first).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("select nothing")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).not_to_be_visible()
    page.keyboard.press("3")
    expect(page.get_by_role("heading", name="Mend")).to_be_visible()
    before = listing.bounding_box()
    assert before
    edge = before["x"] + before["width"] + 2
    page.mouse.move(edge, 400)
    page.mouse.down()
    page.mouse.move(edge + 80, 400, steps=5)
    page.mouse.up()
    wide = listing.bounding_box()
    assert wide and wide["width"] > before["width"] + 50
    page.wait_for_timeout(400)
    page.reload()
    expect(listing.get_by_role("option").first).to_be_visible()
    again = listing.bounding_box()
    assert again and abs(again["width"] - wide["width"]) < 12


def test_a_box_selects_islands_on_the_table(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "two.obj"
    file.write_bytes(squares([(0.1, 0.1, 0.2, 0.2), (0.3, 0.1, 0.4, 0.2), (0.7, 0.7, 0.9, 0.9)]))
    start(page, address, "Boxed", file)
    page.get_by_label("What a click picks").select_option("islands")
    at = on_table(page)
    page.keyboard.down("Shift")
    page.mouse.move(*at(0.05, 0.05))
    page.mouse.down()
    page.mouse.move(*at(0.5, 0.4), steps=6)
    page.mouse.up()
    page.keyboard.up("Shift")
    stage(page, "Mend")
    expect(page.get_by_text("For the selection: 2 islands")).to_be_visible()
    page.mouse.click(*at(0.8, 0.8))
    expect(page.get_by_text("For the selection: 1 island")).to_be_visible()


def test_files_and_folders_are_dropped(page: Page, address: str) -> None:
    """A drop as the browser hands it over: a list of files; folders are walked by the same code as the dialog's."""
    page.goto(address)
    page.get_by_label("Name of the new project").fill("Dropped")
    page.get_by_role("button", name="Start a project").click()
    expect(page).to_have_title(re.compile("Dropped"))
    text = squares([(0.1, 0.1, 0.3, 0.3)]).decode()
    page.evaluate(
        """(text) => {
          const data = new DataTransfer()
          data.items.add(new File([text], 'dropped.obj'))
          const drop = new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true })
          document.querySelector('[data-testid=table]').dispatchEvent(drop)
        }""",
        text,
    )
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible(timeout=30_000)
    expect(page.get_by_role("listbox", name="Objects").get_by_role("option")).to_have_count(1)


def test_a_project_is_renamed_in_place(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_label("Name of the new project").fill("Old name")
    page.get_by_role("button", name="Start a project").click()
    page.get_by_role("button", name="All projects").click()
    card = page.get_by_test_id("project").filter(has_text="Old name")
    card.get_by_role("button", name="Rename").click()
    page.get_by_label("New name").fill("New name of it")
    page.get_by_label("New name").press("Enter")
    expect(page.get_by_role("button", name="New name of it")).to_be_visible()
