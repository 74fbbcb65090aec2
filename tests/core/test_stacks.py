"""Islands of one shape laid on each other by the command line: proven from the file that was written, twin on twin, at one density."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import shapely

from quilt_core import formats
from quilt_core.model.similarity import applied
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse
from quilt_core.uv.twins import alike, corners
from tests.core.test_cli import run
from tests.core.test_one_point import obj


def pieces(path: Path) -> list[MeshIslands]:
    found = analyse(formats.read(path.read_bytes(), path.name), 0)
    return [p for p in found if p is not None]


def triangles(piece: MeshIslands, island: int) -> np.ndarray:
    return piece.uvs[piece.mesh.channels[0].triangles[piece.islands.of_triangle == island]]


def packed(capsys: pytest.CaptureFixture[str], file: Path, *more: object, out: str = "out") -> dict[str, Any]:
    """What `quilt pack` says of a file that it packed well."""
    code, report = run(capsys, "pack", file, "--out", file.parent / out, "--map", 256, "--passes", 2, "--padding", 4, "--json", *more)
    assert code == 0
    return report


def test_a_row_of_alike_tiles_can_be_stacked_and_proven(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Three squares side by side on one mesh, each an island: stacked, neighbours share an edge's corners and UVs, and counted as one that overlaps itself."""
    points = [(x, y, 0) for y in (0, 1) for x in range(4)]
    uvs = [(a + 0.3 * k, b) for k in range(3) for a, b in ((0, 0), (0.2, 0), (0.2, 0.2), (0, 0.2))]
    # Each is turned by a quarter more, so that stacked they have common corners.
    turns = (0, 1, 2)
    faces = [[((k, k + 1, k + 5, k + 4)[c], 4 * k + (c + turns[k]) % 4) for c in range(4)] for k in range(3)]
    (tmp_path / "row.obj").write_bytes(b"o row\n" + obj(points, uvs, faces))
    packed(capsys, tmp_path / "row.obj", "--stack", "row")
    code, told = run(capsys, "verify", tmp_path / "out/row.obj", "--map", 256, "--padding", 4, "--allow", "twins", "--json")
    assert code == 0 and told["allowed"] == {"twins": 3}


def test_boxes_of_two_sizes_are_not_stacked_unasked(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Sides of 1.5 and 1.2 m shared their texels at 219 and 274 px/m."""
    text, at = "", 0
    for name, size in (("large", 1.5), ("small", 1.2)):
        corners = [(0, 0), (size, 0), (size, size), (0, size)]
        text += f"o box_{name}\n" + "".join(f"v {x} {y} {at}\nvt {x / 4} {y / 4}\n" for x, y in corners)
        text += "f " + " ".join(f"{at + c}/{at + c}" for c in (1, 2, 3, 4)) + "\n"
        at += 4
    (tmp_path / "boxes.obj").write_text(text)
    report = packed(capsys, tmp_path / "boxes.obj", "--stack", "box_*", out="own")
    assert report["density_spread_px_per_m"]["max"] == pytest.approx(report["density_spread_px_per_m"]["min"], rel=1e-5)
    spread = packed(capsys, tmp_path / "boxes.obj", "--stack", "box_*", "--stack-any-size", out="one")["density_spread_px_per_m"]
    assert spread["max"] / spread["min"] == pytest.approx(1.25, rel=1e-4), "1.5 m over 1.2 m"


def test_every_triangle_lies_on_its_twins(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A square with one point inside, off its middle: four turns fit its outline, one its triangles. 74 of 1,758 triangles lay elsewhere than their twins'."""
    inner = [(0, 0), (1, 0), (1, 1), (0, 1), (0.3, 0.2)]
    text, at = "", 0
    for k, angle in enumerate((0.0, 1.9, 4.0)):
        turn = np.array([[angle, 1.0, 0.2, 0.3 * k + 0.3, 0.3]])
        text += f"o tile{k}\n" + "".join(
            f"v {x} {y} {k}\nvt {u} {v}\n" for (x, y), (u, v) in zip(inner, applied(turn, np.array(inner)).tolist(), strict=True)
        )
        text += "".join(f"f {at + a}/{at + a} {at + b}/{at + b} {at + 5}/{at + 5}\n" for a, b in ((1, 2), (2, 3), (3, 4), (4, 1)))
        at += 5
    (tmp_path / "tiles.obj").write_text(text)
    packed(capsys, tmp_path / "tiles.obj", "--stack", "tile*")
    first, *others = pieces(tmp_path / "out/tiles.obj")
    for other in others:
        assert np.abs(triangles(first, 0) - triangles(other, 0)).max() < 1e-6


def test_copies_with_equal_uvs_are_laid_on_each_other_to_the_bit() -> None:
    """As two copies of one file have them, at any size and place."""
    random = np.random.default_rng(4)
    for _ in range(20):
        outline = np.column_stack([np.cos(a := np.sort(random.uniform(0, 6.28, 9))), np.sin(a)]) * random.uniform(0.05, 3) + random.uniform(
            0, 5, 2
        )
        region = shapely.Polygon(outline)
        first, onto = alike(np.array([region, region], object), points=[outline, outline])
        assert first.tolist() == [0, 0]
        assert np.abs(onto[1] - [0, 1, 1, 0, 0]).max() < 1e-12


def test_islands_without_area_make_no_gap_and_are_told(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Nine islands are lines in the UV plane: put aside, 32 bits gave them an area, and "smallest gap 0.000 px" while those with area lay 2.2 px apart."""
    text, at = "", 0
    for k in range(12):
        flat = k >= 3
        corners = [(0, 0), (1, 0), (1, 1), (0, 1)]
        text += f"o {'line' if flat else 'tile'}{k}\n" + "".join(
            f"v {x + 2 * k} {y} 0\nvt {0.1 + x * (0.217 if flat else 0.2)} {0.1 + (0.217 / 3 * x if flat else 0.2 * y)}\n"
            for x, y in corners
        )
        text += "f " + " ".join(f"{at + c}/{at + c}" for c in (1, 2, 3, 4)) + "\n"
        at += 4
    (tmp_path / "lines.obj").write_text(text)
    report = packed(capsys, tmp_path / "lines.obj")
    assert report["smallest_gap_px"] >= 4 - 1e-3 and report["flat_islands"] == 9
    assert report["without_area"][0] == "line3: 1 island covers nothing in the UV plane" and len(report["without_area"]) == 9
    _, told = run(capsys, "verify", tmp_path / "out/lines.obj", "--map", 256, "--padding", 4, "--json")
    assert told["smallest_gap_px"] >= 4 - 1e-3


def test_uvs_that_are_far_out_are_packed_or_told(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A table with UVs up to 3.4e9 ended in a traceback: islands that 32 bits leave no area were fewer in the file that was written."""
    text, at = "", 0
    for k, far in enumerate((0.0, 3.4e9, 0.0)):
        text += f"o part{k}\n" + "".join(
            f"v {x + 2 * k} {y} 0\nvt {far + 0.2 * x} {far + 0.2 * y}\n" for x, y in [(0, 0), (1, 0), (1, 1), (0, 1)]
        )
        text += "f " + " ".join(f"{at + c}/{at + c}" for c in (1, 2, 3, 4)) + "\n"
        at += 4
    (tmp_path / "far.obj").write_text(text)
    report = packed(capsys, tmp_path / "far.obj")
    assert report["without_area"] == ["part1: 1 island covers nothing in the UV plane"]


def test_corners_of_islands_are_there_once() -> None:
    piece = analyse(
        formats.read(
            obj([(0, 0, 0), (1, 0, 0), (0, 1, 0)], [(0, 0), (1, 0), (0, 1), (0, 0)], [[(0, 0), (1, 1), (2, 2)], [(0, 3), (2, 2), (1, 1)]]),
            "a.obj",
        ),
        0,
    )[0]
    assert piece is not None
    assert [len(c) for c in corners(piece, IDENTITY[None].repeat(piece.islands.count, axis=0))] == [3] * piece.islands.count
