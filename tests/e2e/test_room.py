"""Room to see and work: parts sent to tiles by real drags, the pictures one by one, what folds, and no control cut off at any size of the screen."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.server.test_tile_rules import figure, squares, tiles

from . import tile_px
from .steps import deliver, idle, packed, put, section, stage, start

CUT = """() => {
  const cut = []
  for (const e of document.querySelectorAll('main button, main select, main input, nav button, nav select, header button')) {
    if (e.offsetParent === null || e.type === 'file') continue
    const b = e.getBoundingClientRect()
    if (!b.width || !b.height) continue
    let l = 0, r = innerWidth, box = e.parentElement
    for (; box; box = box.parentElement) {
      const style = getComputedStyle(box)
      if (style.overflowX === 'visible' || style.overflowX === 'auto' && box.scrollWidth > box.clientWidth && box.getAttribute('role') === 'region') continue
      const c = box.getBoundingClientRect()
      l = Math.max(l, c.left); r = Math.min(r, c.right)
    }
    if (b.left < l - 1 || b.right > r + 1) cut.push(`${e.tagName} ${e.getAttribute('aria-label') || e.textContent} ${Math.round(b.left)} to ${Math.round(b.right)}, seen ${l} to ${r}`)
  }
  return cut
}"""


def test_three_parts_go_to_three_tiles_and_one_is_packed_again(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "figure.obj"
    file.write_bytes(figure())
    start(page, address, "Figure", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    put(page, "Columns", "3")
    for tile, px in (("1001", "1024"), ("1002", "512"), ("1003", "256")):
        page.get_by_role("listbox", name="Tiles").get_by_role("option", name=tile).click()
        page.get_by_label(f"Resolution of tile {tile}").select_option(px)
        idle(page)
        called = page.get_by_label("Name of the tile")
        called.fill({"1001": "body", "1002": "face", "1003": "arms"}[tile])
        called.press("Enter")
        idle(page)
    section(page, "Chosen parts to chosen tiles")
    # One by the worksheet, one by name, one dragged from the ledger onto its tile.
    page.get_by_role("option", name=re.compile("body")).first.click()
    page.get_by_label("The selection belongs to").select_option("1001")
    idle(page)
    page.keyboard.press("Escape")
    page.get_by_label("Objects that are called").fill("he*")
    page.get_by_label("Tile for them").select_option("1002")
    page.get_by_role("button", name="Send", exact=True).click()
    idle(page)
    table = page.get_by_test_id("table").bounding_box()
    assert table
    # Three tiles side by side fill the width: the third is in the last third.
    page.get_by_test_id("ledger-panel").get_by_role("option", name=re.compile("arms")).drag_to(
        page.get_by_test_id("table"), target_position={"x": table["width"] * 0.8, "y": table["height"] / 2}
    )
    idle(page)
    for words in ("1001 body (1)", "1002 face (1)", "1003 arms (1)"):
        expect(page.get_by_role("button", name=words)).to_be_visible()
    page.get_by_role("button", name="Pack this sheet").click()
    packed(page)
    expect(page.get_by_text("fullest: it decides")).to_have_count(1)
    with deliver(page, tmp_path / "a.zip") as archive:
        first = squares(archive.read("figure.obj"))
    assert [tiles(first[k]) for k in ("body", "head", "arms")] == [{1001}, {1002}, {1003}]
    # The head goes to the arms, and that tile alone is packed.
    stage(page, "Arrange")
    page.get_by_role("option", name=re.compile("head")).first.click()
    page.get_by_label("The selection belongs to").select_option("1003")
    idle(page)
    expect(page.get_by_text("what belongs to which tile changed").first).to_be_visible()
    page.get_by_label("Tile for them").select_option("1003")
    page.get_by_role("button", name="Pack only 1003 arms").click()
    packed(page)
    with deliver(page, tmp_path / "b.zip") as archive:
        second = squares(archive.read("figure.obj"))
    assert (second["body"] == first["body"]).all()
    assert tiles(second["head"]) == tiles(second["arms"]) == {1003}


def test_the_pictures_are_turned_and_what_folds_stays_folded(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "figure.obj"
    file.write_bytes(figure())
    start(page, address, "Room", file)
    table, model = page.get_by_test_id("table"), page.get_by_test_id("model")
    expect(table).to_be_visible()
    expect(model).to_be_visible()
    stage(page, "Arrange")
    expect(model).to_have_count(0)
    page.set_viewport_size({"width": 1280, "height": 800})
    box = table.bounding_box()
    # A single tile is at least 560 px wide.
    assert box and tile_px(box) >= 560
    page.keyboard.press("v")
    expect(model).to_be_visible()
    expect(table).to_have_count(0)
    page.keyboard.press("v")
    a, b = table.bounding_box(), model.bounding_box()
    assert a and b and a["y"] + a["height"] <= b["y"] + 40
    page.keyboard.press("v")
    a, b = table.bounding_box(), model.bounding_box()
    assert a and b and a["x"] + a["width"] <= b["x"]
    page.keyboard.press("l")
    page.get_by_role("button", name="Show the worksheet").click()
    expect(page.get_by_role("listbox", name="Objects")).to_have_count(0)
    expect(page.get_by_role("heading", name="Arrange")).to_have_count(0)
    stage(page, "Even")
    expect(page.get_by_role("listbox", name="Objects")).to_be_visible()
    page.reload()
    stage(page, "Arrange")
    expect(page.get_by_label("Pictures that are shown")).to_have_value("side")
    page.get_by_role("button", name="Open the ledger").click()
    page.get_by_role("button", name="Open the worksheet").click()
    expect(page.get_by_role("listbox", name="Objects")).to_be_visible()


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (2560, 1440)])
def test_no_control_is_cut_off(page: Page, address: str, tmp_path: Path, size: tuple[int, int]) -> None:
    file = tmp_path / "figure.obj"
    file.write_bytes(figure())
    page.set_viewport_size({"width": size[0], "height": size[1]})
    start(page, address, "Sizes", file)
    stage(page, "Arrange")
    put(page, "Columns", "3")
    for name in ("Size and gaps", "Chosen parts to chosen tiles", "Rules", "Sheets", "Recipe", "Plan", "Try several recipes", "By hand"):
        section(page, name)
    for name in ("Gather", "Inspect", "Mend", "Even", "Arrange", "Prove", "Deliver"):
        stage(page, name)
        for views in ("both", "side", "table", "model") if name == "Mend" else ("both",):
            page.get_by_label("Pictures that are shown").select_option(views)
            page.wait_for_timeout(150)
            assert page.evaluate(CUT) == [], f"{name}, {views}"
    if size[0] == 2560:
        for panel, wide in (("ledger-panel", 340), ("worksheet-panel", 360)):
            box = page.get_by_test_id(panel).bounding_box()
            assert box and abs(box["width"] - wide) < 3
