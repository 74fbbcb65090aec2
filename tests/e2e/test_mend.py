"""Mend through the interface: what has no UVs is unwrapped, packed, delivered and undone, with real clicks."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import trimesh
from playwright.sync_api import Page, expect

from quilt_core import formats
from tests.core.test_faults import squares
from tests.server.test_copies import files as shapes

from .steps import deliver, idle, proving, put, stage, start
from .test_seams import newest


def test_bare_and_good_objects_are_told_apart_unwrapped_packed_and_delivered(page: Page, address: str, tmp_path: Path) -> None:
    """A ball and a tube without UVs come with a plate that has good ones; only the bare ones are unwrapped. trimesh reads what was delivered."""
    good = squares([(0.1, 0.1, 0.4, 0.4)]).decode()
    lines, first = [good], 5
    for name, solid in (("ball", trimesh.creation.icosphere(2)), ("tube", trimesh.creation.cylinder(0.5, 2, sections=24))):
        lines += [f"o {name}", *(f"v {x} {y} {z}" for x, y, z in solid.vertices)]
        lines += ["f " + " ".join(str(first + k) for k in face) for face in solid.faces]
        first += len(solid.vertices)
    file = tmp_path / "kit.obj"
    file.write_text("\n".join(lines) + "\n")
    start(page, address, "Kit", file)
    expect(page.get_by_text("2 objects have no UVs")).to_be_visible()
    page.get_by_role("button", name="Next: mend").click()
    expect(page.get_by_text("2 objects cannot be saved by moving islands")).to_be_visible()
    page.get_by_label("Stretch that is allowed").select_option("1.1")
    page.get_by_role("button", name="Unwrap 2 objects anew").click()
    table = page.get_by_role("table", name="New UVs")
    expect(table.get_by_role("row")).to_have_count(3, timeout=60_000)
    idle(page)
    expect(table.get_by_text("ball")).to_be_visible()
    expect(page.get_by_text("Nothing here is beyond saving")).to_be_visible()
    stage(page, "Arrange")
    put(page, "Time", "1")
    page.get_by_role("button", name="Pack this sheet").click()
    proving(page)
    with deliver(page, tmp_path / "out.zip") as archive:
        body = archive.read("kit.obj")
    scene = formats.read(body, "kit.obj")
    for name, mesh in zip([o.name for o in scene.objects], scene.meshes, strict=True):
        uv = mesh.channels[0].uvs[mesh.channels[0].triangles]
        a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
        assert (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0] > 0).all(), f"{name}: nothing is folded"
        assert uv.min() >= 0 and uv.max() <= 1
    (tmp_path / "again.obj").write_bytes(body)
    loaded = trimesh.load(tmp_path / "again.obj", force="mesh", process=False)
    was = trimesh.load(file, force="mesh", process=False)
    assert loaded.area == pytest.approx(was.area, rel=1e-6) and np.isfinite(loaded.visual.uv).all()
    for _ in range(3):  # the packing, its time, the new UVs
        page.get_by_role("button", name="Undo").click()
        idle(page)
    stage(page, "Inspect")
    expect(page.get_by_text("2 objects have no UVs")).to_be_visible()


def test_what_was_selected_is_selected_when_it_has_new_uvs(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "plates.obj"
    file.write_bytes(squares([(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]))
    start(page, address, "Plates", file)
    stage(page, "Mend")
    page.get_by_text("plates", exact=True).first.click()
    page.get_by_role("button", name="Unwrap the whole object selected").click()
    expect(page.get_by_role("table", name="New UVs").get_by_role("row")).to_have_count(2, timeout=60_000)
    idle(page)
    expect(page.get_by_role("button", name="Unwrap the whole object selected")).to_be_enabled()


def test_one_object_gives_its_uvs_to_its_copies(page: Page, address: str, tmp_path: Path) -> None:
    """A good one, a turned and renumbered one, a mirrored one and another shape: two get UVs in one step, and give them up in one."""
    paths = []
    for name, body in shapes().items():
        path = tmp_path / name.replace("__", ".")
        path.write_bytes(body)
        paths.append(path)
    start(page, address, "Chairs", *paths)
    expect(page.get_by_text("4 objects have no UVs")).to_be_visible()
    stage(page, "Mend")
    page.get_by_text("good", exact=True).first.click()
    page.get_by_role("button", name="Give UVs to copies").click()
    expect(page.get_by_text("2 copies have its UVs now.")).to_be_visible(timeout=60_000)
    idle(page)
    expect(page.get_by_role("table", name="New UVs").get_by_text("mirrored")).to_be_visible()
    stage(page, "Inspect")
    expect(page.get_by_text("2 objects have no UVs")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("4 objects have no UVs")).to_be_visible()


def test_linked_copies_follow_whichever_is_changed(page: Page, address: str, tmp_path: Path) -> None:
    """Three of one shape are found, share their texels as linked twins; the mirrored one is cut and all have two islands; let go, one goes alone."""
    paths = []
    for name, body in shapes().items():
        path = tmp_path / name.replace("__", ".")
        path.write_bytes(body)
        paths.append(path)
    start(page, address, "Linked chairs", *paths)
    stage(page, "Mend")
    page.get_by_role("button", name="Find objects of one shape").click()
    found = page.get_by_role("list", name="Objects of one shape").get_by_role("listitem")
    expect(found).to_contain_text("3 objects", timeout=60_000)
    idle(page)
    found.click()
    page.get_by_label("Where copies lie").select_option("onto")
    page.get_by_text("Keep them alike").click()
    page.get_by_role("button", name="Give UVs to copies").click()
    expect(page.get_by_text("2 copies have its UVs now.")).to_be_visible(timeout=60_000)
    idle(page)
    expect(page.get_by_role("list", name="Linked copies")).to_contain_text("2 more are kept alike on the same texels")

    def islands() -> dict[str, int]:
        return {o["name"]: o["islands"] for o in newest(page, address)["objects"] if o["islands"]}

    assert islands() == {"good": 1, "turned": 1, "mirrored": 1}
    page.get_by_text("mirrored", exact=True).first.click()
    page.get_by_role("button", name="Cut across").click()
    expect(page.get_by_text("Done.")).to_be_visible(timeout=60_000)
    idle(page)
    assert islands() == {"good": 2, "turned": 2, "mirrored": 2}
    page.get_by_role("button", name="Undo").click()
    idle(page)
    assert islands() == {"good": 1, "turned": 1, "mirrored": 1}
    page.get_by_role("button", name="Let good and its copies go").click()
    idle(page)
    page.get_by_text("mirrored", exact=True).first.click()
    page.get_by_role("button", name="Cut across").click()
    expect(page.get_by_text("Done.")).to_be_visible(timeout=60_000)
    idle(page)
    assert islands() == {"good": 1, "turned": 1, "mirrored": 2}
