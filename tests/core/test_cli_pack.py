"""What `quilt pack` takes besides the usual: recipes that the browser gives, passes, tiles of their own size, rules by pattern."""

from __future__ import annotations

import itertools
import json
from pathlib import Path

import numpy as np
import pytest
import shapely

from quilt_cli.main import main
from quilt_core import formats
from quilt_core.uv.analysis import MeshIslands, analyse
from tests.core.test_faults import squares

from .test_cli import run

BOXES = [(0.1, 0.1, 0.2, 0.2), (0.3, 0.1, 0.4, 0.2), (0.1, 0.3, 0.2, 0.4), (0.5, 0.5, 0.6, 0.6)]


@pytest.fixture
def files(tmp_path: Path) -> list[Path]:
    out = []
    for name, boxes in (("crate", BOXES), ("lamp", BOXES[:2])):
        path = tmp_path / f"{name}.obj"
        path.write_bytes(f"o {name}\n".encode() + squares(boxes))
        out.append(path)
    return out


def islands(path: Path) -> MeshIslands:
    found = analyse(formats.read(path.read_bytes(), path.name), 0)[0]
    assert found is not None
    return found


def test_counted_passes_give_the_same_bytes(capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path) -> None:
    written = []
    for n in range(2):
        code, report = run(capsys, "pack", *files, "--out", tmp_path / str(n), "--map", 256, "--passes", 5, "--rotate", "45", "--json")
        assert code == 0 and report["passes"] >= 5
        written.append([(tmp_path / str(n) / f.name).read_bytes() for f in files])
    assert written[0] == written[1]


def test_a_recipe_that_the_browser_gave_and_what_holds_over_it(
    capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path
) -> None:
    recipe = {"name": "Fine", "padding_px": 5, "margin_px": 3, "rotate": "none", "hold": True, "density": 20, "keep_ratios": False, "ratios": "uv", "fill": "common",
              "mirror": False, "texel_grid": False, "grid_percent": 1, "seconds": 1, "passes": 4, "seed": 3}  # fmt: skip
    (tmp_path / "fine.recipe.json").write_text(json.dumps(recipe))
    common = ("pack", *files, "--map", 256, "--recipe", tmp_path / "fine.recipe.json", "--json")
    code, report = run(capsys, *common, "--out", tmp_path / "a")
    assert code == 0 and report["density_px_per_m"] == pytest.approx(20) and report["seed"] == 3
    assert report["smallest_gap_px"] >= 5 - 1e-3 and report["smallest_margin_px"] >= 3 - 1e-3
    code, report = run(capsys, *common, "--out", tmp_path / "b", "--density", 25, "--padding", 7)
    assert code == 0 and report["density_px_per_m"] == pytest.approx(25) and report["smallest_gap_px"] >= 7 - 1e-3


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ('{"paddin_px": 3, "seed": 1}', "did you mean 'padding_px'"),
        ("[]", "it is no recipe"),
        ("{", "cannot be read as a recipe"),
        ('{"seed": "x"}', "seed is not what"),
    ],
)
def test_what_is_no_recipe_is_told(capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path, body: str, words: str) -> None:
    (tmp_path / "r.json").write_text(body)
    assert main([str(x) for x in ("pack", *files, "--out", tmp_path / "o", "--recipe", tmp_path / "r.json")]) == 2
    assert words in capsys.readouterr().err


def test_objects_go_to_their_tiles_which_have_sizes_of_their_own(
    capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path
) -> None:
    """Arithmetic: at one density, islands are twice as large in UV on a tile of half the size."""
    code, report = run(
        capsys, "pack", *files, "--out", tmp_path / "o", "--map", 512, "--tiles", "2x1", "--tile-px", "512,256", "--belongs", "crate=1001", "--belongs", "lam*=1002",
        "--passes", 6, "--padding", 4, "--json",
    )  # fmt: skip
    assert code == 0 and [t["islands"] for t in report["tiles"]] == [4, 2]
    crate, lamp = (islands(tmp_path / "o" / f.name) for f in files)
    assert (crate.islands.box[:, 2] <= 1).all() and (lamp.islands.box[:, 0] >= 1).all()
    assert np.sqrt(lamp.islands.area[0] / crate.islands.area[0]) == pytest.approx(2, rel=1e-5)
    spread = report["density_spread_px_per_m"]
    assert spread["max"] / spread["min"] == pytest.approx(1, rel=1e-5)
    assert report["density_px_per_m"] == pytest.approx(512 * np.sqrt(crate.islands.area[0]), rel=1e-5)
    code, _ = run(capsys, "pack", *files, "--out", tmp_path / "o", "--tiles", "2x1", "--belongs", "crate=1003")
    assert code == 2


def test_weights_by_pattern(capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path) -> None:
    code, _ = run(capsys, "pack", *files, "--out", tmp_path / "o", "--map", 256, "--weight", "lamp=2", "--passes", 4, "--json")
    crate, lamp = (islands(tmp_path / "o" / f.name) for f in files)
    assert code == 0 and np.sqrt(lamp.islands.area[0] / crate.islands.area[0]) == pytest.approx(2, rel=1e-5)
    assert run(capsys, "pack", *files, "--out", tmp_path / "o", "--weight", "boat=2")[0] == 2


def test_islands_of_one_shape_share_their_texels(capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path) -> None:
    """Read back from the file that was written: the boxes of the crate's squares are one, the lamp's are apart; and the sheet is filled with three."""
    plain = ("pack", *files, "--map", 256, "--passes", 3, "--padding", 4, "--json")
    _, before = run(capsys, *plain, "--out", tmp_path / "plain")
    code, report = run(capsys, *plain, "--out", tmp_path / "out", "--stack", "crate")
    assert code == 0 and report["ok"] and report["overlap_pairs"] == 0 and report["islands"] == 6
    assert report["density_px_per_m"] > before["density_px_per_m"] * 1.2, "half as many islands need room"
    crate, lamp = (islands(tmp_path / "out" / f.name).islands.box for f in files)
    assert np.allclose(crate, crate[0], atol=1e-6) and not np.allclose(lamp[0], lamp[1], atol=0.01)
    names = [tmp_path / "out" / f.name for f in files]
    code, told = run(capsys, "verify", *names, "--map", 256, "--padding", 4, "--allow", "twins", "--json")
    assert code == 0 and told["allowed"] == {"twins": 4} and told["smallest_gap_px"] >= 4 - 1e-3
    assert run(capsys, "verify", *names, "--map", 256, "--json")[1]["ok"] is False, "without a word they overlap"
    three = [shapely.box(*b) for b in (crate[0], *lamp)]
    assert min(a.distance(b) for a, b in itertools.combinations(three, 2)) * 256 >= 4 - 1e-3


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (("--stack", "boat*"), "no object is called boat*"),
        (("--stack", "crate", "--stack", "c*"), "by a pattern before"),
        (("--stack", "crate", "--texel-grid"), "Take one of them"),
    ],
)
def test_a_stack_that_cannot_be_is_told(
    capsys: pytest.CaptureFixture[str], files: list[Path], tmp_path: Path, more: tuple[str, ...], words: str
) -> None:
    assert main([str(a) for a in ("pack", *files, "--out", tmp_path / "out", "--passes", 1, *more)]) == 2
    assert words in capsys.readouterr().err
