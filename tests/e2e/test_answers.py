"""Answers that nobody may miss: another tab's changes, a refused value, a server that is away, a part that breaks, and what work left while the page was closed."""

from __future__ import annotations

import re
import time
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.hostile.running import running
from tests.shapes import grid_obj, kit

from .steps import deliver, idle, put, stage, start


@pytest.fixture
def patches(tmp_path: Path) -> Path:
    file = tmp_path / "patches.obj"
    file.write_bytes(grid_obj(3))
    return file


def padding(page: Page) -> str:
    return page.get_by_role("textbox", name="Padding", exact=True).input_value()


def test_another_tabs_change_shows_within_a_second_and_a_refused_value_is_offered_again(page: Page, address: str, patches: Path) -> None:
    start(page, address, "Two tabs", patches)
    stage(page, "Arrange")
    other = page.context.new_page()
    other.goto(page.url)
    stage(other, "Arrange")
    expect(other.get_by_role("textbox", name="Padding", exact=True)).to_have_value("8")
    # Both are in sight, as two windows beside each other are.
    put(page, "Padding", "11")
    begin = time.monotonic()
    expect(other.get_by_role("textbox", name="Padding", exact=True)).to_have_value("11", timeout=3000)
    assert time.monotonic() - begin < 1.5
    expect(other.get_by_text("In another tab: Change padding")).to_be_visible()
    # A value that met a newer state: the other tab does not listen just now.
    other.context.set_offline(False)
    other.route("**/api/events*", lambda r: r.abort())
    other.reload()
    stage(other, "Arrange")
    expect(other.get_by_role("textbox", name="Padding", exact=True)).to_have_value("11")
    put(page, "Margin", "6")
    field = other.get_by_role("textbox", name="Padding", exact=True)
    field.fill("16")
    field.press("Enter")
    expect(other.get_by_role("alert")).to_contain_text("changed in another tab")
    expect(other.get_by_role("textbox", name="Margin", exact=True)).to_have_value("6")
    other.get_by_role("button", name="Apply padding 16").click()
    expect(other.get_by_role("textbox", name="Padding", exact=True)).to_have_value("16")
    expect(page.get_by_role("textbox", name="Padding", exact=True)).to_have_value("16")
    assert padding(other) == "16"


def test_a_part_of_the_page_that_breaks_says_so_and_the_rest_works_on(chromium: Browser, address: str, patches: Path) -> None:
    page = chromium.new_page()
    start(page, address, "Breaking", patches)
    broken = {"on": True}

    def answer(route) -> None:  # type: ignore[no-untyped-def]
        found = route.fetch()
        state = found.json()
        if broken["on"] and isinstance(state, dict) and state.get("objects"):
            state["objects"][0]["density"] = {}  # what no server of ours says
        route.fulfill(response=found, json=state)

    page.route(re.compile(r"/api/projects/\d+$"), answer)
    page.reload()
    alert = page.get_by_role("alert").filter(has_text="Something went wrong in")
    expect(alert.first).to_be_visible()
    expect(page.get_by_role("navigation", name="Stages")).to_be_visible()
    stage(page, "Gather")
    expect(page.get_by_role("heading", name="Gather")).to_be_visible()
    broken["on"] = False
    page.evaluate("dispatchEvent(new Event('focus'))")
    page.reload()
    expect(alert).to_have_count(0)
    page.close()


def test_what_was_made_is_there_after_a_reload_until_it_is_dropped(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "kit.obj"
    file.write_bytes(kit())
    start(page, address, "Left there", file)
    stage(page, "Mend")
    page.get_by_role("button", name="Compare three ways").click()
    expect(page.get_by_role("banner").get_by_role("button", name="Stop", exact=False)).to_be_visible()
    # The page is closed while it searches, and opened again when that is done.
    url = page.url
    page.goto("about:blank")
    page.goto(url)
    idle(page)
    stage(page, "Mend")
    expect(page.get_by_role("group", name="Proposals")).to_be_visible(timeout=60_000)
    page.reload()
    stage(page, "Mend")
    expect(page.get_by_role("group", name="Proposals")).to_be_visible()


def test_a_delivery_is_fetched_again_and_is_stale_once_the_project_changed(page: Page, address: str, patches: Path, tmp_path: Path) -> None:
    start(page, address, "Delivered", patches)
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_role("button", name="Pack this sheet").click()
    expect(page.get_by_role("region", name="What was packed")).to_be_visible(timeout=120_000)
    idle(page)
    names = set(deliver(page, tmp_path / "a.zip").namelist())
    idle(page)
    page.reload()
    stage(page, "Deliver")
    made = page.get_by_role("group", name="Made earlier")
    expect(made.get_by_text("Delivery,")).to_be_visible()
    with page.expect_download() as again:
        made.get_by_role("link", name="Download").click()
    again.value.save_as(tmp_path / "b.zip")
    assert (tmp_path / "b.zip").read_bytes() == (tmp_path / "a.zip").read_bytes() and names
    stage(page, "Arrange")
    page.get_by_role("button", name="Pack this sheet").click()
    idle(page)
    stage(page, "Deliver")
    expect(made.get_by_text("stale")).to_be_visible()
    made.get_by_role("button", name="Drop: Delivery").click()
    expect(made).to_have_count(0)
    page.reload()
    stage(page, "Deliver")
    expect(made).to_have_count(0)


def test_a_server_that_is_away_is_told_over_the_page_and_gone_when_it_is_back(chromium: Browser, tmp_path: Path, patches: Path) -> None:
    data, page = tmp_path / "data", chromium.new_page()
    with running(data) as first:
        port = first.port
        start(page, first.url, "Away", patches)
        stage(page, "Arrange")
    away = page.get_by_role("alert").filter(has_text="The application does not answer. What was saved is safe.")
    expect(away).to_be_visible()
    page.get_by_role("button", name="Pack this sheet").click()
    expect(page.get_by_text("The application does not answer. Is it still running?")).to_be_visible()
    field = page.get_by_role("textbox", name="Padding", exact=True)
    field.fill("12")
    field.press("Enter")
    expect(page.get_by_role("button", name="Apply padding 12")).to_be_visible()
    with running(data, port=port):
        expect(away).to_have_count(0, timeout=20_000)
        page.get_by_role("button", name="Apply padding 12").click()
        expect(field).to_have_value("12")
        idle(page)
        page.reload()
        stage(page, "Arrange")
        expect(page.get_by_role("textbox", name="Padding", exact=True)).to_have_value("12")
    page.close()


def test_a_page_that_nobody_uses_asks_for_nothing(page: Page, address: str, patches: Path) -> None:
    """15 requests in 30 s it was; figures of processor time: `python -m tests.hostile.idle`."""
    start(page, address, "Idle", patches)
    idle(page)
    page.wait_for_timeout(1000)
    asked: list[str] = []
    page.on("request", lambda r: asked.append(r.url))
    page.wait_for_timeout(6000)
    assert not asked
