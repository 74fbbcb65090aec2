"""The test bake over the API: maps of a low and a high mesh, what goes wrong, and what is refused."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pytest
from PIL import Image

from tests.core.test_faults import squares
from tests.shapes import PLANE

from .test_api import Browser
from .test_sheets import job

pytestmark = pytest.mark.django_db(transaction=True)
# A square metre, and just above its left half a detailed one that leans: its right edge is 0.2 m higher than its left.
PAIR = b"""o crate_low
v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 4/4
o crate_high
v 0 0 0.01\nv 0.5 0 0.11\nv 0.5 1 0.11\nv 0 1 0.01\nf 5 6 7 8
"""


@pytest.fixture
def browser() -> Browser:
    return Browser()


def values(browser: Browser, number: int, kind: str) -> np.ndarray:
    answer = browser.client.get(f"/api/jobs/{number}/baked/1/1001/{kind}.png")
    assert answer.status_code == 200
    return np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB"), float) / 255


def test_normals_come_from_the_high_mesh_of_the_same_name(browser: Browser) -> None:
    """Arithmetic: a slope of 0.2 along x leans the normal to (-0.2, 0, 1) / sqrt(1.04); u runs along x, v along y. The right half has no detail."""
    browser.upload(pair__obj=PAIR)
    made = job(browser, "bake", px=64, rays=16, cage=0.2)
    assert made["state"] == "done", made["error"]
    result = made["result"]
    assert result["pairs"] == ["crate_low"] and result["tiles"][0]["twice"] == 0
    assert result["tiles"][0]["missed"] == pytest.approx(64 * 32, abs=64) and min(u for u, _ in result["tiles"][0]["missed_at"]) > 0.48
    normal = values(browser, made["id"], "normal tangent") * 2 - 1
    lean = np.array([-0.2, 0.0, 1.0]) / np.sqrt(1.04)
    assert normal[32, 10] == pytest.approx(lean, abs=0.01) and normal[32, 55] == pytest.approx([0, 0, 1], abs=0.01)
    position = values(browser, made["id"], "position")
    assert position[0, 63, :2] == pytest.approx([1, 1], abs=0.02) and position[63, 0, :2] == pytest.approx([0, 0], abs=0.02)
    with zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{made['id']}/baked.zip").getvalue())) as archive:
        assert "1.1001.occlusion.png" in archive.namelist() and len(archive.namelist()) == 8
    assert browser.client.get(f"/api/jobs/{made['id']}/baked/1/1002/occlusion.png").status_code == 404


def test_a_pair_can_be_chosen_whatever_the_names(browser: Browser) -> None:
    browser.upload(pair__obj=PAIR.replace(b"crate_low", b"lid").replace(b"crate_high", b"sculpt"))
    low, high = (o["key"] for o in browser.state()["objects"])
    plain = job(browser, "bake", px=64, rays=1, maps=["normal tangent"])
    assert plain["result"]["pairs"] == []
    made = job(browser, "bake", px=64, rays=1, cage=0.2, maps=["normal tangent"], pairs={low: high})
    assert made["result"]["pairs"] == ["lid"]
    normal = values(browser, made["id"], "normal tangent") * 2 - 1
    assert normal[32, 10] == pytest.approx(np.array([-0.2, 0.0, 1.0]) / np.sqrt(1.04), abs=0.01)
    short = job(browser, "bake", px=64, rays=1, cage=0.005, maps=["normal tangent"], pairs={low: high})
    assert short["result"]["tiles"][0]["missed"] == 64 * 64, "the detail lies beyond the cage"


def test_a_detailed_mesh_needs_no_uvs_of_its_own(browser: Browser) -> None:
    """It is told what it is for; *Unwrap* and *Make it ready* leave it alone, unless it is chosen by name."""
    browser.upload(pair__obj=PAIR)
    rows = browser.state()["objects"]
    assert [(o["name"], o["bare"], o["detail_of"], o["islands"]) for o in rows] == [
        ("crate_low", 0, "", 1),
        ("crate_high", 0, "crate_low", 0),
    ]
    assert job(browser, "unwrap")["error"].startswith("Nothing here is beyond saving")
    made = job(browser, "ready")
    assert made["state"] == "done" and [o["left"] for o in made["result"]["objects"]] == [[], []]
    assert [o["islands"] for o in browser.state()["objects"]] == [1, 0]
    high = browser.state()["objects"][1]["key"]
    assert job(browser, "unwrap", objects=[high])["state"] == "done"
    assert [(o["islands"], o["detail_of"]) for o in browser.state()["objects"]] == [(1, ""), (1, "")]


def test_what_curvature_stands_for_and_bad_seams_are_told(browser: Browser) -> None:
    browser.upload(pair__obj=PAIR)
    told = job(browser, "bake", px=64, rays=4, cage=0.2, seam_percent=2.5)["result"]
    assert told["half_range"] > 0 and told["seam_percent"] == 2.5
    assert set(told["tiles"][0]["seams"]) == {"position", "normal object", "occlusion", "curvature", "cavity"}
    assert all(s == {"mean": 0.0, "greatest": 0.0, "count": 0, "bad": 0, "bad_at": []} for s in told["tiles"][0]["seams"].values())


def test_overlaps_are_counted_in_texels(browser: Browser) -> None:
    browser.upload(two__obj=squares([(0.1, 0.1, 0.5, 0.5), (0.3, 0.1, 0.7, 0.5)]))
    made = job(browser, "bake", px=100, maps=["object"], depth=16)
    assert made["result"]["tiles"][0]["twice"] == 20 * 40, "0.2 x 0.4 of 100 px"


def test_bakes_that_cannot_be_are_refused(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    for wrong in (
        {"px": 5},
        {"px": "a"},
        {"rays": 0},
        {"maps": ["gloss"]},
        {"maps": []},
        {"cage": -1},
        {"pairs": {"a": "b"}},
        {"pairs": 3},
        {"depth": 12},
        {"seam_percent": 0},
        {"sheet": 7},
    ):
        job(browser, "bake", 422, **wrong)
