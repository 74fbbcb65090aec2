"""The large demo: planned, packed over two sheets with every rule, and changed."""

from __future__ import annotations

import json
import re
from pathlib import Path

from playwright.sync_api import Page, expect

from .steps import deliver, idle, put, section, stage


def test_the_large_demo_is_planned_packed_with_every_rule_and_changed(page: Page, address: str, tmp_path: Path) -> None:
    """The whole quay on two sheets, one of three tiles of 4096 and twice 1024 px; all rules; by hand; and only the changed sheet is packed again."""
    page.goto(address)
    page.get_by_role("button", name="The whole quay").click()
    expect(page.get_by_role("listbox", name="Objects").get_by_role("option").first).to_be_visible(timeout=20_000)
    stage(page, "Arrange")
    put(page, "Time", "2")
    section(page, "Plan")
    page.get_by_role("button", name="Share them out evenly").click()
    page.wait_for_timeout(500)
    idle(page)
    listing = page.get_by_role("listbox", name="Sheets")
    expect(listing.get_by_role("option").nth(1)).to_contain_text(re.compile(r"Sheet 2[1-9]\d+ islands"), timeout=30_000)
    idle(page)
    listing.get_by_text("Sheet 2").click()
    put(page, "Columns", "3")
    for tile, px in (("1001", "4096"), ("1002", "1024"), ("1003", "1024")):
        page.get_by_role("listbox", name="Tiles").get_by_role("option", name=tile).click()
        page.get_by_label(f"Resolution of tile {tile}").select_option(px)
        idle(page)
    page.get_by_role("button", name="Keep a corner free").click()
    idle(page)
    section(page, "Rules")
    put(page, "Gap between materials", "12")
    objects = page.get_by_role("listbox", name="Objects")

    def chosen(*names: str) -> None:
        for k, name in enumerate(names):
            objects.get_by_role("option", name=re.compile(f"{name} ")).first.click(modifiers=["Control"] if k else [])

    page.get_by_label("Filter objects").fill("sack")
    chosen("sack-1", "sack-4")
    page.get_by_role("button", name="Bunch the selection").click()
    idle(page)
    page.get_by_label("How Bunch 1 lies").select_option("strict")
    idle(page)
    page.get_by_label("Filter objects").fill("post-")
    chosen("post-1", "post-2", "post-3")
    page.get_by_role("button", name="Stack the selection by shape").click()
    page.wait_for_timeout(400)
    idle(page)
    expect(page.get_by_text(re.compile("groups of twins"))).to_be_visible()
    page.get_by_label("Filter objects").fill("vane")
    chosen("weather-vane")
    page.get_by_label("Turn these").select_option("none")
    idle(page)
    page.get_by_label("Filter objects").fill("")
    page.get_by_role("button", name="Pack what is stale (2)").click()
    page.wait_for_timeout(2000)
    idle(page)
    expect(page.get_by_role("button", name="Pack what is stale (0)")).to_be_disabled()
    # By hand: one island is brought to a free place and held there.
    page.get_by_label("Filter objects").fill("lamp")
    chosen("crane-lamp")
    page.get_by_role("button", name="Hold in place").click()
    idle(page)
    stale = listing.get_by_text(re.compile("held islands changed"))
    expect(stale).to_have_count(1)
    page.get_by_role("button", name="Pack what is stale (1)").click()
    page.wait_for_timeout(1500)
    idle(page)
    stage(page, "Arrange")
    expect(page.get_by_role("button", name="Pack what is stale (0)")).to_be_disabled()
    with deliver(page, tmp_path / "quay.zip") as archive:
        report = json.loads(archive.read("report.json"))
    assert set(report["sheets"]) == {"Sheet 1", "Sheet 2"} and report["overlap_pairs"] == 0
    second = report["sheets"]["Sheet 2"]
    assert [t["px"] for t in second["tiles"]] == [4096, 1024, 1024] and second["outside"] == 0
    known = [t["density"] for t in second["tiles"] if t["density"]]
    assert max(known) / min(known) < 1.001 and second["smallest_gap_px"] >= 8 - 1e-3
