"""The table at work: what the pointer is over, distances that are typed, what comes too near, rulers."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from PIL import Image
from playwright.sync_api import Page, expect

from tests.core.test_faults import squares

from .steps import deliver, idle, on_table, stage, start

BOXES = [(0.1, 0.1, 0.3, 0.3), (0.5, 0.1, 0.7, 0.3)]


def opened(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "two.obj"
    file.write_bytes(squares(BOXES))
    start(page, address, "Two", file)
    page.get_by_label("What a click picks").select_option("islands")
    page.get_by_role("button", name="Fit").click()


def corner(page: Page, tmp_path: Path) -> np.ndarray:
    """The lower left corner of the first square in the file that is delivered: read here, line by line."""
    with deliver(page, tmp_path / "out.zip") as z:
        lines = z.read("two.obj").decode().splitlines()
    return np.array([[float(x) for x in line.split()[1:3]] for line in lines if line.startswith("vt ")])[:4].min(axis=0)


def test_what_the_pointer_is_over_is_named(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path)
    page.mouse.move(*on_table(page)(0.6, 0.2))
    # A fifth of a map of 2048 px, by arithmetic.
    expect(page.get_by_test_id("under-pointer")).to_contain_text("island 2 of 2: 410 × 410 px")
    page.mouse.move(*on_table(page)(0.4, 0.6))
    expect(page.get_by_test_id("under-pointer")).not_to_be_visible()


def dragged(page: Page, one: tuple[float, float], other: tuple[float, float], *keys: str) -> None:
    """What lies at one place dragged towards another, with keys that are pressed meanwhile."""
    at = on_table(page)
    page.mouse.move(*at(*one))
    page.mouse.down()
    page.mouse.move(*at(*other), steps=4)
    for key in keys:
        page.keyboard.press(key)
    page.mouse.up()
    idle(page)


def test_a_typed_distance_is_how_far_a_drag_goes(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path)
    page.mouse.click(*on_table(page)(0.2, 0.2))
    dragged(page, (0.2, 0.2), (0.26, 0.22), "3", "7", "Enter")
    assert np.allclose(corner(page, tmp_path), [0.1 + 37 / 2048, 0.1], atol=1e-6)
    # Keys that were typed meanwhile were no keys of the page, and Escape puts everything back.
    expect(page.get_by_role("heading", name="Deliver")).to_be_visible()
    stage(page, "Inspect")
    page.get_by_role("button", name="Fit").click()
    dragged(page, (0.22, 0.2), (0.3, 0.3), *"5,-5", "Escape")
    assert np.allclose(corner(page, tmp_path), [0.1 + 37 / 2048, 0.1], atol=1e-6)


def test_the_model_follows_while_islands_are_dragged(page: Page, address: str, tmp_path: Path) -> None:
    """It stood still until they were let go."""
    opened(page, address, tmp_path)
    page.get_by_label("What the model shows").select_option("checker")
    page.mouse.click(*on_table(page)(0.2, 0.2))
    at, model = on_table(page), page.get_by_test_id("model")
    page.mouse.move(*at(0.2, 0.2))
    page.wait_for_timeout(300)
    before = model.screenshot()
    page.mouse.down()
    page.mouse.move(*at(0.2537, 0.2411), steps=4)
    page.wait_for_timeout(300)
    assert model.screenshot() != before
    page.keyboard.press("Escape")
    page.wait_for_timeout(300)
    assert model.screenshot() == before
    page.mouse.up()


def test_a_number_for_a_drag_that_took_hold_of_nothing_leads_nowhere(page: Page, address: str, tmp_path: Path) -> None:
    """It led to other stages: 3 and 7 to Mend and on to Deliver."""
    opened(page, address, tmp_path)
    stage(page, "Arrange")
    dragged(page, (0.4, 0.6), (0.46, 0.66), "3", "7")
    expect(page.get_by_role("heading", name="Arrange")).to_be_visible()
    expect(page.get_by_text("Nothing was grabbed, so the number moved nothing.")).to_be_visible()
    page.wait_for_timeout(1600)
    page.keyboard.press("3")
    expect(page.get_by_role("heading", name="Mend")).to_be_visible()


def reds(page: Page) -> int:
    """Pixels in the colour of faults on the table."""
    box = page.get_by_test_id("table").bounding_box()
    assert box
    seen = np.asarray(Image.open(io.BytesIO(page.screenshot(clip=dict(box)))).convert("RGB")).astype(int)
    return int((np.abs(seen - [0xA3, 0x3F, 0x34]).max(axis=2) < 30).sum())


def test_what_comes_too_near_is_marked_while_it_is_dragged(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path)
    page.mouse.click(*on_table(page)(0.2, 0.2))
    page.mouse.down()
    page.mouse.move(*on_table(page)(0.3, 0.2), steps=4)
    page.wait_for_timeout(200)
    before = reds(page)
    page.keyboard.type("405,0")
    page.wait_for_timeout(200)
    # 409.6 px lie between the two: 4.6 are left of the 8 px of padding.
    assert reds(page) > before + 8
    page.keyboard.press("Escape")
    page.mouse.up()


def test_rulers_stand_along_the_table_when_asked_for(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path)
    table = page.get_by_test_id("table")
    page.mouse.move(5, 5)
    without = table.screenshot()
    page.keyboard.press("g")
    page.wait_for_timeout(200)
    ruled = table.screenshot()
    assert ruled != without
    page.reload()
    page.get_by_role("button", name="Marks").click()
    expect(page.get_by_role("checkbox", name="rulers, in px of the map")).to_be_checked()
