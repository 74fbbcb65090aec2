"""What `quilt deliver` and `quilt bake` hand over."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_cli.main import main
from quilt_core import formats
from quilt_core.formats.pictures import pictures
from tests.core.test_faults import squares as boxes_obj
from tests.shapes import grid_obj

from .test_cli import run


def test_deliver_hands_over_templates_images_and_a_proof(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source, out = tmp_path / "in", tmp_path / "out"
    source.mkdir()
    (source / "two.obj").write_bytes(boxes_obj([(0.1, 0.1, 0.4, 0.4), (0.6, 0.1, 0.9, 0.4)]))
    order = [
        "deliver",
        str(source / "two.obj"),
        "--out",
        str(out),
        "--map",
        "256",
        "--templates",
        "both",
        "--images",
        "island",
        "--name",
        "quay",
        "--json",
    ]
    assert main(order) == 0
    report = json.loads(capsys.readouterr().out)
    assert report["ok"] and report["verdict"].startswith("Fit for baking") and report["islands"] == 2
    names = {p.name for p in out.iterdir()}
    assert names == {
        "two.obj",
        "quay.template.1001.png",
        "quay.template.1001.svg",
        "quay.1001.png",
        "report.json",
        "report.html",
        "manifest.json",
    }
    image = np.asarray(Image.open(out / "quay.1001.png"))
    assert image.shape == (256, 256, 3) and len(np.unique(image.reshape(-1, 3), axis=0)) == 3, "two islands and the ground"
    assert main(order) == 2 and "there already" in capsys.readouterr().err, "nothing is overwritten unasked"
    (source / "bad.obj").write_bytes(boxes_obj([(0.1, 0.1, 0.4, 0.4), (0.3, 0.1, 0.7, 0.4)]))
    assert main(["deliver", str(source / "bad.obj"), "--out", str(tmp_path / "no"), "--map", "256"]) == 1


def packed_in_a_free_channel(sources: list[Path], out: Path) -> None:
    """The layout of channel 1 packed there, with the UVs of the textures left in channel 0."""
    words = ["pack", *map(str, sources), "--out", str(out), "--map", "1024", "--seconds", "0", "--channel-in", "1", "--channel-out", "1"]
    assert main(words) == 0


def test_deliver_carries_old_paint_into_one_file(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Two files packed into a free channel leave as one GLB with one material, whose map was carried over; the folder has all and a manifest."""
    parts = [box(Part(n), (0, 0, 0), (1, 1, 1)).uv(0.1) for n in ("a", "b")]
    sources = []
    for name in ("crane", "wheel"):
        path = tmp_path / f"{name}.glb"
        path.write_bytes(two_channels(parts, 1.0, png(name)))
        sources.append(path)
    packed_in_a_free_channel(sources, tmp_path / "packed")
    capsys.readouterr()
    packed = [tmp_path / "packed" / p.name for p in sources]
    common = ["deliver", *packed, "--map", 1024, "--padding", 4, "--templates", "none", "--json"]
    code, report = run(
        capsys,
        *common,
        "--channel-in",
        1,
        "--out",
        tmp_path / "out",
        "--paint",
        "--one-material",
        "--to",
        "glb",
        "--joined",
        "--name",
        "quay",
    )
    assert (
        code == 0 and [(c["kind"], c["tile"]) for c in report["carried"]] == [("base colour", 1001)] and report["carried"][0]["psnr"] > 20
    )
    scene = formats.read((tmp_path / "out/quay.glb").read_bytes(), "quay.glb")
    assert [m.name for m in scene.materials] == ["quay"] and {o.path.split("/")[0] for o in scene.objects} == {"crane", "wheel"}
    assert pictures(scene, {})[0]["base colour"] == (tmp_path / "out/textures/quay.base_colour.1001.png").read_bytes()
    kinds = {f["path"]: f["kind"] for f in json.loads((tmp_path / "out/manifest.json").read_text())["files"]}
    assert kinds["quay.glb"] == "mesh" and kinds["textures/quay.base_colour.1001.png"] == "texture" and "report.html" in kinds
    # The layout in the channel that the textures read: only the files as they were can say how.
    assert main(["pack", *map(str, sources), "--out", str(tmp_path / "over"), "--map", "1024", "--seconds", "0", "--channel-in", "1"]) == 0
    over = [tmp_path / "over" / p.name for p in sources]
    args = ["deliver", *map(str, over), "--map", "1024", "--padding", "4", "--templates", "none", "--paint"]
    assert main([*args, "--out", str(tmp_path / "none")]) == 2 and "--before" in capsys.readouterr().err
    assert main([*args, "--out", str(tmp_path / "both"), "--before", str(tmp_path)]) == 0
    new = formats.read((tmp_path / "both/crane.glb").read_bytes(), "crane.glb")
    assert pictures(new, {})[0]["base colour"] == (tmp_path / "both/textures/sheet.base_colour.1001.png").read_bytes()
    assert main([*args, "--out", str(tmp_path / "x"), "--joined"]) == 2


def test_deliver_arranges_channels_and_draws_as_asked(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """The layout of channel 1 becomes channel 0; the texture follows its own UVs to channel 1. The template is 128 px, with the objects' names."""
    source = tmp_path / "crane.glb"
    source.write_bytes(two_channels([box(Part(n), (0, 0, 0), (1, 1, 1)).uv(0.1) for n in ("a", "b")], 1.0, png("crane")))
    packed_in_a_free_channel([source], tmp_path / "p")
    common = ["deliver", str(tmp_path / "p/crane.glb"), "--map", "1024", "--padding", "4", "--channel-in", "1", "--channels", "layout,0"]
    assert (
        main(
            [*common, "--out", str(tmp_path / "o"), "--templates", "both", "--fill", "island", "--zone", "--labels", "--template-px", "128"]
        )
        == 0
    )
    old, new = (formats.read((tmp_path / f / "crane.glb").read_bytes(), "crane.glb") for f in ("p", "o"))
    assert np.array_equal(new.meshes[0].channels[0].uvs, old.meshes[0].channels[1].uvs)
    assert np.array_equal(new.meshes[0].channels[1].uvs, old.meshes[0].channels[0].uvs)
    assert new.materials[0].channels == {"baseColorTexture": 1}
    assert Image.open(tmp_path / "o/sheet.template.1001.png").size == (128, 128)
    svg = (tmp_path / "o/sheet.template.1001.svg").read_text()
    assert 'viewBox="0 0 128 128"' in svg and svg.count("<text") >= 2
    assert main([*common, "--out", str(tmp_path / "u"), "--to", "usda", "--templates", "none"]) == 0
    usd = formats.read((tmp_path / "u/crane.usda").read_bytes(), "crane.usda", 1.0, {})
    assert usd.meshes[0].key.names == ["st", "st1"] and usd.materials[0].channels == {"diffuseColor": 1}
    with pytest.raises(SystemExit):
        main([*common[:-1], "0,1", "--out", str(tmp_path / "x")])


def test_a_test_bake_of_a_packed_file(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A flat square whose detail is a ramp of 45 degrees over it: the normal map holds the ramp's normal (arithmetic: half, half, root of a half), and
    nothing is written twice."""
    v, t = "vt 0.1 0.1\nvt 0.9 0.1\nvt 0.9 0.9\nvt 0.1 0.9\n", "1/1 2/2 3/3 4/4"
    low = f"o sign_low\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\n{v}f {t}\n"
    high = "o sign_high\nv -0.1 0 -0.6\nv 1.1 0 0.6\nv 1.1 1 0.6\nv -0.1 1 -0.6\nf 5 6 7 8\n"
    (tmp_path / "sign.obj").write_text(low + high)
    code, found = run(
        capsys, "bake", tmp_path / "sign.obj", "--out", tmp_path / "out", "--map", 128, "--maps", "normal tangent", "--cage", 1, "--json"
    )
    assert code == 0 and found["tiles"][0]["twice"] == 0 and found["detailed"] == ["sign_low"]
    picture = np.asarray(Image.open(tmp_path / "out" / found["files"][0]).convert("RGB"), float) / 127.5 - 1
    # The ramp rises towards x, so its normal leans back along u; up along v there is nothing.
    assert picture[64, 64] == pytest.approx([-(0.5**0.5), 0, 0.5**0.5], abs=0.02)


def test_an_image_for_every_tile_of_a_range(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    (tmp_path / "one.obj").write_bytes(grid_obj(1))
    more = ("--tiles", "10x2", "--images", "checker", "--image-tiles", "1001-1020", "--map", 64, "--templates", "none", "--json")
    run(capsys, "deliver", tmp_path / "one.obj", "--out", tmp_path / "out", *more)
    assert sorted(p.name for p in (tmp_path / "out").glob("sheet.1*.png")) == [f"sheet.{t}.png" for t in range(1001, 1021)]


def test_old_pictures_that_nothing_shows_are_not_handed_over(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    body = grid_obj(1).replace(b"o ", b"mtllib a.mtl\no ", 1).replace(b"\nf ", b"\nusemtl wood\nf ")
    (tmp_path / "a.obj").write_bytes(body)
    (tmp_path / "a.mtl").write_text("newmtl wood\nKd 1 1 1\nmap_Kd wood.png\nmap_Ks gone.png\n")
    (tmp_path / "wood.png").write_bytes(png("wheel"))
    assert run(capsys, "pack", tmp_path / "a.obj", "--map", 128, "--seconds", 1, "--out", tmp_path / "packed", "--json")[0] == 0
    more = ("--before", tmp_path, "--paint", "--map", 128, "--templates", "none", "--json")
    code, found = run(capsys, "deliver", tmp_path / "packed/a.obj", "--out", tmp_path / "out", *more)
    assert code == 0 and any("gone.png" in n for n in found["notes"]) and {f["kind"] for f in found["seen"]} >= {"base colour", "roughness"}
    names = {p.relative_to(tmp_path / "out").as_posix() for p in (tmp_path / "out").rglob("*") if p.is_file()}
    assert "textures/sheet.base_colour.1001.png" in names and "wood.png" not in names and {"a.obj", "a.mtl"} <= names


def test_files_of_one_name_keep_their_folders(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A red and a green crate of one name, each with its own picture of one name: packed, painted and delivered, each shows its own colour."""
    for side, colour in (("left", (200, 0, 0)), ("right", (0, 200, 0))):
        (tmp_path / "in" / side).mkdir(parents=True)
        body = grid_obj(1).replace(b"o ", b"mtllib a.mtl\no ", 1).replace(b"\nf ", b"\nusemtl wood\nf ")
        (tmp_path / "in" / side / "crate.obj").write_bytes(body)
        (tmp_path / "in" / side / "a.mtl").write_text("newmtl wood\nKd 1 1 1\nmap_Kd wood.png\n")
        Image.new("RGB", (32, 32), colour).save(tmp_path / "in" / side / "wood.png")
    crates = [tmp_path / "in" / s / "crate.obj" for s in ("left", "right")]
    assert run(capsys, "pack", *crates, "--map", 128, "--padding", 4, "--seconds", 1, "--out", tmp_path / "packed", "--json")[0] == 0
    packed = [tmp_path / "packed" / s / "crate.obj" for s in ("left", "right")]
    more = ("--before", tmp_path / "in", "--paint", "--map", 128, "--templates", "none", "--json")
    assert run(capsys, "deliver", *packed, "--out", tmp_path / "out", *more)[0] == 0
    for side, colour in (("left", (200, 0, 0)), ("right", (0, 200, 0))):
        folder = tmp_path / "out" / side
        scene = formats.read((folder / "crate.obj").read_bytes(), "crate.obj", 1.0, {"crate.mtl": (folder / "crate.mtl").read_bytes()})
        shown = folder / scene.materials[0].maps["base colour"].path
        uv = scene.meshes[0].channels[0].uvs.mean(axis=0)
        picture = Image.open(shown.resolve()).convert("RGB")
        assert picture.getpixel((int(uv[0] * 128), int((1 - uv[1]) * 128))) == colour
    code, _ = run(capsys, "deliver", *packed, "--out", tmp_path / "glb", *more, "--to", "glb")
    assert code == 0 and all((tmp_path / "glb" / s / "crate.glb").exists() for s in ("left", "right"))
    assert main(["pack", str(crates[0]), str(crates[0]), "--out", str(tmp_path / "no")]) == 2
