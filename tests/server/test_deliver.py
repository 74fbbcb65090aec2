"""What leaves: meshes, templates, tile images, old paint carried over and rewired, twins aside, proofs, the page and the manifest."""

from __future__ import annotations

import hashlib
import io
import json
import re
import xml.dom.minidom
import zipfile
from pathlib import Path

import cv2
import numpy as np
import OpenEXR
import pygltflib
import pytest
import trimesh
from PIL import Image

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.formats.pictures import pictures
from quilt_core.uv.analysis import analyse
from tests.core.test_faults import squares

from .test_api import Browser
from .test_sheets import QUICK, job, settle_settings, sheet

pytestmark = pytest.mark.django_db(transaction=True)
BOXES = [(0.05, 0.05, 0.45, 0.45), (0.55, 0.05, 0.95, 0.45)]
MTL = b"newmtl wood\nKd 0.5 0.5 0.5\nmap_Kd wheel.png\nmap_Ns gloss.png\n\nnewmtl sack\nmap_Kd sack.png\n"


@pytest.fixture
def browser() -> Browser:
    return Browser()


def painted_obj() -> bytes:
    """Two squares, each with a material of its own."""
    lines = squares(BOXES).decode().splitlines()
    faces = [k for k, x in enumerate(lines) if x.startswith("f ")]
    lines.insert(faces[1], "usemtl sack")
    lines.insert(faces[0], "usemtl wood")
    return "\n".join(["mtllib old.mtl", *lines]).encode()


def start(browser: Browser) -> None:
    browser.upload(parts__obj=painted_obj(), old__mtl=MTL, wheel__png=png("wheel"), sack__png=png("sack"))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "pack")


def delivered(browser: Browser, **order: object) -> zipfile.ZipFile:
    made = job(browser, "deliver", **order)
    assert made["state"] == "done", made["error"]
    return zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{made['id']}/output").getvalue()))


def sampled(picture: bytes, u: float, v: float) -> np.ndarray:
    image = np.asarray(Image.open(io.BytesIO(picture)).convert("RGB"), float)
    return image[int((1 - v) * image.shape[0]), int(u * image.shape[1])]


def test_old_paint_is_carried_over_and_the_materials_show_it(browser: Browser) -> None:
    """The colour at the middle of each square is that of its old texture; the OBJ names the new picture through a new library."""
    start(browser)
    archive = delivered(browser, paint=True)
    report = json.loads(archive.read("report.json"))
    assert [(c["kind"], c["tile"], c["px"]) for c in report["carried"]] == [("base colour", 1001, 512)]
    assert report["carried"][0]["psnr"] > 25 and report["carried"][0]["bare"] == 0
    scene = formats.read(archive.read("parts.obj"), "parts.obj", 1.0, {n: archive.read(n) for n in archive.namelist()})
    assert scene.references[0] == "parts.mtl"
    new = pictures(scene, {n: archive.read(n) for n in archive.namelist()})
    sheet_png = archive.read("textures/Sheet_1.base_colour.1001.png")
    assert [m["base colour"] for m in new] == [sheet_png, sheet_png]
    library = archive.read("parts.mtl").decode()
    assert "map_Ns gloss.png" in library and "wheel.png" not in library and "Kd 0.5 0.5 0.5" in library
    piece = analyse(scene, 0)[0]
    assert piece
    old = [png("wheel"), png("sack")]
    for k, (u0, v0, u1, v1) in enumerate(BOXES):
        a, b, c, d = piece.islands.box[k]
        turned = abs((c - a) - (u1 - u0)) > 1  # squares: the middle is the middle in any turn
        assert not turned
        window = [np.mean([sampled(p, x, y) for x in np.linspace(m0, m1, 9) for y in np.linspace(n0, n1, 9)], axis=0)
                  for p, (m0, n0, m1, n1) in ((sheet_png, (a + 0.02, b + 0.02, c - 0.02, d - 0.02)), (old[k], (u0 + 0.02, v0 + 0.02, u1 - 0.02, v1 - 0.02)))]  # fmt: skip
        assert np.abs(window[0] - window[1]).max() < 12
    assert "difference" in {f["kind"] for f in json.loads(archive.read("manifest.json"))["files"]}


def test_one_material_for_the_sheet_takes_plain_colours_in(browser: Browser) -> None:
    """The square without a picture is its material's colour on the map: Kd 0.2 0.4 0.6, stored in sRGB as the field's readers take it, is 51, 102, 153 of 255."""
    library = b"newmtl wood\nmap_Kd wheel.png\n\nnewmtl sack\nKd 0.2 0.4 0.6\n"
    browser.upload(parts__obj=painted_obj(), old__mtl=library, wheel__png=png("wheel"))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "pack")
    archive = delivered(browser, paint=True, per_sheet=True)
    files = {n: archive.read(n) for n in archive.namelist()}
    scene = formats.read(files["parts.obj"], "parts.obj", 1.0, files)
    assert [m.name for m in scene.materials] == ["Sheet_1"] and "wheel.png" not in files
    piece = analyse(scene, 0)[0]
    assert piece
    a, b, c, d = piece.islands.box[1]
    assert sampled(files["textures/Sheet_1.base_colour.1001.png"], (a + c) / 2, (b + d) / 2).tolist() == [51, 102, 153]


def test_a_material_on_two_tiles_becomes_two(browser: Browser) -> None:
    browser.upload(
        parts__obj=painted_obj().replace(b"usemtl sack", b"usemtl wood"), old__mtl=MTL, wheel__png=png("wheel"), sack__png=png("sack")
    )
    settings = {**browser.state()["settings"], **QUICK, "sheets": [sheet(1, columns=2, fill="each")]}
    job(browser, "settings", settings=settings)
    job(browser, "pack")
    archive = delivered(browser, paint=True)
    files = {n: archive.read(n) for n in archive.namelist()}
    scene = formats.read(files["parts.obj"], "parts.obj", 1.0, files)
    assert sorted(m.name for m in scene.materials) == ["wood", "wood.1002"]
    assert {m.images["map_Kd"] for m in scene.materials} == {f"textures/Sheet_1.base_colour.{t}.png" for t in (1001, 1002)}


def test_a_glb_takes_the_new_picture_in(browser: Browser) -> None:
    """Read again by pygltflib: the base colour is the new picture, inside the file, in the channel that was written; nothing else is lost."""
    parts = [box(Part(n), (0, 0, 0), (1, 1, 1)).uv(0.1) for n in ("a", "b")]
    data = two_channels(parts, 1.0, png("crane"))
    browser.upload(iron__glb=data)
    job(browser, "channel", channel=1)
    browser.change(settings={**browser.state()["settings"], **QUICK, "channel_out": 1})
    job(browser, "pack")
    archive = delivered(browser, paint=True)
    new = pygltflib.GLTF2.load_from_bytes(archive.read("iron.glb"))
    info = new.materials[0].pbrMetallicRoughness.baseColorTexture
    assert info.texCoord == 1 and new.materials[0].name == "iron"
    view = new.bufferViews[new.images[new.textures[info.index].source].bufferView]
    body = new.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength]
    assert body == archive.read("textures/Sheet_1.base_colour.1001.png")
    scene = formats.read(archive.read("iron.glb"), "iron.glb")
    old = formats.read(data, "iron.glb")
    assert all((a.channels[0].uvs == b.channels[0].uvs).all() for a, b in zip(scene.meshes, old.meshes, strict=True))
    image = np.asarray(Image.open(io.BytesIO(body)))
    assert image.shape[:2] == (512, 512) and image.std() > 1


def test_templates_and_tile_images(browser: Browser, tmp_path: Path) -> None:
    start(browser)
    asked = {"fill": "object", "format": "png", "depth": 16, "alpha": True}
    archive = delivered(
        browser, templates="both", template_fill="material", template_zone=True, template_labels=True, template_wire=True, template_paper=True,
        template_px=256, images=asked, pattern="{sheet}_{kind}.{tile}",
    )  # fmt: skip
    svg = xml.dom.minidom.parseString(archive.read("template.1001.svg"))
    assert svg.documentElement.getAttribute("viewBox") == "0 0 256 256"
    assert {g.getAttribute("data-name") for g in svg.getElementsByTagName("g")} == {"wood", "sack"}
    assert {t.firstChild.data for t in svg.getElementsByTagName("text")} == {"wood", "sack"}
    assert Image.open(io.BytesIO(archive.read("template.1001.png"))).size == (256, 256)
    image = cv2.imdecode(np.frombuffer(archive.read("Sheet_1_object.1001.png"), np.uint8), cv2.IMREAD_UNCHANGED)
    assert image.dtype == np.uint16 and image.shape == (512, 512, 4)
    piece = analyse(formats.read(archive.read("parts.obj"), "parts.obj"), 0)[0]
    assert piece
    # Texels with their middle in an island are as many as its area says, but for the rim.
    assert (image[:, :, 3] > 0).sum() == pytest.approx(piece.islands.area.sum() * 512**2, rel=0.02)
    exr = delivered(browser, templates="none", images={"fill": "checker", "format": "exr"})
    assert not [n for n in exr.namelist() if "template" in n]
    path = tmp_path / "a.exr"
    path.write_bytes(exr.read("Sheet_1.1001.exr"))
    value = OpenEXR.File(str(path)).channels()["RGB"].pixels
    # An EXR holds linear light (OpenEXR's own description; IEC 61966-2-1 for the values): the greys .5 and .3 of a screen are .214 and .073 there.
    assert value.dtype == np.float16 and value.shape == (512, 512, 3) and np.unique(value) == pytest.approx([0.0732, 0.2140], abs=2e-4)
    path.write_bytes(
        delivered(browser, templates="none", images={"fill": "checker", "format": "exr", "depth": 32}).read("Sheet_1.1001.exr")
    )
    assert OpenEXR.File(str(path)).channels()["RGB"].pixels.dtype == np.float32
    tiff = delivered(browser, images={"fill": "blank", "format": "tiff", "colour": [1, 0.5, 0]})
    blank = np.asarray(Image.open(io.BytesIO(tiff.read("Sheet_1.1001.tiff"))))
    assert (blank == [255, 128, 0]).all()


def test_images_for_tiles_that_are_free_yet(browser: Browser) -> None:
    start(browser)
    archive = delivered(browser, templates="none", images={"fill": "checker", "tiles": "1001-1003, 1011"})
    assert sorted(n for n in archive.namelist() if n.startswith("Sheet_1.1")) == [f"Sheet_1.{t}.png" for t in (1001, 1002, 1003, 1011)]
    for tiles in ("1000", "1003-1001", "a", "1001-9999", 7):
        job(browser, "deliver", 422, images={"fill": "blank", "tiles": tiles})


def test_orders_that_cannot_be_are_refused_in_words(browser: Browser) -> None:
    start(browser)
    for wrong, words in (
        ({"templates": "pdf"}, "Templates"), ({"pattern": "no tile"}, "{tile}"), ({"pattern": "../{tile}"}, "{tile}"), ({"pattern": "{x}"}, "hold"),
        ({"images": {"fill": "photo"}}, "tile image"), ({"images": {"depth": 12}}, "tile image"), ({"template_px": 3}, "16"), ({"colour": 1}, "colour"),
        ({"sheet": 9}, "not there"),
    ):  # fmt: skip
        assert words in job(browser, "deliver", 422, **wrong)["detail"], wrong


def test_twins_move_aside_for_the_bake_and_stay_for_the_delivery(browser: Browser) -> None:
    browser.upload(twins__obj=squares([(0.1, 0.1, 0.3, 0.3), (0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.8, 0.7)]))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "twins", islands=None, on=True)
    job(browser, "pack")
    boxes = {}
    for aside in (False, True):
        archive = delivered(browser, twins_aside=aside)
        report = json.loads(archive.read("report.json"))
        assert report["ok"] and report["twins_aside"] == aside
        piece = analyse(formats.read(archive.read("twins.obj"), "twins.obj"), 0)[0]
        assert piece
        boxes[aside] = piece.islands.box
    assert boxes[False][0] == pytest.approx(boxes[False][1])
    assert boxes[True][1] == pytest.approx(boxes[False][1] + [1, 0, 1, 0]) and boxes[True][0] == pytest.approx(boxes[False][0])


def test_one_sheet_is_delivered_alone_with_its_report_and_manifest(browser: Browser) -> None:
    browser.upload(a__obj=squares(BOXES), b__obj=squares(BOXES[:1]))
    keys = [o["key"] for o in browser.state()["objects"]]
    browser.change(settings={**browser.state()["settings"], **QUICK})
    settle_settings(browser, sheets=[sheet(1), sheet(2)], sheet_of={keys[1]: 2})
    job(browser, "pack", sheets="stale")
    archive = delivered(browser, sheet=2)
    names = set(archive.namelist())
    assert "b.obj" in names and "a.obj" not in names and {"report.html", "report.json", "manifest.json", "template.1001.png"} <= names
    for f in json.loads(archive.read("manifest.json"))["files"]:
        body = archive.read(f["path"])
        assert len(body) == f["bytes"] and hashlib.sha256(body).hexdigest() == f["sha256"]
    page = archive.read("report.html").decode()
    assert "Fit for baking" in page and "at 512 px" in page and "data:image/png;base64" in page and not re.search(r'(src|href)="http', page)


def test_the_bleed_proof_is_kept_with_the_layout(browser: Browser) -> None:
    browser.upload(two__obj=squares([(0.25, 0.25, 0.5, 0.5), (0.5 + 8 / 512, 0.25, 0.75, 0.5)]))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    assert browser.state()["sheets"][0]["bleed"] is None
    assert job(browser, "bleed")["state"] == "done"
    found = browser.state()["sheets"][0]["bleed"]
    assert found["clean"] == 2 and found["thumb"] == 2 and found["tiles"][0]["levels"] == 10
    file = browser.state()["files"][0]["id"]
    assert found["islands"][0]["level"] == 3 and {tuple(b["island"]) for b in found["islands"]} == {(file, 0), (file, 1)}
    browser.change(settings={**browser.state()["settings"], "map_px": 1024})
    assert browser.state()["sheets"][0]["bleed"] is None, "at another map size it has to be proven again"
    report = json.loads(delivered(browser).read("report.json"))
    assert report["sheets"]["Sheet 1"]["bleed"]["clean"] == 3 and "mip level 3" in report["verdict"]


@pytest.mark.parametrize("shared", [False, True])
def test_what_was_left_out_after_a_packing_is_told(browser: Browser, shared: bool) -> None:
    """An object that was left out left with other UVs, since another one uses its mesh, and nothing said so."""
    scene = trimesh.Scene()
    flat = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float)
    visual = trimesh.visual.TextureVisuals(flat[:, :2] * 0.1 + 0.2)
    mesh = trimesh.Trimesh(flat, [(0, 1, 2), (0, 2, 3)], process=False, visual=visual)
    scene.add_geometry(mesh, node_name="pier 0", geom_name="pier 0")
    if shared:
        scene.graph.update(frame_to="pier 1", geometry="pier 0")
    else:
        scene.add_geometry(mesh.copy(), node_name="pier 1", geom_name="pier 1")
    browser.upload(piers__glb=scene.export(file_type="glb"))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    assert job(browser, "pack")["state"] == "done"
    assert job(browser, "objects", left_out=[browser.state()["objects"][1]["key"]])["state"] == "done"
    archive = delivered(browser)
    before, after = (formats.read(d, "piers.glb") for d in (scene.export(file_type="glb"), archive.read("piers.glb")))
    mine = after.objects[1].mesh
    same = np.allclose(before.meshes[mine].channels[0].uvs, after.meshes[mine].channels[0].uvs, atol=1e-6)
    report = json.loads(archive.read("report.json"))
    assert same is not shared and len(report["left_as_it_was"]) == (0 if shared else 1)
    assert ("UVs changed with it" if shared else "1 object is left out and left with the UVs that came") in report["notes"][0]


def test_pictures_that_came_without_their_folder_are_found_by_name(browser: Browser) -> None:
    """18 lines said that they did not come along. What two places name, or a path of somebody's machine, is no match."""
    library = b"newmtl wood\nmap_Kd textures/wheel.png\nnewmtl sack\nmap_Kd textures/Sack.PNG\nmap_Ns a/gloss.png\nmap_Ke b/gloss.png\nmap_d C:/work/clear.png\nmap_Pr ../rough.png\n"
    names = {
        "wheel.png": png("wheel"),
        "sack.png": png("sack"),
        "gloss.png": png("crane"),
        "clear.png": png("crane"),
        "rough.png": png("crane"),
    }
    browser.upload(parts__obj=painted_obj(), old__mtl=library, **{n.replace(".", "__"): d for n, d in names.items()})
    told = browser.state()["files"][0]["warnings"]
    assert [w for w in told if "found by name" in w] == [
        "2 files were found by name, not in the folder that it names: 'textures/Sack.PNG', 'textures/wheel.png'"
    ]
    assert len([w for w in told if "did not come along" in w]) == 1 and "4 files that it names did not come along" in str(told)
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "pack")
    with delivered(browser) as z:
        assert {"parts.obj", "old.mtl", "textures/wheel.png"} <= set(z.namelist()), "where the file looks for them"


def test_the_name_of_a_channel_is_in_the_names_of_files(browser: Browser) -> None:
    """A channel was called "lights", and no file said so."""
    parts = [box(Part("a"), (0, 0, 0), (1, 1, 1)).uv(0.1)]
    browser.upload(iron__glb=two_channels(parts, 1.0, png("crane")))
    job(browser, "channel", channel=1)
    browser.change(settings={**browser.state()["settings"], **QUICK, "channel_out": 1})
    job(browser, "pack")
    images = {"fill": "object", "colour": [0, 0, 0], "format": "png", "depth": 8, "alpha": False, "tiles": ""}
    names = set(delivered(browser, templates="png", images=images, pattern="{channel}.{tile}").namelist())
    assert {"template.1001.png", "uv1.1001.png"} <= names
    browser.change(settings={**browser.state()["settings"], "channel_names": {"1": "lights, low"}})
    names = set(delivered(browser, templates="png", images=images, pattern="{channel}.{tile}").namelist())
    assert {"template.lights_low.1001.png", "lights_low.1001.png"} <= names, names
