"""The command line's contract: keys, exit codes, files."""

from __future__ import annotations

import argparse
import json
import resource
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PIL import Image

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_cli.main import main, parser
from quilt_core import formats
from quilt_core.formats.pictures import pictures
from tests.core.test_faults import squares as boxes_obj
from tests.shapes import PLANE, gltf_plane, grid_obj, kit


@pytest.fixture
def squares(tmp_path: Path) -> Path:
    path = tmp_path / "squares.obj"
    path.write_bytes(grid_obj(7))
    return path


def run(capsys: pytest.CaptureFixture[str], *args: object) -> tuple[int, dict]:
    code = main([str(a) for a in args])
    out = capsys.readouterr().out
    return code, json.loads(out) if out.startswith("{") else {}


def test_pack_then_verify(capsys: pytest.CaptureFixture[str], squares: Path, tmp_path: Path) -> None:
    (tmp_path / "plane.gltf").write_bytes(gltf_plane([{"mesh": 0, "scale": [3, 3, 3]}]))
    out = tmp_path / "out"
    code, report = run(
        capsys, "pack", squares, tmp_path / "plane.gltf", "--out", out, "--map", 1024, "--padding", 6, "--seconds", 1, "--json"
    )
    assert code == 0 and report["islands"] == 8 and report["overlap_pairs"] == 0 and report["objects"] == 2
    assert report["smallest_gap_px"] >= 6 - 1e-3 and report["smallest_margin_px"] >= 3 - 1e-3
    assert report == json.loads((out / "report.json").read_text())
    # Arithmetic: 7 squares of 1 m2 and one of 9 m2 at one density cover 16 m2 D^2 / map^2.
    assert report["coverage"] == pytest.approx(16 * (report["density_px_per_m"] / 1024) ** 2, rel=1e-4)
    code, proof = run(capsys, "verify", out / "squares.obj", out / "plane.gltf", "--map", 1024, "--padding", 6, "--json")
    assert code == 0 and proof["ok"] and proof["density_px_per_m"]["min"] == pytest.approx(proof["density_px_per_m"]["max"], rel=1e-4)


def test_verify_fails_with_one(capsys: pytest.CaptureFixture[str], squares: Path) -> None:
    code, proof = run(capsys, "verify", squares, "--json")
    assert code == 1 and not proof["ok"] and proof["overlap"]["pairs"] == 21


def test_inspect_has_the_promised_keys(capsys: pytest.CaptureFixture[str], squares: Path) -> None:
    code, report = run(capsys, "inspect", squares, "--json")
    assert code == 0 and report["map_px"] == 2048
    assert set(report["objects"][0]) >= {"file", "name", "triangles", "channels", "islands", "world_area_m2", "uv_area", "density_px_per_m"}
    assert set(report["faults"]) >= {"no_uv", "overlap", "flipped", "outside", "zero_area", "stretch", "gap"}


def test_a_file_that_cannot_be_read_is_one_line_and_two(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    bad = tmp_path / "bad.obj"
    bad.write_bytes(PLANE.replace(b"4/4", b"9/4"))
    assert main(["inspect", str(bad)]) == 2
    error = capsys.readouterr().err.strip()
    assert "bad.obj" in error and "line 11" in error and "\n" not in error
    assert main(["inspect", str(tmp_path / "none.obj")]) == 2


def test_what_does_not_fit_is_three_and_named(capsys: pytest.CaptureFixture[str], squares: Path, tmp_path: Path) -> None:
    assert main(["pack", str(squares), "--out", str(tmp_path / "o"), "--density", "5000", "--seconds", "1"]) == 3
    assert "squares island" in capsys.readouterr().err


def test_a_held_density_is_what_comes_out(capsys: pytest.CaptureFixture[str], squares: Path, tmp_path: Path) -> None:
    code, report = run(capsys, "pack", squares, "--out", tmp_path / "o", "--density", 300, "--seconds", 2, "--json")
    assert code == 0 and report["density_px_per_m"] == pytest.approx(300, rel=1e-5)


def test_inputs_are_never_overwritten(capsys: pytest.CaptureFixture[str], squares: Path) -> None:
    assert main(["pack", str(squares), "--out", str(squares.parent), "--seconds", "0"]) == 2
    assert squares.read_bytes() == grid_obj(7)


def test_companions_are_copied_but_never_over_another_file(capsys: pytest.CaptureFixture[str], squares: Path, tmp_path: Path) -> None:
    squares.write_bytes(b"mtllib old.mtl\nmtllib new.mtl\n" + grid_obj(2))
    (tmp_path / "old.mtl").write_bytes(b"newmtl a\n")
    (tmp_path / "new.mtl").write_bytes(b"newmtl b\n")
    out = tmp_path / "o"
    out.mkdir()
    (out / "old.mtl").write_bytes(b"# mine\n")
    assert main(["pack", str(squares), "--out", str(out), "--seconds", "0"]) == 0
    assert (out / "old.mtl").read_bytes() == b"# mine\n" and (out / "new.mtl").read_bytes() == b"newmtl b\n"


def test_keeping_ratios(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    (tmp_path / "a.obj").write_bytes(grid_obj(2, uv=0.01))
    (tmp_path / "b.obj").write_bytes(grid_obj(2, uv=0.03))
    files = (tmp_path / "a.obj", tmp_path / "b.obj")
    _, report = run(capsys, "pack", *files, "--out", tmp_path / "o", "--keep-ratios", "--seconds", 1, "--json")
    spread = report["density_spread_px_per_m"]
    assert spread["max"] / spread["min"] == pytest.approx(3, rel=1e-4)


def test_a_free_channel_keeps_the_tiling_one(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    (tmp_path / "a.gltf").write_bytes(gltf_plane([{"mesh": 0}]))
    out = tmp_path / "o"
    run(capsys, "pack", tmp_path / "a.gltf", "--out", out, "--channel-out", 1, "--padding", 64, "--seconds", 0)
    _, old = run(capsys, "inspect", out / "a.gltf", "--json")
    _, new = run(capsys, "inspect", out / "a.gltf", "--channel-in", 1, "--json")
    assert old["objects"][0]["uv_area"] == pytest.approx(1) and new["objects"][0]["uv_area"] < 0.95


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


def test_unwrap_makes_what_is_bad_anew_and_leaves_the_rest(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A box without UVs beside a plane with good ones: one gets UVs, both lie apart at one density; what was written is proven by `verify`."""
    lines = ["o bare"] + [f"v {x} {y} {z}" for x in (2, 3) for y in (0, 1) for z in (0, 1)]
    lines += [
        "f " + " ".join(f"{k + 5}" for k in q) for q in ((0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3))
    ]
    source = tmp_path / "two.obj"
    source.write_bytes(PLANE + "\n".join(lines).encode() + b"\n")
    code, found = run(capsys, "unwrap", source, "--out", tmp_path / "out", "--map", 1024, "--stretch", 1.05, "--json")
    rows = {o["name"]: o for o in found["objects"]}
    assert code == 0 and set(rows) == {"plane", "bare"} and rows["plane"]["done"] == [] and rows["bare"]["done"] == ["unwrap"]
    assert rows["bare"]["was"]["without_uvs"] == 12 and rows["bare"]["now"]["stretch"]["share_under_1_1"] == pytest.approx(1)
    assert rows["bare"]["now"]["overlapping"] == 0 and rows["bare"]["now"]["folded"] == 0
    code, proof = run(capsys, "verify", tmp_path / "out/two.obj", "--map", 1024, "--padding", 4, "--json")
    assert code == 0 and proof["ok"]
    code, sizes = run(capsys, "inspect", tmp_path / "out/two.obj", "--map", 1024, "--json")
    densities = [o["density_px_per_m"]["median"] for o in sizes["objects"]]
    assert densities[0] == pytest.approx(densities[1], rel=1e-3), "one density"
    kept = [line for line in (tmp_path / "out/two.obj").read_text().splitlines() if line.startswith(("v ", "o "))]
    assert kept == [line for line in source.read_text().splitlines() if line.startswith(("v ", "o "))]


def test_unwrap_takes_patterns_and_refuses_what_cannot_work(capsys: pytest.CaptureFixture[str], squares: Path, tmp_path: Path) -> None:
    code, found = run(capsys, "unwrap", squares, "--out", tmp_path / "out", "--only", "all", "--objects", "nothing*", "--json")
    assert code == 0 and all(not o["done"] for o in found["objects"])
    assert main(["unwrap", str(squares), "--out", str(tmp_path / "x"), "--stretch", "0.5"]) == 2 and "stretch" in capsys.readouterr().err
    assert main(["unwrap", str(squares), "--out", str(squares.parent)]) == 2


def test_ready_does_the_whole_way_and_says_what_it_did(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    source = tmp_path / "kit.obj"
    source.write_bytes(kit())
    code, found = run(capsys, "ready", source, "--out", tmp_path / "out", "--map", 512, "--seconds", 0.5, "--json")
    assert code == 0 and found["ok"] and found["overlap_pairs"] == 0 and found["flipped"] == 0
    assert {o["name"]: o["done"] for o in found["objects"]} == {"good": [], "mirrored": ["flip"], "folded": ["relax"], "bare": ["unwrap"]}
    code, proof = run(capsys, "verify", tmp_path / "out/kit.obj", "--map", 512, "--padding", 2, "--json")
    assert code == 0 and proof["ok"]
    sizes = run(capsys, "inspect", tmp_path / "out/kit.obj", "--map", 512, "--json")[1]["objects"]
    medians = [o["density_px_per_m"]["median"] for o in sizes]
    assert max(medians) == pytest.approx(min(medians), rel=1e-3)


def test_mend_repairs_in_order_and_refuses_what_it_does_not_know(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    source = tmp_path / "kit.obj"
    source.write_bytes(kit())
    code, found = run(capsys, "mend", source, "--out", tmp_path / "out", "--do", "flip,relax", "--objects", "[fm]*", "--json")
    rows = {o["name"]: o for o in found["objects"]}
    assert code == 1, "the box has no UVs still"
    assert rows["mirrored"]["done"] == ["flip", "relax"] and rows["folded"]["done"] == ["relax"] and rows["good"]["done"] == []
    assert rows["folded"]["now"]["folded"] == 0 and rows["folded"]["was"]["folded"] > 0
    assert run(capsys, "inspect", tmp_path / "out/kit.obj", "--json")[1]["faults"]["flipped"] == 0
    code, found = run(capsys, "mend", source, "--out", tmp_path / "two", "--do", "part,square,sew", "--objects", "folded", "--json")
    row = next(o for o in found["objects"] if o["name"] == "folded")
    assert row["now"]["overlapping"] == 0 and row["now"]["folded"] == 0 and {"part", "square"} & set(row["done"])
    with pytest.raises(SystemExit):
        main(["mend", str(source), "--out", str(tmp_path / "x"), "--do", "knit"])


def test_mend_copies_the_uvs_of_the_good_one_to_objects_of_its_shape(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A box with UVs in one file; in another one it is turned and has none, and a third object of another shape has none either."""
    sides = [(1, 3, 4, 2), (5, 6, 8, 7), (1, 2, 6, 5), (3, 7, 8, 4), (1, 5, 7, 3), (2, 4, 8, 6)]
    corners = [(x, y, z) for z in (0, 3) for y in (0, 2) for x in (0, 1)]
    good = "o good\n" + "".join(f"v {x} {y} {z}\n" for x, y, z in corners)
    for k, side in enumerate(sides):
        # Each side as large as it is, at a tenth.
        a, b, d = (np.array(corners[side[n] - 1], float) for n in (0, 1, 3))
        w, h = 0.1 * np.linalg.norm(b - a), 0.1 * np.linalg.norm(d - a)
        u, v = 0.32 * (k % 3), 0.32 * (k // 3)
        good += f"vt {u} {v}\nvt {u + w} {v}\nvt {u + w} {v + h}\nvt {u} {v + h}\n"
        good += "f " + " ".join(f"{side[c]}/{4 * k + c + 1}" for c in range(4)) + "\n"
    bare = "o turned\n" + "".join(f"v {5 - y} {x} {z + 1}\n" for x, y, z in corners) + "".join("f {} {} {} {}\n".format(*s) for s in sides)
    bare += "o other\nv 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 9 11 10\nf 9 10 12\nf 10 11 12\nf 11 9 12\n"
    (tmp_path / "good.obj").write_text(good)
    (tmp_path / "bare.obj").write_text(bare)
    code, found = run(capsys, "mend", tmp_path / "good.obj", tmp_path / "bare.obj", "--out", tmp_path / "out", "--do", "copy", "--json")
    rows = {o["name"]: o for o in found["objects"]}
    assert code == 1, "one object has no UVs still"
    assert rows["good"]["done"] == [] and rows["turned"]["done"] == ["copy"] and rows["other"]["done"] == []
    assert rows["turned"]["now"] == rows["good"]["now"] | {"without_uvs": 0}
    assert "of this shape" in rows["other"]["refused"][0]["why"]
    scene = formats.read((tmp_path / "out/bare.obj").read_bytes(), "bare.obj")
    assert len(scene.meshes[0].channels[0].uvs) == 24 and 0 not in scene.meshes[1].channels


def test_what_limits_a_packed_sheet_is_told_in_shares_of_the_tile(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """One square of a hundredth of the tile fills it once it is packed: what is told is of what was written, not of what came in."""
    (tmp_path / "one.obj").write_bytes(grid_obj(1))
    code, report = run(capsys, "pack", tmp_path / "one.obj", "--out", tmp_path / "out", "--map", 512, "--seconds", 1, "--json")
    assert code == 0 and len(report["limiting"]) == 1
    assert report["limiting"][0].endswith("spans 100 % of the tile")


def test_shredded_uvs_are_made_anew_whole(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Every triangle of a ball lies somewhere else, some of them as they should by chance: none of these shreds is kept."""
    ball = trimesh.creation.icosphere(3)
    rng = np.random.default_rng(2)
    lines = ["o ball", *("v {} {} {}".format(*p) for p in ball.vertices)]
    for k, face in enumerate(ball.faces + 1):
        lines += ["vt {} {}".format(*(rng.random(2))) for _ in range(3)]
        lines.append("f " + " ".join(f"{v}/{3 * k + c + 1}" for c, v in enumerate(face)))
    (tmp_path / "ball.obj").write_text("\n".join(lines))
    code, report = run(capsys, "ready", tmp_path / "ball.obj", "--out", tmp_path / "out", "--map", 512, "--seconds", 1, "--json")
    assert code == 0 and report["verdict"].startswith("Fit for baking")
    assert report["islands"] < 10 and report["objects"][0]["was"]["islands"] > 1000


@pytest.mark.parametrize("ends", [(1, 0), (1, 1)])
def test_an_island_that_no_map_could_hold_takes_no_memory_and_is_named(ends: tuple[int, int], tmp_path: Path) -> None:
    """A sliver a millionth as high as it is long: evened, it would be a thousand times as long as all others together are wide (41 GB, before). Run in a child
    with 4 GB of address space, most of which its libraries take."""
    base = grid_obj(20).decode()
    v, t = (sum(line.startswith(w) for line in base.splitlines()) for w in ("v ", "vt "))
    u, w = ends
    bad = (
        f"o bad\nv 0 0 5\nv 1 0 5\nv 0 1 5\nvt 0 0\nvt {u} {w}\nvt {u} {w + 1e-6:.17g}\nf {v + 1}/{t + 1} {v + 2}/{t + 2} {v + 3}/{t + 3}\n"
    )
    (tmp_path / "bad.obj").write_text(base + bad)
    command = [
        sys.executable,
        "-m",
        "quilt_cli.main",
        "pack",
        str(tmp_path / "bad.obj"),
        "--map",
        "512",
        "--seconds",
        "1",
        "--json",
        "--out",
        str(tmp_path / "out"),
    ]
    done = subprocess.run(
        command, capture_output=True, text=True, check=False, preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (4 << 30, 4 << 30))
    )
    assert main([*command[3:-1], str(tmp_path / "no"), "--refuse-slivers"]) == 3
    found = json.loads(done.stdout)
    assert done.returncode == 0 and found["shrunk_islands"] == ["bad island 0"] and found["coverage"] > 0.6, done.stderr


def test_every_argument_says_what_it_is() -> None:
    def bare(p: argparse.ArgumentParser) -> list[str]:
        inner = [c for a in p._actions if isinstance(a, argparse._SubParsersAction) for c in a.choices.values()]
        own = [f"{p.prog} {a.dest}" for a in p._actions if not a.help and not isinstance(a, argparse._SubParsersAction)]
        return own + [x for c in inner for x in bare(c)]

    assert bare(parser()) == []


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
