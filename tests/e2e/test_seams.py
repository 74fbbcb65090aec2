"""Seams by hand through the interface: picked on the model with real clicks, cut, sewn, weighed, laid flat, undone; and the whole way in one action."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from quilt_core import formats
from quilt_core.delivery.verify import Wanted, verify_report
from tests.server.test_proposals import ball
from tests.server.test_seams import grid
from tests.shapes import kit

from .steps import deliver, idle, on_table, put, stage, start


def newest(page: Page, address: str) -> dict[str, Any]:
    """The state of the project that was made last."""
    rows = json.loads(page.request.get(f"{address}/api/projects").body())
    number = max(r["id"] for r in rows)
    return dict(json.loads(page.request.get(f"{address}/api/projects/{number}").body()))


def middle(page: Page) -> tuple[float, float]:
    box = page.get_by_test_id("model").bounding_box()
    assert box
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def sheet(page: Page, address: str, tmp_path: Path) -> None:
    """A flat sheet of four by four quads, at Mend; its middle is in the middle of the model's picture."""
    file = tmp_path / "sheet.obj"
    file.write_bytes(grid())
    start(page, address, "Sheet", file)
    stage(page, "Mend")


def cut(page: Page) -> None:
    """Cut what is picked."""
    page.get_by_role("button", name="Cut", exact=True).click()
    expect(page.get_by_text("Seams are stitched on the model")).to_be_visible(timeout=30_000)
    idle(page)


def test_a_loop_is_picked_on_the_model_cut_sewn_and_undone(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.get_by_role("button", name="Pick edges").click()
    x, y = middle(page)
    page.mouse.click(x + 3, y + 2)
    expect(page.get_by_text("1 edge is picked.")).to_be_visible()
    for what, islands in (("Cut", 2), ("Sew", 1)):
        page.mouse.dblclick(x + 3, y + 2)
        expect(page.get_by_text("4 edges are picked.")).to_be_visible()
        page.get_by_role("button", name=what, exact=True).click()
        expect(page.get_by_text("Seams are stitched on the model")).to_be_visible(timeout=30_000)
        idle(page)
        assert newest(page, address)["objects"][0]["islands"] == islands
    for islands in (2, 1):
        page.get_by_role("button", name="Undo").click()
        idle(page)
        assert newest(page, address)["objects"][0]["islands"] == islands


def test_seams_are_weighed_and_what_costs_nothing_is_sewn(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.keyboard.press("e")
    x, y = middle(page)
    page.mouse.dblclick(x + 3, y + 2)
    expect(page.get_by_text("4 edges are picked.")).to_be_visible()
    cut(page)
    page.get_by_role("button", name="Weigh all seams").click()
    table = page.get_by_role("table", name="Seams")
    expect(table.get_by_role("row")).to_have_count(2, timeout=30_000)
    expect(table).to_contain_text("sheet4100 %")
    expect(table).to_contain_text("nothing")
    idle(page)
    table.get_by_role("row").nth(1).click()
    expect(page.get_by_text("4 edges are picked.")).to_be_visible()
    page.get_by_role("button", name="Sew 1 that cost nothing").click()
    expect(table).not_to_be_visible(timeout=30_000)
    idle(page)
    assert newest(page, address)["objects"][0]["islands"] == 1


def test_faces_are_picked_projected_and_laid_flat(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.get_by_role("button", name="Pick faces").click()
    x, y = middle(page)
    page.mouse.click(x + 6, y - 6)
    expect(page.get_by_text("2 faces are picked")).to_be_visible()
    page.get_by_role("button", name="Project", exact=True).click()
    expect(page.get_by_text("Seams are stitched on the model")).to_be_visible(timeout=30_000)
    idle(page)
    assert newest(page, address)["objects"][0]["islands"] == 2, "a quad of its own"
    page.get_by_text("sheet", exact=True).first.click()
    page.get_by_role("button", name="Make rectangles").click()
    expect(page.get_by_role("status").filter(has_text="Done")).to_be_visible(timeout=30_000)
    idle(page)
    assert newest(page, address)["objects"][0]["islands"] == 2
    page.get_by_label("What the model shows").select_option("weave")
    page.mouse.move(x, y - 20)
    page.mouse.move(x, y - 24)
    expect(page.get_by_text("stretch 1.00")).to_be_visible()


def test_a_kit_is_made_ready_in_one_action(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "kit.obj"
    file.write_bytes(kit())
    start(page, address, "Kit", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    stage(page, "Mend")
    page.get_by_role("button", name="Make it ready").click()
    done = page.get_by_label("What was done")
    expect(done.get_by_role("listitem")).to_have_count(3, timeout=60_000)
    expect(page.get_by_text("Fit for baking at 2048 px")).to_be_visible()
    for text in ("mirrored flipped back", "folded laid flat again (it had", "bare new UVs (it had no UVs)"):
        expect(done).to_contain_text(text)
    idle(page)
    with deliver(page, tmp_path / "out.zip") as archive:
        scene = formats.read(archive.read("kit.obj"), "kit.obj")
    proof = verify_report([scene], 0, 2048, Wanted(8.0, 4.0))
    assert proof["ok"] and proof["flipped"] == 0
    page.get_by_role("button", name="Undo").click()
    idle(page)
    assert [o["bare"] for o in newest(page, address)["objects"]] == [0, 0, 0, 12], "one step"


def test_picking_ends_where_its_stage_ends(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.keyboard.press("e")
    expect(page.get_by_role("button", name="Pick edges")).to_have_attribute("aria-pressed", "true")
    stage(page, "Even")
    expect(page.get_by_label("What a click picks")).to_have_value("objects")


def test_proposals_are_looked_at_and_one_is_taken(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "ball.obj"
    file.write_bytes(ball())
    start(page, address, "Ball", file)
    stage(page, "Mend")
    before = newest(page, address)
    page.get_by_role("button", name="Compare three ways").click()
    few = page.get_by_role("group", name="Proposal: few seams")
    expect(page.get_by_role("group", name="Proposal: little stretch")).to_be_visible(timeout=90_000)
    idle(page)
    few.get_by_role("button", name="Look").click()
    expect(few.get_by_role("button", name="Take it")).to_be_visible()
    # All views show the proposal, and nothing else can be done meanwhile.
    page.get_by_role("button", name="Make it ready").click()
    expect(page.get_by_text("You are looking at a proposal")).to_be_visible()
    assert newest(page, address)["snapshot"] == before["snapshot"]
    few.get_by_role("button", name="Back").click()
    expect(few.get_by_role("button", name="Take it")).to_have_count(0)
    few.get_by_role("button", name="Look").click()
    few.get_by_role("button", name="Take it").click()
    expect(page.get_by_text("Taken: these are the UVs now.")).to_be_visible()
    after = newest(page, address)
    assert after["undo"].startswith("Unwrap") and all(o["islands"] for o in after["objects"])
    expect(page.get_by_role("group", name="Proposals")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    idle(page)
    assert newest(page, address)["snapshot"] == before["snapshot"]


def test_edges_are_picked_on_the_table_alone_and_in_a_box(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.get_by_role("button", name="Pick edges").click()
    at = on_table(page)
    page.mouse.click(*at(0.203, 0.15))
    expect(page.get_by_text("1 edge is picked.")).to_be_visible()
    page.mouse.dblclick(*at(0.203, 0.15))
    expect(page.get_by_text("4 edges are picked.")).to_be_visible()
    page.keyboard.down("Shift")
    page.mouse.move(*at(0.17, 0.02))
    page.mouse.down()
    page.mouse.move(*at(0.2, 0.3), steps=3)
    page.mouse.move(*at(0.23, 0.38), steps=3)
    page.mouse.up()
    page.keyboard.up("Shift")
    expect(page.get_by_text("4 edges are picked.")).to_be_visible()
    cut(page)
    assert newest(page, address)["objects"][0]["islands"] == 2
