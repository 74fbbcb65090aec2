"""The density of a library against arithmetic: how assets stand to limits, what a target asks in maps and megabytes, and a chart that ten thousand fit on."""

from __future__ import annotations

import json
import math
import re
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.delivery import report, survey
from quilt_core.delivery.survey import Limits
from tests.core.test_faults import squares
from tests.kit.files import png

from .test_cli import run


def row(name: str, median: float, limits: Limits = Limits()) -> survey.Row:
    out: survey.Row = {
        "name": name,
        "px": 1024,
        "area_m2": 1.0,
        "mb": 1.0,
        "density_px_per_m": {"median": median, "min": median / 2, "max": median * 2},
    }
    return out | {"stands": survey.stands(out, limits)}


def test_density_is_told_at_the_assets_own_map_or_the_one_asked_for() -> None:
    """Arithmetic: a square metre whose island has a side of 0.5 at 2048 px has 1024 px/m."""
    scene = formats.read(squares([(0.1, 0.1, 0.6, 0.6)]), "a.obj")
    (analysed,) = report.analyse_all([scene], 0)
    asked, own = (survey.figures("a.obj", analysed, 2048, side, 4.0, Limits(500, 1000, 1024)) for side in (None, 512))
    assert asked["density_px_per_m"]["median"] == pytest.approx(1024) and asked["stands"] == "above"
    assert own["density_px_per_m"]["median"] == pytest.approx(256) and own["stands"] == "below" and own["px"] == 512
    # 1 m2 at 1024 px/m and a usual coverage of 0.74 asks 1190 texels a side: a map of 2048, four bytes each, and a third for mip levels.
    assert own["target"] == {
        "px": 2048,
        "maps": 1,
        "mb": pytest.approx(2048**2 * 4 * 4 / 3 / 2**20),
        "mb_more": pytest.approx((2048**2 - 512**2) * 16 / 3 / 2**20),
    }


@pytest.mark.parametrize(
    ("area", "target", "px", "maps"), [(1.0, 10, 16, 1), (0.74, 1024, 1024, 1), (0.75, 1024, 2048, 1), (1000.0, 1024, 8192, 22)]
)
def test_the_smallest_map_that_gives_the_target(area: float, target: float, px: int, maps: int) -> None:
    found = survey.wanted(area, target, 1.0)
    assert (found["px"], found["maps"]) == (px, maps)
    # Counted back: so many texels at the usual coverage reach the target, and half the side would not.
    assert math.sqrt(maps * px**2 * survey.USUAL / area) >= target * (1 - 1e-9)
    assert px == 16 or maps > 1 or math.sqrt((px / 2) ** 2 * survey.USUAL / area) < target


def test_ten_thousand_assets_fit_on_the_chart_and_the_farthest_are_named() -> None:
    limits = Limits(200.0, 800.0, 400.0)
    random = np.random.default_rng(3)
    rows = [row(f"asset {n}", float(d), limits) for n, d in enumerate(np.exp(random.normal(math.log(400), 0.5, 9_998)))]
    rows += [row("the dullest & <least>", 3.0, limits), row("the sharpest", 40_000.0, limits)]
    body = survey.page(rows, limits).decode()
    svg = ElementTree.fromstring(re.search(r"<svg.*</svg>", body, re.DOTALL)[0])  # type: ignore[index]
    marks = sum(p.get("d", "").count("M") for p in svg.iter("path") if p.get("stroke-width") == "3")
    outside = sum(p.get("d", "").count("M") for p in svg.iter("path") if p.get("stroke") == "#a33f34")
    assert marks == 10_000 and outside == sum(r["stands"] != "inside" for r in rows)
    named = [t.text for t in svg.iter("text")]
    assert "the dullest & <least>" in named and "the sharpest" in named and "target" in named
    heights = [
        float(t.get("y", "0"))
        for t in svg.iter("text")
        if t.get("text-anchor") == "end" and t.text and t.text[0].isdigit() and float(t.get("x", "0")) < 70
    ]
    assert len(heights) >= 8 and min(abs(a - b) for n, a in enumerate(heights) for b in heights[:n]) > 9, (
        "the figures of the scale lie on each other"
    )
    assert len(body) < 600_000 and "<script" not in body
    assert body.count("<tr>") + body.count("<tr ") <= 70


def test_a_folder_is_surveyed_with_what_cannot_be_read(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    (tmp_path / "kit").mkdir()
    (tmp_path / "kit" / "crate.obj").write_bytes(b"mtllib ../paint.mtl\nusemtl wood\n" + squares([(0.0, 0.0, 0.5, 0.5)]))
    (tmp_path / "paint.mtl").write_text("newmtl wood\nmap_Kd wood.png\n")
    (tmp_path / "wood.png").write_bytes(png(np.full((64, 64, 3), 90, np.uint8)))
    (tmp_path / "plain.obj").write_bytes(squares([(0.0, 0.0, 0.5, 0.5)]))
    (tmp_path / "torn.obj").write_bytes(b"f 1 2 3")
    (tmp_path / "bare.obj").write_bytes(b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    code, found = run(
        capsys, "survey", tmp_path, "--out", tmp_path / "out", "--map", 256, "--least", 100, "--target", 128, "--workers", 1, "--json"
    )
    told = {r["name"]: r for r in found["rows"]}
    assert code == 1 and found["failed"] == 1 and "line 1" in told["torn.obj"]["why"]
    assert told["plain.obj"]["density_px_per_m"]["median"] == pytest.approx(128) and told["plain.obj"]["stands"] == "inside"
    assert told["bare.obj"]["stands"] == "none" and told["bare.obj"]["bare"] == 1
    # The picture of the crate lies beside its library, above it: 64 px, so 32 px/m.
    assert told["kit/crate.obj"]["px"] == 64 and told["kit/crate.obj"]["stands"] == "below"
    table = (tmp_path / "out" / "survey.csv").read_text().splitlines()
    assert table[0].startswith("name,stands,median") and len(table) == 5
    assert json.loads((tmp_path / "out" / "survey.json").read_text())["summary"]["below"] == 1
