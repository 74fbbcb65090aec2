"""Sheets, stale layouts, twins, joined islands, hand moves, pictures and planning over the API, with jobs run as the worker runs them."""

from __future__ import annotations

import io
import json
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.arrays import unpack_arrays
from quilt_core.measure.proof import prove
from quilt_core.uv.analysis import analyse
from quilt_server.projects.models import Layout
from tests.core.test_faults import squares
from tests.shapes import PLANE, grid_obj

from .test_api import Browser
from .test_mending import kinds, mend

pytestmark = pytest.mark.django_db(transaction=True)
QUICK = {"seconds": 0.3, "map_px": 512, "padding_px": 4.0, "margin_px": 2.0}


@pytest.fixture
def browser() -> Browser:
    return Browser()


def job(browser: Browser, kind: str, expect: int = 200, **params: object) -> dict:
    body = {"kind": kind, "base": browser.state()["snapshot"], "params": params}
    started = browser.post(f"/api/projects/{browser.project}/jobs", body, expect)
    return browser.work(started) if expect == 200 else started


def settle_settings(browser: Browser, expect: int = 200, **changes: object) -> dict:
    """Settings that are measured again."""
    return job(browser, "settings", expect, settings={**browser.state()["settings"], **changes})


def sheet(number: int, **more: object) -> dict:
    return {"id": number, "name": f"Sheet {number}", **more}


def two_sheets(browser: Browser) -> list[str]:
    """Two files, one on each sheet, with a quick recipe; the keys of the two objects."""
    browser.upload(squares__obj=grid_obj(5), zplane__obj=PLANE)
    keys = [o["key"] for o in browser.state()["objects"]]
    browser.change(settings={**browser.state()["settings"], **QUICK})
    settle_settings(browser, sheets=[sheet(1), sheet(2, columns=2, tile_px={"1002": 256})], sheet_of={keys[1]: 2})
    return keys


def by_id(browser: Browser) -> dict[int, dict]:
    return {s["id"]: s for s in browser.state()["sheets"]}


def table(browser: Browser, file: int) -> np.ndarray:
    layout = Layout.objects.get(pk=browser.state()["layout"])
    return unpack_arrays(bytes(layout.transforms))[str(file)]


def test_objects_lie_on_sheets_of_their_own(browser: Browser) -> None:
    two_sheets(browser)
    found = by_id(browser)
    assert [found[k]["islands"] for k in (1, 2)] == [5, 1]
    assert {f["sheet"] for f in kinds_by_sheet(browser)} <= {1, 2}
    rows = {o["name"]: o["sheets"] for o in browser.state()["objects"]}
    assert sorted(s for v in rows.values() for s in v) == [1, 2]
    whole = browser.state()["figures"]
    assert (
        whole["islands"] == 6
        and whole["overlap"]["pairs"] == found[1]["figures"]["overlap"]["pairs"] + found[2]["figures"]["overlap"]["pairs"]
    )


def kinds_by_sheet(browser: Browser) -> list[dict]:
    return browser.client.get(f"/api/projects/{browser.project}/faults").json()


def test_sheets_that_cannot_work_are_refused_in_words(browser: Browser) -> None:
    two_sheets(browser)
    for wrong, words in (
        ({"sheets": [sheet(1), sheet(1, name="Other")]}, "same number"),
        ({"sheets": [sheet(1), {**sheet(2), "name": "Sheet 1"}]}, "name of its own"),
        ({"sheets": [sheet(1)]}, "sheet that is not there"),
        ({"sheets": [sheet(1), sheet(2, columns=11)]}, "columns"),
        ({"sheets": [sheet(1), sheet(2, held_tiles=[1001])]}, "held"),
        ({"sheets": [sheet(1), sheet(2, tile_px={"999": 512})]}, "UDIM"),
        ({"sheets": [sheet(1), sheet(2, tile_px={"1001": 4})]}, "px"),
        ({"sheets": [sheet(1), sheet(2, recipe="gone")]}, "gone"),
        ({"sheets": [sheet(1), sheet(2, free=[{"tile": 1001, "box": [0.5, 0, 0.2, 1]}])]}, "kept free"),
        ({"sheets": [sheet(1), sheet(2, map_px=8)]}, "map size"),
    ):
        assert words in settle_settings(browser, 422, **wrong)["detail"], wrong
    direct = browser.change(422, settings={**browser.state()["settings"], "sheet_of": {}})
    assert "job" in direct["detail"]


def test_only_the_stale_sheet_is_packed_again(browser: Browser) -> None:
    keys = two_sheets(browser)
    done = job(browser, "pack", sheets="stale")
    assert [r["sheet"] for r in done["result"]["summary"]] == [1, 2] and browser.state()["packed"]
    files = {o["key"]: o["file"] for o in browser.state()["objects"]}
    before = {k: table(browser, files[k]) for k in keys}
    assert "stale" in job(browser, "pack", sheets="stale")["error"]
    browser.change(settings={**browser.state()["settings"], "weights": {keys[0]: 0.5}})
    first = next(k for k, s in by_id(browser).items() if s["stale"])
    assert by_id(browser)[first]["stale"] == ["weights changed"] and not browser.state()["packed"]
    done = job(browser, "pack", sheets="stale")
    assert [r["sheet"] for r in done["result"]["summary"]] == [first]
    assert all(not s["stale"] for s in by_id(browser).values())
    on = {o["key"]: o["sheets"][0] for o in browser.state()["objects"]}
    for k in keys:
        same = np.array_equal(before[k], table(browser, files[k]))
        assert same or on[k] == first, "the other sheet's islands have not moved at all"


CHANGES = [
    ({"padding_px": 6.0}, "padding 4 to 6 px"), ({"margin_px": 3.0}, "margin 2 to 3 px"), ({"rotate": "none"}, "turning 90 to none"),
    ({"keep_ratios": True}, "keeping sizes changed"), ({"seed": 3}, "seed 0 to 3"), ({"hold": True}, "holding the density changed"),
    ({"mirror": True}, "mirrored placing changed"), ({"map_px": 1024}, "map size 512 to 1024 px"), ({"bunch_objects": "loose"}, "bunches changed"),
    ({"seconds": 2.0}, ""), ({"band": 30.0}, ""), ({"density": 99.0}, ""), ({"density_least": 5.0}, ""), ({"channel_out": 1}, ""),
]  # fmt: skip


@pytest.mark.parametrize(("change", "words"), CHANGES, ids=[next(iter(c)) for c, _ in CHANGES])
def test_a_change_of_the_input_and_nothing_else_makes_stale(browser: Browser, change: dict, words: str) -> None:
    browser.upload(squares__obj=grid_obj(3))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "pack")
    assert browser.state()["sheets"][0]["stale"] == []
    browser.change(settings={**browser.state()["settings"], **change})
    assert browser.state()["sheets"][0]["stale"] == ([words] if words else [])
    browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert browser.state()["sheets"][0]["stale"] == []


def test_more_islands_and_moves_are_told(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "pack")
    file = browser.state()["files"][0]["id"]
    mend(browser, action="move", rows={str(file): [[0, 0, 1, 1, 0.25, 0]]}, label="Nudge")
    assert browser.state()["sheets"][0]["moved"] == 1 and browser.state()["undo"] == "Nudge (1)"
    browser.upload(plane__obj=PLANE)
    assert browser.state()["sheets"][0]["stale"] == ["1 islands more"]


def test_a_kept_try_of_one_sheet_leaves_the_other(browser: Browser) -> None:
    two_sheets(browser)
    job(browser, "pack", sheets=[1])
    old = browser.state()["tries"][0]["id"]
    browser.change(settings={**browser.state()["settings"], "seed": 7, "padding_px": 8.0})
    job(browser, "pack", sheets=[1])
    job(browser, "pack", sheets=[2])
    on = {o["sheets"][0]: o["file"] for o in browser.state()["objects"]}
    two, one = table(browser, on[2]), table(browser, on[1])
    assert browser.run("keep", layout=old)["state"] == "done"
    assert np.array_equal(table(browser, on[2]), two) and not np.array_equal(table(browser, on[1]), one)
    kept = {t["id"]: t["kept"] for t in browser.state()["tries"]}
    assert kept[old] and sum(kept.values()) == 2
    assert by_id(browser)[1]["figures"]["smallest_gap_px"] == pytest.approx(4, abs=0.5)
    assert by_id(browser)[1]["stale"] == ["padding 4 to 8 px", "seed 0 to 7"]
    found = Layout.objects.get(pk=browser.state()["layout"])
    gaps = unpack_arrays(bytes(found.findings))
    assert len(gaps["box"]) == len(gaps["near_with"]) == len(gaps["near_gap"]) == 6
    assert (
        "layout"
        in browser.post(f"/api/projects/{browser.project}/tries/discard", {"base": browser.state()["snapshot"], "layout": old}, 422)[
            "detail"
        ]
    )
    browser.post(
        f"/api/projects/{browser.project}/tries/discard",
        {"base": browser.state()["snapshot"], "layout": old, "discarded": False, "name": "The good one"},
    )
    assert "The good one" in [t["name"] for t in browser.state()["tries"]]


def test_two_sheets_are_delivered_and_proven(browser: Browser) -> None:
    two_sheets(browser)
    job(browser, "pack", sheets="stale")
    made = job(browser, "deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{made['id']}/output").getvalue()))
    report = json.loads(archive.read("report.json"))
    assert report["ok"] and set(report["sheets"]) == {"Sheet 1", "Sheet 2"} and report["islands"] == 6
    names = [n for n in archive.namelist() if n.endswith(".png")]
    assert any(n.startswith("Sheet_1.template.1001") for n in names) and any(n.startswith("Sheet_2.template.") for n in names)
    for name in names:
        wide = Image.open(io.BytesIO(archive.read(name))).width
        assert wide == (256 if "Sheet_2.template.1002" in name else 512)
    for name in ("squares.obj", "zplane.obj"):
        piece = analyse(formats.read(archive.read(name), name), 0)[0]
        assert piece and prove([piece], None, 512).ok


def test_marked_twins_are_no_fault_and_stay_on_each_other(browser: Browser) -> None:
    boxes = [(0.1, 0.1, 0.3, 0.3), (0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.8, 0.7)]
    browser.upload(twins__obj=squares(boxes))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    assert kinds(browser)["twins"]["heavy"] == 3 and browser.state()["figures"]["overlap"]["pairs"] == 1
    file = browser.state()["files"][0]["id"]
    assert job(browser, "twins", islands={str(file): [2]}, on=True)["result"]["changed"] == 0
    assert job(browser, "twins", islands=None, on=True)["result"]["changed"] == 2
    found = kinds(browser)
    assert "twins" not in found and found["marked"]["heavy"] == 0 and browser.state()["figures"]["overlap"]["pairs"] == 0
    assert browser.state()["figures"]["twins"] == 1 and browser.state()["undo"] == "Mark twins"
    job(browser, "pack")
    rows = table(browser, file)
    assert np.allclose(rows[0], rows[1]) and browser.state()["figures"]["twins"] == 1
    mend(browser, action="move", rows={str(file): [[0, 0, 1, 1, 0.01, 0.02], [1, 0, 1, 1, 0.01, 0.02]]})
    assert np.allclose(table(browser, file)[:2], rows[:2] + [0, 0, 0, 0.01, 0.02])
    assert job(browser, "twins", islands=None, on=False)["result"]["changed"] == 2
    assert browser.state()["settings"]["twins"] == []


def test_settle_and_grow_move_only_what_is_chosen(browser: Browser) -> None:
    browser.upload(two__obj=squares([(0.1, 0.1, 0.4, 0.4), (0.3, 0.1, 0.6, 0.4)]))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    file = browser.state()["files"][0]["id"]
    assert "Select" in mend(browser, action="settle")["error"]
    mend(browser, action="settle", islands={str(file): [1]})
    figures = browser.state()["figures"]
    assert figures["overlap"]["pairs"] == 0 and figures["smallest_gap_px"] == pytest.approx(4, abs=0.01)
    assert np.allclose(table(browser, file)[0], [0, 1, 1, 0, 0])
    mend(browser, action="grow", islands={str(file): [1]})
    assert table(browser, file)[1, 2] == pytest.approx(1.0, abs=1e-3), "its neighbour is a padding away already"
    mend(browser, 422, action="move", rows={str(file): [[0, 0, 2, 1, 0, 0]]})
    mend(browser, 422, action="move", rows={str(file): [[0, 0, 1, float("1e12"), 0, 0]]})


def test_pictures_lie_under_tiles(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    path = f"/api/projects/{browser.project}/pictures"
    brought = browser.client.post(path, {"file": SimpleUploadedFile("wood.1002.png", png("wheel"))}).json()
    assert brought["width"] == 1024 and brought["name"] == "wood.1002.png"
    browser.change(settings={**browser.state()["settings"], "pictures": {"1:1001": {"sha": brought["sha"], "name": brought["name"]}}})
    shown = Image.open(io.BytesIO(browser.client.get(f"/api/pictures/{brought['sha']}?px=128").content))
    assert shown.size == (128, 128)
    refused = browser.client.post(path, {"file": SimpleUploadedFile("bad.png", b"no picture at all")})
    assert refused.status_code == 422 and "bad.png" in refused.json()["detail"]
    missing = browser.change(422, settings={**browser.state()["settings"], "pictures": {"1:1001": {"sha": "0" * 64, "name": "x"}}})
    assert "Drop it" in missing["detail"]
    assert browser.client.get("/api/pictures/" + "0" * 64).status_code == 404


def test_materials_bring_their_pictures_and_channels(browser: Browser) -> None:
    """A GLB with a picture inside that its first channel tiles, read in its second; an OBJ with an MTL and a picture beside it."""
    part = box(Part("bollard"), (0, 0, 0), (1, 1, 1)).uv(0.1)
    mtl = b"newmtl wood\nmap_Kd -s 1 1 1 C:\\somewhere\\wheel.png\n"
    obj = b"mtllib m.mtl\nusemtl wood\n" + PLANE
    browser.upload(b__glb=two_channels([part], 4.0, png("crane")), a__obj=obj, m__mtl=mtl, wheel__png=png("wheel"))
    files = {f["name"]: f for f in browser.state()["files"]}
    for name, size in (("b.glb", 128), ("a.obj", 1024)):
        sha = files[name]["materials"][0]["images"]["base colour"]
        assert Image.open(io.BytesIO(browser.client.get(f"/api/pictures/{sha}").content)).width == size
    raw = browser.client.get(f"/api/files/{files['b.glb']['id']}/channels/0/geometry").content
    assert b'"paint"' not in raw and b'"groups": [[0, 12]]' in raw
    assert job(browser, "channel", channel=1)["state"] == "done"
    assert b'"paint"' in browser.client.get(f"/api/files/{files['b.glb']['id']}/channels/1/geometry").content


def test_planning_and_sharing_out(browser: Browser) -> None:
    keys = two_sheets(browser)
    path = f"/api/projects/{browser.project}"
    plan = browser.post(f"{path}/plan", {"sheet": 1, "density": 512})
    assert plan["objects"] == 1 and plan["tries"] == 0 and len(plan["coverage"]) == 3
    at = {m["px"]: m for m in plan["maps"]}
    assert at[1024]["density"][1] == pytest.approx(2 * at[512]["density"][1])
    assert at[512]["tiles"] == sorted(at[512]["tiles"])
    whole = browser.post(f"{path}/plan", {"sheet": 1, "objects": keys})
    assert whole["area"] == pytest.approx(6.0) and whole["maps"][0]["tiles"] is None
    job(browser, "pack", sheets=[1])
    assert browser.post(f"{path}/plan", {"sheet": 1})["tries"] == 1
    shared = browser.post(f"{path}/suggest", {"sheets": [1, 2], "by": "nothing"})["sheet_of"]
    assert set(shared) == set(keys) and set(shared.values()) == {1, 2}
    assert "not there" in browser.post(f"{path}/suggest", {"sheets": [9], "by": "file"}, 422)["detail"]


def test_a_copy_has_sheets_rules_and_kept_tries_of_its_own(browser: Browser) -> None:
    two_sheets(browser)
    job(browser, "pack", sheets="stale")
    copy = browser.post(f"/api/projects/{browser.project}/copy", {})["id"]
    old, browser.project = browser.state(), copy
    new = browser.state()
    assert [s["islands"] for s in new["sheets"]] == [s["islands"] for s in old["sheets"]] and new["packed"]
    assert len(new["tries"]) == 2 and all(t["kept"] for t in new["tries"])
    assert not {f["id"] for f in new["files"]} & {f["id"] for f in old["files"]}
    assert all(not s["stale"] for s in new["sheets"])
    browser.change(settings={**new["settings"], "seed": 9})
    assert [s["stale"] for s in browser.state()["sheets"]] == [["seed 0 to 9"]] * 2
