"""Sizes that cannot be meant are asked about, and a unit is changed after the file came."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from tests.shapes import grid_obj

from .steps import idle, stage, start


def test_a_file_of_280_metres_is_taken_as_centimetres_by_one_click(page: Page, address: str, tmp_path: Path) -> None:
    for name, size in (("crate", 40.0), ("jetty", 2.0)):
        (tmp_path / f"{name}.obj").write_bytes(grid_obj(4, size))
    start(page, address, "Sizes", tmp_path / "crate.obj", tmp_path / "jetty.obj")
    asked = page.get_by_text("crate.obj is 280 m wide: centimetres?")
    expect(asked).to_be_visible()
    page.get_by_role("button", name="Take it as centimetres").click()
    expect(asked).not_to_be_visible()
    idle(page)
    stage(page, "Gather")
    unit = page.get_by_role("combobox", name="Unit of crate.obj")
    expect(unit).to_have_value("0.01")
    expect(page.get_by_text("2.8 × 0.4 × 0 m")).to_be_visible()
    unit.select_option("in")
    expect(page.get_by_text("7.11 × 1.02 × 0 m")).to_be_visible()
    idle(page)
    for _ in range(2):
        page.get_by_role("button", name="Undo").click()
        idle(page)
    expect(unit).to_have_value("1")
    page.get_by_role("button", name="The size is meant").click()
    expect(asked).not_to_be_visible()
    page.reload()
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible()
    idle(page)
    expect(asked).not_to_be_visible()
