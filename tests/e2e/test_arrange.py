"""Faults of every kind, sheets and tiles, tries, hand moves and pictures through the interface, as a user does it."""

from __future__ import annotations

import json
import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Locator, Page, expect

from demo.textures import png
from quilt_core import formats
from quilt_core.model.tiles import Grid
from quilt_core.uv.analysis import analyse
from quilt_core.uv.density import densities
from tests.core.test_faults import squares

from . import tile_px
from .steps import deliver, idle, packed, proving, put, section, stage, start


def faulty() -> bytes:
    """One object for each kind of fault, in metres; the UVs of the object before are never reused."""
    v: list[str] = []
    out: list[str] = []
    count = {"v": 0, "t": 0}

    def face(name: str, points: list[tuple[float, float, float]], uvs: list[tuple[float, float]], faces: list[list[int]]) -> None:
        out.append(f"o {name}")
        out.extend("v " + " ".join(map(str, p)) for p in points)
        out.extend(f"vt {a} {b}" for a, b in uvs)
        out.extend("f " + " ".join(f"{count['v'] + 1 + i}/{count['t'] + 1 + i}" for i in f) for f in faces)
        count["v"] += len(points)
        count["t"] += len(uvs)

    def quad(name: str, u: float, w: float, size: float, wide: float = 1.0, x: float = 0.0) -> None:
        face(name, [(x, 0, 0), (x + wide, 0, 0), (x + wide, 1, 0), (x, 1, 0)],
             [(u, w), (u + size, w), (u + size, w + size), (u, w + size)], [[0, 1, 2, 3]])  # fmt: skip

    quad("overlap-a", 0.02, 0.02, 0.1)
    quad("overlap-b", 0.07, 0.02, 0.1)
    quad("twin-a", 0.25, 0.02, 0.1)
    quad("twin-b", 0.25, 0.02, 0.1)
    # Folded over itself: the second quad comes back onto the first.
    face("self", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)],
         [(0.4, 0.02), (0.5, 0.02), (0.5, 0.12), (0.4, 0.12), (0.42, 0.02), (0.42, 0.12)], [[0, 1, 2, 3], [1, 4, 5, 2]])  # fmt: skip
    face("turned", [(0, 0, 0), (3, 0, 0), (3, 1, 0), (0, 1, 0), (3.2, 0.5, 0)],
         [(0.55, 0.02), (0.75, 0.02), (0.75, 0.1), (0.55, 0.1), (0.72, 0.06)], [[0, 1, 2, 3], [1, 4, 2]])  # fmt: skip
    face("flat-uv", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (1, 2, 0)],
         [(0.8, 0.02), (0.9, 0.02), (0.9, 0.12), (0.8, 0.12), (0.9, 0.14)], [[0, 1, 2, 3], [1, 2, 4]])  # fmt: skip
    face("flat-world", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (1, 2, 0)],
         [(0.02, 0.2), (0.12, 0.2), (0.12, 0.3), (0.02, 0.3), (0.2, 0.25)], [[0, 1, 2, 3], [1, 4, 2]])  # fmt: skip
    quad("stretched", 0.25, 0.2, 0.1, wide=8.0)
    quad("gap-a", 0.4, 0.2, 0.1)
    quad("gap-b", 0.501, 0.2, 0.1)
    quad("margin", 0.0005, 0.4, 0.1)
    quad("tiny", 0.7, 0.2, 0.0005)
    face("crowded", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0.5, 0.5, 1)],
         [(0.3, 0.4), (0.4, 0.4), (0.4, 0.5), (0.3, 0.5), (0.5, 0.45)], [[0, 1, 2, 3], [2, 1, 4], [1, 2, 4]])  # fmt: skip
    face("against", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)],
         [(0.55, 0.4), (0.65, 0.4), (0.65, 0.5), (0.55, 0.5), (0.75, 0.4), (0.75, 0.5)], [[0, 1, 2, 3], [2, 5, 4, 1]])  # fmt: skip
    quad("lavish", 0.5, 0.6, 0.3)
    quad("starved", 0.02, 0.6, 0.02)
    out.append("o bare")
    out += [f"v {x} 0 5" for x in (0, 1, 2)]
    out.append(f"f {count['v'] + 1} {count['v'] + 2} {count['v'] + 3}")
    return "\n".join(v + out).encode()


KINDS = {
    "1 object has no UVs": "", "1 pair of islands overlaps": "overlap", "1 pair of islands lies exactly on each other": "twins",
    "islands overlap themselves": "self", "triangles that are turned over": "turned", "triangles without area in the UV plane": "zero_uv",
    "triangles without area on the model": "zero_world", "is stretched": "stretch", "narrower than 8 px": "gap",
    "nearer to the border than 4 px": "margin", "smaller than 4 texels": "tiny",
    "more than two faces": "crowded", "wound the other way": "against", "above the band": "lavish", "below the band": "starved",
}  # fmt: skip


def card(page: Page, words: str) -> Locator:
    """The smallest block of the worksheet that holds these words and its buttons."""
    text = page.get_by_test_id("worksheet-panel").get_by_text(re.compile(words)).first
    return text.locator("xpath=..")


def test_every_kind_of_fault_is_listed_shown_and_counted_again(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "all-faults.obj"
    file.write_bytes(faulty())
    start(page, address, "All faults", file)
    sheet = page.get_by_test_id("worksheet-panel")
    for words in KINDS:
        expect(sheet.get_by_text(re.compile(words)).first, words).to_be_visible()
    # One by one: the walk selects the island that has the fault, in the ledger's own words.
    for words, kind in KINDS.items():
        if kind:
            card(page, words).get_by_role("button", name="›").click()
            expect(card(page, words).get_by_text(re.compile("^1 of "))).to_be_visible()
    card(page, "lies exactly on each other").get_by_role("button", name="Mark as twins").click()
    idle(page)
    expect(sheet.get_by_text("on purpose")).to_be_visible()
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_role("button", name="Pack this sheet").click()
    page.wait_for_timeout(800)
    idle(page)
    stage(page, "Inspect")
    for words in ("pair of islands overlaps", "narrower than 8 px", "nearer to the border", "above the band", "below the band"):
        expect(sheet.get_by_text(re.compile(words)), words).to_have_count(0)
    for words in ("overlap themselves", "turned over", "is stretched", "more than two faces", "on purpose"):
        expect(sheet.get_by_text(re.compile(words)).first, words).to_be_visible()


def test_a_planned_sheet_of_three_tiles_two_of_them_held(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "many.obj"
    rng = np.random.default_rng(2)
    sides = [(0.0, 0.0, float(w), float(h)) for w, h in rng.uniform(0.05, 0.2, (40, 2))]
    file.write_bytes(squares(sides))
    start(page, address, "Three tiles", file)
    stage(page, "Arrange")
    section(page, "Plan")
    expect(page.get_by_role("img", name="Density by map size")).to_be_visible()
    put(page, "Density wanted", "200")
    expect(page.get_by_text(re.compile("Needs .* of 2048 px"))).to_be_visible()
    put(page, "Time", "2")
    put(page, "Columns", "3")
    page.get_by_role("listbox", name="Tiles").get_by_role("option", name="1002").click()
    page.get_by_label("Resolution of tile 1002").select_option("1024")
    idle(page)
    section(page, "Sheets")
    expect(page.get_by_text("not packed yet")).to_be_visible()
    page.get_by_role("button", name="Pack this sheet").click()
    proving(page)
    expect(page.get_by_test_id("verdict")).to_have_text(re.compile("^Fit for baking"))
    expect(page.get_by_text(re.compile("Tile 1002, 1024 px"))).to_be_visible()
    with deliver(page, tmp_path / "a.zip") as archive:
        first = analyse(formats.read(archive.read("many.obj"), "many.obj"), 0)[0]
        assert json.loads(archive.read("report.json"))["ok"]
    assert first
    tiles = Grid(2048, 3, 1, {1002: 1024})
    d = densities(first.islands.area, first.world_area, tiles.px_of(first.islands.box))
    assert d.max() / d.min() < 1.001, "one density over tiles of different resolution"
    # Two tiles are held, the recipe changes, and only the third is packed.
    stage(page, "Arrange")
    for tile in ("1001", "1002"):
        page.get_by_role("listbox", name="Tiles").get_by_role("option", name=tile).click()
        page.get_by_role("button", name="Hold the tile").click()
        idle(page)
    put(page, "Padding", "12")
    expect(page.get_by_text("padding 8 to 12 px").first).to_be_visible()
    page.get_by_role("button", name="Pack this sheet").click()
    page.wait_for_timeout(800)
    idle(page)
    with deliver(page, tmp_path / "b.zip") as archive:
        second = analyse(formats.read(archive.read("many.obj"), "many.obj"), 0)[0]
    assert second
    held = np.floor(first.islands.box[:, 0]) < 2
    assert held.any() and not held.all()
    moved = np.abs(second.islands.box - first.islands.box).max(axis=1)
    assert moved[held].max() < 1e-6 and moved[~held].max() > 1e-3
    assert (np.floor(second.islands.box[~held, 0]) == 2).all()


def test_objects_go_to_a_second_sheet_and_only_it_is_packed_again(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("button", name="Tide mill, six parts").click()
    stage(page, "Arrange")
    put(page, "Time", "1")
    section(page, "Plan")
    page.get_by_role("button", name="Share them out evenly").click()
    page.wait_for_timeout(400)
    idle(page)
    listing = page.get_by_role("listbox", name="Sheets")
    expect(listing.get_by_role("option")).to_have_count(2)
    page.get_by_role("button", name="Pack what is stale (2)").click()
    page.wait_for_timeout(1500)
    idle(page)
    expect(page.get_by_text(re.compile("Sheet 2: .* px/m"))).to_be_visible()
    page.get_by_role("listbox", name="Objects").get_by_role("option", name=re.compile("punt")).click()
    page.get_by_label("Move the selection to").select_option("2" if "1" in page.get_by_label("Sheet on the table").input_value() else "1")
    idle(page)
    expect(listing.get_by_text(re.compile("islands (more|fewer)")).first).to_be_visible()
    page.keyboard.press("Control+z")
    idle(page)
    expect(page.get_by_role("button", name="Pack what is stale (0)")).to_be_disabled()


def test_bunches_twins_and_recipes_are_set_in_one_place(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "six.obj"
    file.write_bytes(squares([(0.05 + 0.1 * k, 0.1, 0.1 + 0.1 * k, 0.2) for k in range(6)]))
    start(page, address, "Rules", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_label("What a click picks").select_option("islands")
    page.get_by_test_id(re.compile("^open ")).first.click()
    lines = page.get_by_role("listbox", name="Objects").get_by_role("option")
    lines.nth(1).click()
    lines.nth(3).click(modifiers=["Control"])
    section(page, "Rules")
    page.get_by_role("button", name="Bunch the selection").click()
    idle(page)
    page.get_by_label("How Bunch 1 lies").select_option("strict")
    idle(page)
    page.get_by_role("button", name="Keep under a name").click()
    idle(page)
    expect(page.get_by_label("Recipe", exact=True)).to_have_value("My recipe")
    with page.expect_download() as download:
        page.get_by_role("button", name="Save as JSON").click()
    saved = json.loads(Path(download.value.path()).read_text())
    assert saved["name"] == "My recipe" and saved["padding_px"] == 8 and saved["seconds"] == 1
    saved |= {"padding_px": 16, "name": "Wide"}
    other = tmp_path / "wide.json"
    other.write_text(json.dumps(saved))
    page.get_by_test_id("recipe-file").set_input_files(other)
    idle(page)
    expect(page.get_by_label("Recipe", exact=True)).to_have_value("Wide")
    page.get_by_label("Compare with").select_option("My recipe")
    expect(page.get_by_text("padding, px: 16, there 8")).to_be_visible()
    page.get_by_role("button", name="Pack this sheet").click()
    proving(page)
    expect(page.get_by_test_id("verdict")).to_have_text(re.compile("^Fit for baking"))
    expect(page.get_by_text("Smallest gap, 16 px asked")).to_be_visible()


def test_a_try_is_compared_and_kept(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "ten.obj"
    file.write_bytes(squares([(0.0, 0.0, 0.1 + 0.01 * k, 0.1) for k in range(10)]))
    start(page, address, "Tries", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    for padding in ("8", "32"):
        put(page, "Padding", padding)
        page.get_by_role("button", name="Pack this sheet").click()
        packed(page)
    for name in ("Try 1", "Try 2"):
        page.get_by_role("button", name=f"Mark {name} to compare").click()
    page.get_by_role("button", name="Compare", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text("8, 4 px")).to_be_visible()
    expect(dialog.get_by_text("32, 16 px")).to_be_visible()
    dialog.get_by_label("Wipe between A and B").fill("20")
    dialog.get_by_role("button", name="Side by side").click()
    expect(dialog.get_by_alt_text(re.compile("Picture of"))).to_have_count(2)
    dialog.get_by_role("button", name="Keep Try 1").click()
    expect(dialog).not_to_be_visible()
    expect(page.get_by_text("Try 1, kept")).to_be_visible()
    expect(page.get_by_text(re.compile("Stale: padding 8 to 32 px"))).to_be_visible()


def test_islands_are_moved_by_hand_undone_and_redone(page: Page, address: str, tmp_path: Path) -> None:
    """A drag snaps to whole pixels of the map; keys nudge; settle and typed values; all of it is undone step by step."""
    file = tmp_path / "two.obj"
    file.write_bytes(squares([(0.2, 0.2, 0.4, 0.4), (0.6, 0.6, 0.8, 0.8)]))
    start(page, address, "By hand", file)
    page.get_by_label("What a click picks").select_option("islands")
    stage(page, "Arrange")
    host = page.get_by_test_id("table").bounding_box()
    assert host
    side = tile_px(host)
    left, low = host["x"] + (host["width"] - side) / 2, host["y"] + (host["height"] + side) / 2
    undo = page.get_by_role("button", name="Undo")
    page.mouse.click(left + 0.3 * side, low - 0.3 * side)
    page.mouse.move(left + 0.3 * side, low - 0.3 * side)
    page.mouse.down()
    page.mouse.move(left + 0.37 * side, low - 0.33 * side, steps=5)
    page.mouse.up()
    idle(page)
    expect(undo).to_have_attribute("title", re.compile(r"Move by hand \(1\)"))
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Shift+ArrowUp")
    page.wait_for_timeout(700)
    idle(page)
    expect(undo).to_have_attribute("title", re.compile(r"Nudge by 1, 10 px"))
    section(page, "By hand")
    put(page, "Move right by", "512")
    page.get_by_role("button", name="Move", exact=True).click()
    idle(page)
    page.get_by_role("button", name="Settle").click()  # it lies free: there is no step
    idle(page)
    for keys in ("Control+z", "Control+z", "Control+Shift+z", "Control+Shift+z"):
        page.keyboard.press(keys)
        idle(page)
    expect(undo).to_have_attribute("title", re.compile("Move by 512"))
    with deliver(page, tmp_path / "out.zip") as archive:
        piece = analyse(formats.read(archive.read("two.obj"), "two.obj"), 0)[0]
    assert piece
    box = piece.islands.box * 2048
    assert box[0, 0] == pytest.approx(round(box[0, 0]), abs=0.01), "on whole pixels"
    assert box[0, 1] == pytest.approx(round(box[0, 1]), abs=0.01)
    assert box[0, 0] - (0.2 * 2048 + 1 + 512) == pytest.approx(0.07 * 2048, abs=8)
    assert box[1] == pytest.approx(np.array([0.6, 0.6, 0.8, 0.8]) * 2048, abs=0.01)


def test_a_picture_is_dropped_on_its_tile(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "one.obj"
    file.write_bytes(squares([(0.2, 0.2, 0.6, 0.6)]))
    start(page, address, "Pictures", file)
    data = list(png("wheel"))
    page.evaluate(
        """(bytes) => {
          const data = new DataTransfer()
          data.items.add(new File([new Uint8Array(bytes)], 'planks.1001.png', { type: 'image/png' }))
          const at = document.querySelector('[data-testid=table]')
          const box = at.getBoundingClientRect()
          const where = { clientX: box.x + box.width / 2, clientY: box.y + box.height / 2 }
          at.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true, ...where }))
        }""",
        data,
    )
    expect(page.get_by_label("Dim the picture")).to_be_visible(timeout=20_000)
    stage(page, "Even")
    expect(page.get_by_label("Picture under the islands").last).to_have_value(re.compile("^[0-9a-f]{64}$"))
    page.get_by_label("What the model shows").select_option("tiles")
    page.wait_for_timeout(600)
    colour = page.evaluate(
        """() => {
          const canvas = document.querySelector('[data-testid=model] canvas')
          const copy = document.createElement('canvas')
          Object.assign(copy, { width: canvas.width, height: canvas.height })
          const pen = copy.getContext('2d')
          pen.drawImage(canvas, 0, 0)
          return [...pen.getImageData(canvas.width / 2, canvas.height / 2, 1, 1).data]
        }"""
    )
    red, green, blue = colour[:3]
    assert red > green > blue, "the brown of the planks"
    page.get_by_label("Picture under the islands").last.select_option("")
    expect(page.get_by_label("Dim the picture")).not_to_be_visible()
