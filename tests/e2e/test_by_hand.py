"""Points dragged on the table, the brush on table and model, and sewing seen before it is done: real drags, judged by what the server has then."""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
import trimesh
from PIL import Image
from playwright.sync_api import Page, expect

from quilt_core import formats
from quilt_core.model.scene import Floats
from quilt_core.uv.areas import signed_areas
from tests.server.test_cleaning import dirty
from tests.server.test_further import crate
from tests.server.test_hand import sheet
from tests.server.test_sewing import strip

from . import tile_px
from .steps import deliver, idle, on_table, put, section, stage, start
from .test_seams import middle, newest


def opened(page: Page, address: str, tmp_path: Path, body: bytes, name: str) -> None:
    file = tmp_path / f"{name}.obj"
    file.write_bytes(body)
    start(page, address, name, file)
    stage(page, "Mend")


def uvs(page: Page, tmp_path: Path, name: str) -> tuple[Floats, Floats]:
    """Positions and UVs of all triangles' corners as they are delivered now."""
    stage(page, "Deliver")
    with deliver(page, tmp_path / "out.zip") as z:
        m = formats.read(z.read(f"{name}.obj"), f"{name}.obj").meshes[0]
    stage(page, "Mend")
    return m.positions[m.triangles], m.channels[0].uvs[m.channels[0].triangles]


def drag(page: Page, one: tuple[float, float], other: tuple[float, float], hold: int = 600) -> None:
    page.mouse.move(*one)
    page.mouse.down()
    page.mouse.move(*other, steps=6)
    # What follows is asked for while the drag goes on.
    page.wait_for_timeout(hold)


def test_a_point_is_dragged_and_a_fold_refused(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path, sheet(8), "sheet")
    page.get_by_role("button", name="Points on the table").click()
    at = on_table(page)
    page.get_by_label("What a drag snaps to").select_option("none")
    page.mouse.click(*at(0.3, 0.3))
    expect(page.get_by_text("1 point is picked: drag one on the table.")).to_be_visible()
    drag(page, at(0.3, 0.3), at(0.32, 0.31))
    page.mouse.up()
    expect(page.get_by_role("button", name="Undo")).to_have_attribute("title", re.compile("Move points"))
    idle(page)
    positions, now = uvs(page, tmp_path, "sheet")
    went = now.reshape(-1, 2) - (0.1 + 0.4 * positions.reshape(-1, 3)[:, :2])
    moved = np.abs(went).max(axis=1) > 1e-4
    box = page.get_by_test_id("table").bounding_box()
    assert box
    pixel = 1 / tile_px(box)
    assert moved.sum() == 6 and np.abs(went[moved] - [0.02, 0.01]).max() < 3 * pixel
    # Far over its neighbours: it is refused, in words, and everything is as it was. Whoever comes back goes on picking points.
    expect(page.get_by_role("button", name="Points on the table")).to_have_attribute("aria-pressed", "true")
    page.mouse.click(*at(0.2, 0.3))
    expect(page.get_by_text("1 point is picked: drag one on the table.")).to_be_visible()
    before = newest(page, address)["snapshot"]
    drag(page, at(0.2, 0.3), at(0.45, 0.3))
    page.mouse.up()
    expect(page.get_by_text("would fold over")).to_be_visible(timeout=30_000)
    idle(page)
    assert newest(page, address)["snapshot"] == before


def test_points_are_parted_welded_and_lined_up(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path, sheet(8, 0.04), "sheet")
    page.get_by_role("button", name="Points on the table").click()
    at = on_table(page)
    # A box around the middle column of points, all the way across.
    x0, y0 = at(0.28, 0.05)
    x1, y1 = at(0.32, 0.55)
    page.keyboard.down("Shift")
    page.mouse.move(x0, y0)
    page.mouse.down()
    page.mouse.move(x1, y1, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    expect(page.get_by_text("9 points are picked: drag one on the table.")).to_be_visible()
    page.get_by_role("button", name="In a column").click()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    idle(page)
    expect(page.get_by_text("9 points are picked: drag one on the table.")).to_be_visible()
    page.get_by_role("button", name="Part", exact=True).click()
    expect(page.get_by_text("1 objects, islands")).to_be_visible()
    idle(page)
    assert newest(page, address)["objects"][0]["islands"] == 2
    page.get_by_role("button", name="Weld").click()
    idle(page)
    page.wait_for_function("document.body.innerText.includes('All saved')")
    assert newest(page, address)["objects"][0]["islands"] == 1
    positions, now = uvs(page, tmp_path, "sheet")
    column = np.abs(positions.reshape(-1, 3)[:, 0] - 0.5) < 1e-6
    assert np.ptp(now.reshape(-1, 2)[column, 0]) < 1e-5


def stretch(positions: Floats, now: Floats) -> Floats:
    """How far each side of a triangle is from 0.4 of its length in space."""
    lengths = [np.linalg.norm(x - np.roll(x, -1, axis=1), axis=2) for x in (now, positions)]
    return np.abs(lengths[0] / lengths[1] / 0.4 - 1)


def test_the_brush_relaxes_on_the_table_and_on_the_model(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path, sheet(12, 0.06), "sheet")
    positions, before = uvs(page, tmp_path, "sheet")
    page.get_by_role("button", name="Relax by brush").click()
    put(page, "Strength of the brush", "100")
    page.get_by_text("Outlines stay").click()
    x, y = on_table(page)(0.3, 0.3)
    page.mouse.move(x, y)
    size = page.get_by_label("Size of the brush").input_value()
    page.keyboard.down("Shift")
    page.mouse.wheel(0, -100)
    page.keyboard.up("Shift")
    expect(page.get_by_label("Size of the brush")).not_to_have_value(size)
    assert float(page.get_by_label("Size of the brush").input_value()) > float(size)
    put(page, "Size of the brush", "60")
    page.mouse.move(x, y)
    expect(page.get_by_test_id("ring").first).to_be_visible()
    page.mouse.down()
    for k in range(12):
        page.mouse.move(x + 14 * np.cos(k), y + 14 * np.sin(k))
        page.wait_for_timeout(50)
    page.mouse.up()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    idle(page)
    _, after = uvs(page, tmp_path, "sheet")
    assert stretch(positions, after).mean() < 0.5 * stretch(positions, before).mean() and (signed_areas(after) > 0).all()
    page.get_by_role("button", name="Undo").click()
    idle(page)
    page.get_by_role("button", name="Relax by brush").click()
    put(page, "Size of the brush", "110")
    x, y = middle(page)
    page.mouse.move(x, y)
    page.mouse.down()
    for k in range(12):
        page.mouse.move(x + 20 * np.cos(k), y + 20 * np.sin(k))
        page.wait_for_timeout(50)
    page.mouse.up()
    expect(page.get_by_role("button", name="Redo")).to_be_disabled()
    idle(page)
    _, model = uvs(page, tmp_path, "sheet")
    assert stretch(positions, model).mean() < 0.5 * stretch(positions, before).mean() and (signed_areas(model) > 0).all()


def test_a_stretched_border_is_eased_with_two_keys(page: Page, address: str, tmp_path: Path) -> None:
    body = sheet(8).decode().replace("vt 0.100000 0.300000", "vt 0.060000 0.300000")
    opened(page, address, tmp_path, body.encode(), "sheet")
    positions, before = uvs(page, tmp_path, "sheet")
    page.get_by_role("button", name="Points on the table").click()
    page.mouse.click(*on_table(page)(0.064, 0.3))
    expect(page.get_by_text("1 point is picked: drag one on the table.")).to_be_visible()
    page.get_by_test_id("table").hover()
    page.keyboard.press("b")
    expect(page.get_by_text("32 points are picked: drag one on the table.")).to_be_visible()
    for _ in range(3):
        page.keyboard.press("r")
        page.wait_for_timeout(300)
        idle(page)
    _, after = uvs(page, tmp_path, "sheet")
    assert stretch(positions, after).max() < 0.5 * stretch(positions, before).max()


def test_what_sewing_brings_across_is_seen_before(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path, strip([1.04, 1.0], [2, 2]), "strip")
    page.get_by_role("button", name="Pick edges").click()
    x, y = middle(page)
    page.mouse.dblclick(x, y)
    expect(page.get_by_text("1 edge is picked.")).to_be_visible()
    expect(page.get_by_text("Sewn, an island comes across: dotted on the table.")).to_be_visible(timeout=10_000)
    page.get_by_text("Lay flat at once").click()
    page.get_by_role("button", name="Sew", exact=True).click()
    expect(page.get_by_text("Seams are stitched on the model")).to_be_visible(timeout=30_000)
    idle(page)
    assert newest(page, address)["objects"][0]["islands"] == 1
    expect(page.get_by_text("dotted on the table")).to_be_hidden()


def test_texels_are_matched_to_a_brick_of_the_picture(page: Page, address: str, tmp_path: Path) -> None:
    """A brick is a quarter of a 2048 px tile wide, 512 px; it is 25 cm: the density that fits is 2048 px/m, by arithmetic."""
    opened(page, address, tmp_path, sheet(4), "sheet")
    picture = tmp_path / "bricks.png"
    pixels = np.zeros((256, 256, 3), np.uint8)
    pixels[:, ::64] = pixels[::32] = 200
    Image.fromarray(pixels).save(picture)
    stage(page, "Even")
    page.get_by_test_id("picture").set_input_files(picture)
    idle(page)
    page.get_by_text("It goes on beyond the tile").click()
    page.get_by_role("button", name="Measure").click()
    at = on_table(page)
    for u in (0.25, 0.5):
        page.mouse.click(*at(u, 0.75))
    measured = page.get_by_role("button", name=re.compile(r"^\d+\.\d px$"))
    expect(measured).to_be_visible()
    px = float(measured.inner_text().split()[0])
    assert abs(px - 512) < 12
    put(page, "Real length", "25")
    page.get_by_role("button", name="Match", exact=True).click()
    expect(page.get_by_text("1 island changed.")).to_be_visible(timeout=30_000)
    idle(page)
    stage(page, "Mend")
    positions, now = uvs(page, tmp_path, "sheet")
    density = 2048 * np.sqrt(np.abs(signed_areas(now)).sum() / np.abs(signed_areas(positions[..., :2])).sum())
    assert abs(density / (px / 0.25) - 1) < 1e-3


def test_islands_are_laid_out_in_rows(page: Page, address: str, tmp_path: Path) -> None:
    opened(page, address, tmp_path, strip([1.0, 2.4, 0.5], [1, 1, 1]), "strip")
    stage(page, "Arrange")
    section(page, "By hand")
    page.get_by_label("Order of the rows").select_option("size")
    page.get_by_role("button", name="Lay out in rows").click()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled(timeout=30_000)
    idle(page)
    positions, now = uvs(page, tmp_path, "strip")
    middle_x = positions.mean(axis=1)[:, 0]
    lefts = [now[(middle_x > a) & (middle_x < b)].reshape(-1, 2).min(axis=0) for a, b in ((0, 1), (1, 3.4), (3.4, 3.9))]
    assert sorted(range(3), key=lambda k: (-lefts[k][1], lefts[k][0])) == [1, 0, 2]


def test_a_light_map_channel_is_made_and_read(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "crate.glb"
    file.write_bytes(crate())
    start(page, address, "Crate", file)
    stage(page, "Gather")
    page.get_by_label("Size of the light map").select_option("64")
    page.get_by_role("button", name="Make the channel").click()
    expect(page.get_by_text("2 meshes have it in channel 2 now.")).to_be_visible(timeout=60_000)
    idle(page)
    expect(page.get_by_text("Channel 2: all objects")).to_be_visible()
    page.get_by_label("UV channel to work on").select_option("2")
    idle(page)
    expect(page.get_by_text("Channel 2, worked on: all objects")).to_be_visible(timeout=30_000)
    state = newest(page, address)
    assert state["settings"]["channel_in"] == 2 and state["figures"]["flipped"] == 0 and state["figures"]["overlap"]["self"] == 0


def test_a_dirty_mesh_is_looked_at_and_cleaned_where_it_is_written_anew(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "box.obj"
    file.write_bytes(dirty())
    start(page, address, "Dirty box", file)
    stage(page, "Mend")
    page.get_by_role("button", name="Look at all meshes").click()
    found = page.get_by_role("list", name="What could be cleaned")
    expect(found).to_contain_text("34 duplicate vertices", timeout=30_000)
    idle(page)
    found.get_by_text("1 faces wound the other way").click()
    expect(page.get_by_text("1 face is picked: their border can be cut.")).to_be_visible()
    stage(page, "Deliver")
    expect(page.get_by_text("Clean the meshes of")).to_be_hidden()
    page.get_by_label("Format of the files").select_option("glb")
    for what in ("faces twice", "faces without area", "faces wound the other way", "duplicate vertices"):
        page.get_by_text(what, exact=True).click()
    with deliver(page, tmp_path / "out.zip") as z:
        mesh = trimesh.load(io.BytesIO(z.read("box.glb")), file_type="glb", force="mesh", process=False)
    mesh.merge_vertices(merge_tex=True, merge_norm=True)
    assert mesh.is_watertight and mesh.is_winding_consistent and len(mesh.faces) == 12
    expect(page.get_by_text("cleaned of")).to_be_visible()
