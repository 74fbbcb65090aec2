"""Picking on the model with real gestures: a box and a lasso take what is seen or what is hidden too, the mirror image, what else is there; objects alone."""

from __future__ import annotations

import math
import re
from pathlib import Path

import trimesh
from playwright.sync_api import Page, expect

from .steps import on_table, stage, start
from .test_seams import cut, middle, newest, sheet


def two_balls(tmp_path: Path) -> Path:
    """Two balls of 320 faces, one behind the other as the model is first looked at, each of two materials."""
    solid, text, first = trimesh.creation.icosphere(2), "", 1
    for name, at in (("near", 0.0), ("far", -3.0)):
        text += f"o {name}\n" + "".join(f"v {x} {y} {z + at}\n" for x, y, z in solid.vertices)
        for material, mine in (("sand", solid.triangles_center[:, 1] > 0), ("clay", solid.triangles_center[:, 1] <= 0)):
            text += f"usemtl {material}\n" + "".join("f {} {} {}\n".format(*f) for f in solid.faces[mine] + first)
        first += len(solid.vertices)
    out = tmp_path / "balls.obj"
    out.write_text(text)
    return out


def opened(page: Page, address: str, file: Path) -> None:
    start(page, address, "Balls", file)
    stage(page, "Mend")
    page.get_by_role("button", name="Pick faces").click()


def around(page: Page, wide: float, lasso: bool = False, add: bool = False) -> None:
    """Draw around the middle of the model: a box, or a circle."""
    x, y = middle(page)
    keys = ["Shift", *(["Alt"] if lasso else []), *(["Control"] if add else [])]
    for k in keys:
        page.keyboard.down(k)
    if lasso:
        page.mouse.move(x + wide, y)
        page.mouse.down()
        for k in range(1, 25):
            page.mouse.move(x + wide * math.cos(k * math.pi / 12), y + wide * math.sin(k * math.pi / 12))
    else:
        box = page.get_by_test_id("model").bounding_box()
        assert box
        across, down = min(wide, box["width"] / 2 - 4), min(wide, box["height"] / 2 - 4)
        page.mouse.move(x - across, y - down)
        page.mouse.down()
        page.mouse.move(x, y)
        page.mouse.move(x + across, y + down)
    page.mouse.up()
    for k in keys:
        page.keyboard.up(k)


def picked(page: Page) -> int:
    text = page.get_by_text("picked: their border can be cut").text_content() or ""
    return int(text.split()[0])


def test_a_box_takes_what_is_seen_and_all_that_is_in_it(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, two_balls(tmp_path))
    around(page, 1000)
    seen = picked(page)
    assert 150 < seen < 480, "the near sides of two balls"
    page.get_by_text("takes what is hidden too").click()
    around(page, 1000)
    expect(page.get_by_text("640 faces are picked")).to_be_visible()
    page.get_by_role("button", name="Invert").click()
    expect(page.get_by_text("Seams are stitched on the model")).to_be_visible()
    # A lasso in the middle takes less than the box around it; with Ctrl it adds.
    around(page, 60)
    box = picked(page)
    around(page, 60, lasso=True)
    assert 0 < picked(page) < box
    around(page, 1000, add=True)
    expect(page.get_by_text("640 faces are picked")).to_be_visible()
    page.mouse.click(*middle(page))
    assert picked(page) == 1, "the pointer does what it did again"


def test_materials_and_mirror_images_follow_from_a_face(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, two_balls(tmp_path))
    page.get_by_text("near", exact=True).first.click()
    page.get_by_role("button", name="Show alone").click()
    page.keyboard.press("f")
    x, y = middle(page)
    page.mouse.click(x + 5, y - 30)
    assert picked(page) == 1
    page.get_by_role("button", name="Mirror image too").click()
    expect(page.get_by_text("2 faces are picked", exact=False)).to_be_visible()
    half = page.get_by_text(re.compile(r"^1[3-8]\d faces are picked"))
    page.get_by_role("button", name="All of its material").click()
    expect(half).to_be_visible()
    of_sand = picked(page)
    page.get_by_role("button", name="Invert").click()
    expect(page.get_by_text(f"{320 - of_sand} faces are picked")).to_be_visible()
    page.get_by_role("button", name="Pick edges").click()
    page.get_by_role("button", name="Pick nothing").click()
    around(page, 50)
    text = page.get_by_text("edges are picked.")
    count = int((text.text_content() or "").split()[0])
    page.get_by_role("button", name="Mirror image too").click()
    expect(text).not_to_contain_text(f"{count} edges are picked.", timeout=10_000)


def test_objects_are_shown_alone_on_the_model(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, two_balls(tmp_path))
    page.get_by_text("takes what is hidden too").click()
    page.get_by_text("far", exact=True).first.click()
    page.get_by_role("button", name="Show alone").click()
    around(page, 1000)
    expect(page.get_by_text("320 faces are picked")).to_be_visible()
    page.get_by_role("button", name="Only 1 shown: show all").click()
    around(page, 1000)
    expect(page.get_by_text("640 faces are picked")).to_be_visible()
    assert newest(page, address)["undo"] is None or "Show" not in newest(page, address)["undo"], "what is shown is no step"


def test_points_give_the_way_between_them_and_stay_when_laid_flat(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.get_by_role("button", name="Pick points").click()
    at = on_table(page)
    page.mouse.click(*at(0.195, 0.102))
    expect(page.get_by_text("1 point is picked.", exact=True)).to_be_visible()
    page.keyboard.down("Shift")
    page.mouse.click(*at(0.203, 0.295))
    page.keyboard.up("Shift")
    expect(page.get_by_text("2 edges are picked.")).to_be_visible()
    expect(page.get_by_text("2 picked points stay.")).to_be_visible()
    page.get_by_role("button", name="Lay flat again").click()
    expect(page.get_by_role("status").filter(has_text="Done")).to_be_visible(timeout=30_000)


def test_a_line_on_the_table_cuts_the_islands_that_it_crosses(page: Page, address: str, tmp_path: Path) -> None:
    sheet(page, address, tmp_path)
    page.get_by_role("button", name="Pick edges").click()
    at = on_table(page)
    page.keyboard.down("Alt")
    page.mouse.move(*at(-0.04, 0.205))
    page.mouse.down()
    page.mouse.move(*at(0.2, 0.2), steps=3)
    page.mouse.move(*at(0.46, 0.195), steps=3)
    page.mouse.up()
    page.keyboard.up("Alt")
    expect(page.get_by_text("4 edges are picked.")).to_be_visible()
    cut(page)
    assert newest(page, address)["objects"][0]["islands"] == 2
