"""Prove and Deliver through the interface: real objects with real textures merged on one sheet, proven, baked and handed over."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pygltflib
from PIL import Image
from playwright.sync_api import Page, expect

from quilt_core import formats
from tests.core.test_faults import squares
from tests.real_files import path

from . import tile_px
from .steps import idle, proving, put, stage, start

OBJECTS = ("generic-button", "generic-touchpad", "generic-trigger-squeeze")


def test_real_objects_with_their_textures_become_one_sheet(page: Page, address: str, tmp_path: Path) -> None:
    """Three files, each with a texture of its own: one sheet, proven down to a mip level, baked, and the old paint carried over.

    The files are told apart by folder; what comes out is read by pygltflib and by Pillow.
    """
    files = []
    for name in OBJECTS:
        file = tmp_path / f"{name}.glb"
        file.write_bytes(path("webxr", f"{name}/none.glb").read_bytes())
        files.append(file)
    start(page, address, "One sheet", *files)
    stage(page, "Mend")
    page.get_by_role("button", name="Flip back", exact=True).click()
    idle(page)
    stage(page, "Arrange")
    page.get_by_label("Map size").select_option("512")
    idle(page)
    put(page, "Time", "3")
    page.get_by_role("button", name="Pack this sheet").click()
    proving(page)
    page.get_by_role("button", name="Prove how far the colours stay apart").click()
    expect(page.get_by_text("Clean, measured")).to_be_visible(timeout=60_000)
    expect(page.get_by_text("Rule of thumb, by the padding")).to_be_visible()
    idle(page)
    page.get_by_label("Size of the test bake").select_option("256")
    put(page, "Rays", "8")
    page.get_by_role("button", name="Bake a test").click()
    expect(page.get_by_text("Texels written by two islands")).to_be_visible(timeout=60_000)
    expect(page.get_by_label("What the model shows")).to_have_value("tiles")
    page.get_by_label("Baked map that is shown").select_option("normal object")
    stage(page, "Deliver")
    page.get_by_text("Carry the old paint over").click()
    page.get_by_role("button", name="Tile images").click()
    page.get_by_label("Tile images").select_option("island")
    with page.expect_download(timeout=120_000) as download:
        page.get_by_role("button", name="Make the zip").click()
    download.value.save_as(tmp_path / "out.zip")
    with zipfile.ZipFile(tmp_path / "out.zip") as archive:
        report = json.loads(archive.read("report.json"))
        carried = [c for c in report["carried"] if c["kind"] == "base colour"]
        assert len(carried) == 1 and carried[0]["psnr"] > 30 and carried[0]["mean"] < 2
        assert report["sheets"]["Sheet 1"]["verdict"].startswith("Fit for baking") and report["ok"]
        assert "Sheet_1.1001.png" in archive.namelist() and "report.html" in archive.namelist()
        sheet = archive.read(carried[0]["file"])
        assert Image.open(io.BytesIO(sheet)).size == (512, 512)
        for name in OBJECTS:
            new = pygltflib.GLTF2.load_from_bytes(archive.read(f"{name}.glb"))
            shown = [
                m.pbrMetallicRoughness.baseColorTexture
                for m in new.materials
                if m.pbrMetallicRoughness and m.pbrMetallicRoughness.baseColorTexture
            ]
            assert shown
            for info in shown:
                view = new.bufferViews[new.images[new.textures[info.index].source].bufferView]
                assert new.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength] == sheet
            assert formats.read(archive.read(f"{name}.glb"), name + ".glb").objects
    page.get_by_label("Format of the files").select_option("glb")
    page.get_by_text("All in one file").click()
    page.get_by_text("One material for each sheet").click()
    with page.expect_download(timeout=120_000) as download:
        page.get_by_role("button", name="Make the zip").click()
    download.value.save_as(tmp_path / "one.zip")
    with zipfile.ZipFile(tmp_path / "one.zip") as archive:
        assert [n for n in archive.namelist() if n.endswith(".glb")] == ["One_sheet.glb"]
        one = pygltflib.GLTF2.load_from_bytes(archive.read("One_sheet.glb"))
        assert [m.name for m in one.materials] == ["Sheet_1"] and len(one.images) == len(json.loads(archive.read("report.json"))["carried"])
        scene = formats.read(archive.read("One_sheet.glb"), "One_sheet.glb")
        assert {o.path.split("/")[0] for o in scene.objects} == set(OBJECTS)
    said = page.get_by_role("region", name="What was delivered")
    expect(said.get_by_text("base colour", exact=True).first).to_be_visible()
    said.get_by_role("button", name="By material, the worst first").click()
    expect(said.get_by_text("xrstandard", exact=False).last).to_be_visible()
    page.get_by_label("What the model shows").select_option("wipe")
    line = page.get_by_role("slider", name="Between the old paint and the new")
    line.focus()
    old, new = (wiped(page, key) for key in ("End", "Home"))
    # All of the one, then all of the other: two pictures of one surface, each far from bare paper.
    assert np.abs(old - new).mean() < 2 and old.std() > 20


def wiped(page: Page, key: str) -> np.ndarray:
    """What the model shows once the line is pulled all the way to one side."""
    page.keyboard.press(key)
    page.wait_for_timeout(1500)
    return np.asarray(Image.open(io.BytesIO(page.get_by_test_id("model").screenshot())).convert("RGB"), float)


def test_a_newer_version_of_a_file_is_taken_over(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "parts.obj"
    old = [(0.1, 0.1, 0.2, 0.2), (0.3, 0.1, 0.5, 0.2)]
    file.write_bytes(squares(old))
    start(page, address, "Newer", file)
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_role("button", name="Pack this sheet").click()
    proving(page)
    stage(page, "Gather")
    file.write_bytes(squares([*old, (0.6, 0.6, 0.9, 0.9)]))
    page.get_by_test_id("replace-parts.obj").set_input_files(file)
    card = page.get_by_role("region", name="Newer version")
    expect(card.get_by_text("parts: 1 new, 2 as they were islands")).to_be_visible(timeout=30_000)
    card.get_by_role("button", name="Take it over").click()
    idle(page)
    expect(card).not_to_be_visible()
    stage(page, "Arrange")
    expect(page.get_by_text("Stale: a file was replaced; 1 islands more.")).to_be_visible()


def test_a_narrow_gap_is_clicked_and_marks_are_switched(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "near.obj"
    file.write_bytes(squares([(0.2, 0.4, 0.5, 0.6), (0.502, 0.4, 0.8, 0.6)]))
    start(page, address, "Near", file)
    page.get_by_label("What a click picks").select_option("islands")
    stage(page, "Mend")
    host = page.get_by_test_id("table").bounding_box()
    assert host
    side = tile_px(host)
    left, low = host["x"] + (host["width"] - side) / 2, host["y"] + (host["height"] + side) / 2
    found = page.request.get(f"{address}/api/projects/{page.url.rsplit('/', 1)[-1]}/faults").json()
    u, v, _ = next(f["places"][0] for f in found if f["kind"] == "gap")
    page.mouse.click(left + u * side, low - v * side)
    expect(page.get_by_text("For the selection: 2 islands")).to_be_visible()

    def ink() -> int:
        return page.evaluate(
            """() => {
              const canvas = [...document.querySelectorAll('[data-testid=table] canvas')].at(-1)
              const data = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height).data
              let red = 0
              for (let k = 0; k < data.length; k += 4) if (data[k] > 120 && data[k + 1] < 90 && data[k + 3] > 128) red++
              return red
            }"""
        )

    page.get_by_role("button", name="Fit").click()
    page.wait_for_timeout(300)
    assert ink() > 10, "the tick and its px"
    page.get_by_role("button", name="Marks").click()
    page.get_by_text("narrow gaps, with their px").click()
    page.wait_for_timeout(300)
    assert ink() == 0
