"""The command line's contract: keys, exit codes, files."""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import trimesh

from quilt_cli.main import main, parser
from quilt_core import formats
from tests.core.test_faults import squares as boxes
from tests.kit.processes import ROOT
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


def test_a_reader_that_has_read_enough_is_no_error(tmp_path: Path) -> None:
    (tmp_path / "grid.obj").write_bytes(grid_obj(3))
    read, write = os.pipe()
    os.close(read)
    command = [sys.executable, "-m", "quilt_cli", "inspect", str(tmp_path / "grid.obj"), "--json"]
    found = subprocess.run(command, stdout=write, stderr=subprocess.PIPE, text=True, cwd=ROOT)
    os.close(write)
    assert (found.returncode, found.stderr) == (0, "")


def test_what_is_only_told_is_refused_by_whoever_says_so(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A mirrored island and a density that is 30 % off ended with 0, whatever was asked. Arithmetic: sides of 0.1, 0.1 and 0.13 on a metre."""
    file = tmp_path / "squares.obj"
    file.write_bytes(boxes([(0.1, 0.1, 0.2, 0.2), (0.3, 0.1, 0.4, 0.2), (0.6, 0.6, 0.73, 0.73)], flip=frozenset({1})))
    code, told = run(capsys, "verify", file, "--map", 1000, "--json")
    assert (
        code == 0
        and told["faults"][0].startswith("1 island is mirrored")
        and told["faults"][1] == "1 island is off 100 px/m by more than 10 %, up to 1.3 times"
    )
    assert run(capsys, "verify", file, "--map", 1000, "--band", 31, "--json")[1]["faults"][1:] == []
    code, told = run(capsys, "verify", file, "--map", 1000, "--refuse", "density,mirrored", "--density", 130, "--json")
    assert code == 1 and told["reasons"] == [
        "1 island is mirrored: letters on it read backwards, its normal map turns inside out",
        "2 islands are off 130 px/m by more than 10 %, up to 1.3 times",
    ]
    assert told["verdict"] == "Not fit for baking at 1000 px" and not told["faults"]
    assert run(capsys, "verify", file, "--map", 1000, "--refuse", "mirrored", "--allow", "mirrored", "--json")[0] == 0
    with pytest.raises(SystemExit):
        main(["verify", str(file), "--refuse", "dense"])
