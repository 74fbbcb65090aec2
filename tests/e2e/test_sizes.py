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
    # The other one is of the same kind, and would make sense in centimetres too: both are offered, or this one alone.
    expect(page.get_by_role("button", name="Take all 2 as centimetres")).to_be_visible()
    page.get_by_role("button", name="Only this one").click()
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


def test_a_kit_is_taken_as_centimetres_at_once_and_sizes_far_apart_are_told(page: Page, address: str, tmp_path: Path) -> None:
    """Five of thirteen files were changed, and eight selects remained."""
    sizes = {"crate": 40.0, "jetty": 12.0, "rope": 2.0}
    for name, size in sizes.items():
        (tmp_path / f"{name}.obj").write_bytes(grid_obj(4, size))
    start(page, address, "Kit", *(tmp_path / f"{name}.obj" for name in sizes))
    page.get_by_role("button", name="Take all 3 as centimetres").click()
    expect(page.get_by_text("280 m wide")).not_to_be_visible()
    idle(page)
    stage(page, "Gather")
    for name in sizes:
        expect(page.get_by_role("combobox", name=f"Unit of {name}.obj")).to_have_value("0.01")
    # The select for what comes is offered for what is there, too.
    page.get_by_role("combobox", name="Unit of OBJ").first.select_option("in")
    page.get_by_role("button", name="Also for the 3 that are here").click()
    idle(page)
    expect(page.get_by_role("combobox", name="Unit of rope.obj")).to_have_value("0.0254")
    page.get_by_role("combobox", name="Unit of rope.obj").select_option("mm")
    idle(page)
    stage(page, "Arrange")
    expect(page.get_by_text("times as large as the smallest. Is a unit wrong?")).to_be_visible()
