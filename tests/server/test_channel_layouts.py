"""Several channels laid out in one project: each keeps its layout, sheets and rules while another one is worked on, and all leave together."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from quilt_core import formats
from quilt_core.model.scene import Floats
from quilt_server.projects.models import SourceFile
from tests.shapes import grid_obj

from .test_api import Browser
from .test_deliver import delivered
from .test_further import channels, crate
from .test_sheets import sheet


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def packed(browser: Browser) -> None:
    done = browser.run("pack")
    assert done["state"] == "done", done["error"]


def quick(browser: Browser, **more: object) -> None:
    browser.change(settings={**browser.state()["settings"], "seconds": 0.5, **more})


Channels = dict[str, list[Floats]]


def alike(found: Channels, first: Channels, second: Channels) -> None:
    """Channel 0 is as it was at one time, channel 1 as at another."""
    for name in first:
        assert found[name][0] == pytest.approx(first[name][0], abs=1e-6)
        assert found[name][1] == pytest.approx(second[name][1], abs=1e-6)


def test_a_layout_stays_when_another_channel_is_worked_on(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    came = channels(browser)
    quick(browser, map_px=512)
    packed(browser)
    first = channels(browser)
    assert not np.allclose(first["crate"][0], came["crate"][0])
    assert browser.run("channel", channel=1)["state"] == "done"
    # What the first channel was laid out to leaves with the second one as it came, by pygltflib.
    alike(channels(browser), first, came)
    quick(browser, map_px=256)
    packed(browser)
    second = channels(browser)
    assert not np.allclose(second["crate"][1], came["crate"][1])
    assert browser.run("channel", channel=0)["state"] == "done"
    alike(channels(browser), first, second)
    assert browser.state()["settings"]["map_px"] == 512
    for _ in range(4):
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert channels(browser)["crate"][0] == pytest.approx(first["crate"][0], abs=1e-6)


def test_sheets_and_rules_come_back_with_their_channel(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    state = browser.state()
    keys = {o["name"]: o["key"] for o in state["objects"]}
    file = keys["lid"].split("/")[0]
    lid = next(o for o in state["objects"] if o["name"] == "lid")
    island = f"{file}:{lid['first']}" if "first" in lid else f"{file}:6"
    two = [sheet(1, name="body"), sheet(2, name="lids")]
    settings = {**state["settings"], "seconds": 0.5, "sheets": two, "sheet_of": {keys["lid"]: 2}, "weights": {island: 2.0}, "held": []}
    assert browser.run("settings", settings=settings)["state"] == "done"
    packed(browser)
    assert browser.run("channel", channel=1)["state"] == "done"
    now = browser.state()["settings"]
    # A channel has its own sheets.
    assert now["sheets"] == [] and now["sheet_of"] == {} and now["weights"] == {}
    # A change made here to the second channel gives the file a new number; the rules of the first follow.
    lid_now = next(o["key"] for o in browser.state()["objects"] if o["name"] == "lid")
    assert browser.run("unwrap", objects=[lid_now])["state"] == "done"
    assert browser.run("channel", channel=0)["state"] == "done"
    back = browser.state()
    lid_now = next(o["key"] for o in back["objects"] if o["name"] == "lid")
    assert lid_now != keys["lid"]
    assert [s["name"] for s in back["settings"]["sheets"]] == ["body", "lids"] and back["settings"]["sheet_of"] == {lid_now: 2}
    assert back["settings"]["weights"] == {f"{lid_now.split('/')[0]}:{island.split(':')[1]}": 2.0}


def test_what_is_shelved_is_not_changed_from_outside(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    settings = browser.state()["settings"]
    assert "by a job" in browser.change(422, settings={**settings, "shelved": {"1": {"map_px": 512}}})["detail"]
    assert "shelved.1" in browser.change(422, settings={**settings, "shelved": {"1": {"sheets": "?"}}})["detail"]


def test_a_channel_that_nothing_has_leaves_all_as_it_was(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    quick(browser)
    packed(browser)
    before = browser.state()
    done = browser.run("channel", channel=5)
    assert done["state"] == "failed" and "No object has UVs in channel 5" in done["error"]
    assert browser.state()["snapshot"] == before["snapshot"]


@pytest.mark.parametrize("form", ["usda", "dae"])
def test_every_format_with_channels_keeps_both(browser: Browser, form: str) -> None:
    """The file is made by the product; what leaves is read by its reader, which other tests compare with those of other libraries."""
    browser.upload(b__glb=crate())
    with delivered(browser, format=form) as z:
        body = z.read(f"b.{form}")
    browser = Browser()
    browser.upload(**{f"c__{form}": body})
    quick(browser)
    corners = []
    for channel in (0, 1, 0):
        if corners:
            assert browser.run("channel", channel=channel)["state"] == "done"
        if len(corners) < 2:
            packed(browser)
        with delivered(browser) as z:
            scene = formats.read(z.read(f"c.{form}"), f"c.{form}", 1.0, {})
        corners.append([{k: c.uvs[c.triangles] for k, c in m.channels.items()} for m in scene.meshes])
    for first, second, last in zip(*corners, strict=True):
        assert first[0] == pytest.approx(second[0], abs=1e-6) == last[0]
        assert second[1] == pytest.approx(last[1], abs=1e-6)
        assert not np.allclose(first[1], second[1])


@pytest.mark.parametrize("form", ["obj", "ply", "glb", "usda", "dae"])
def test_new_uvs_that_lie_as_they_were_made_leave_as_such(browser: Browser, form: str) -> None:
    """Nothing moves an island after *lay flat again*: what is written is what the table shows, not the numbers that keep rows apart on the way."""
    browser.upload(b__glb=crate())
    with delivered(browser, format=form) as z:
        body = z.read(f"b.{form}")
    browser = Browser()
    browser.upload(**{f"c__{form}": body})
    assert browser.run("unwrap", objects=[o["key"] for o in browser.state()["objects"]])["state"] == "done"
    quick(browser)
    packed(browser)
    file = SourceFile.objects.get(pk=browser.state()["files"][0]["id"])
    # What was laid out is made the file's own UVs, so that the layout moves nothing.
    with delivered(browser) as z:
        laid = formats.read(z.read(f"c.{form}"), f"c.{form}", 1.0, {})
    if form in ("glb", "usda", "dae"):
        for channel in (1, 0):
            assert browser.run("channel", channel=channel)["state"] == "done"
        assert browser.state()["files"][0]["id"] != file.pk
        with delivered(browser) as z:
            again = formats.read(z.read(f"c.{form}"), f"c.{form}", 1.0, {})
        for was, now in zip(laid.meshes, again.meshes, strict=True):
            a, b = was.channels[0], now.channels[0]
            assert a.uvs[a.triangles] == pytest.approx(b.uvs[b.triangles], abs=1e-6)
    for m in laid.meshes:
        shapes = shapely.polygons(m.channels[0].uvs[m.channels[0].triangles])
        assert (shapely.area(shapes) > 1e-6).all()
        assert shapely.union_all(shapes).area == pytest.approx(shapely.area(shapes).sum(), rel=1e-4)


def test_the_channel_that_is_worked_on_is_not_changed_to_itself(browser: Browser) -> None:
    browser.upload(squares__obj=grid_obj(3))
    browser.change(settings={**browser.state()["settings"], "seconds": 0.2, "map_px": 256})
    browser.run("pack")
    before = browser.state()
    done = browser.run("channel", channel=0)
    assert done["state"] == "failed" and "worked on already" in done["error"]
    assert browser.state()["snapshot"] == before["snapshot"]


@pytest.mark.parametrize("out", [0, 1])
def test_a_try_is_kept_when_its_channel_comes_back(browser: Browser, out: int) -> None:
    """It was the layout, and Deliver said that the files would leave with their UVs as they are. `out`: the channel that it is written to."""
    browser.upload(b__glb=crate())
    quick(browser, map_px=512, channel_out=out)
    packed(browser)
    first, leaves = browser.state(), channels(browser)
    assert first["packed"] and first["sheets"][0]["kept"]
    assert browser.run("channel", channel=1)["state"] == "done"
    assert not browser.state()["packed"]
    assert browser.run("channel", channel=0)["state"] == "done"
    again = browser.state()
    assert again["packed"] and again["sheets"][0]["stale"] == [] and again["sheets"][0]["moved"] == 0
    for k in ("coverage", "smallest_gap_px", "smallest_margin_px", "density"):
        assert again["figures"][k] == pytest.approx(first["figures"][k], rel=1e-5), k
    assert len(again["tries"]) == 1 and again["tries"][0]["name"] == first["tries"][0]["name"] and again["tries"][0]["kept"]
    for name, found in channels(browser).items():
        assert found[out] == pytest.approx(leaves[name][out], abs=1e-6)
    # A value that changed meanwhile makes it stale as it would have before, and keeping it lays it out.
    quick(browser, padding_px=12.0)
    assert browser.state()["sheets"][0]["stale"] == ["padding 8 to 12 px"]
    assert browser.run("keep", layout=again["tries"][0]["id"])["state"] == "done"
    for _ in range(4):
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert browser.state()["tries"][0] == first["tries"][0] and browser.state()["packed"]


def test_a_stale_try_comes_back_stale(browser: Browser) -> None:
    browser.upload(b__glb=crate())
    quick(browser, map_px=512)
    packed(browser)
    quick(browser, padding_px=12.0)
    told = browser.state()["sheets"][0]["stale"]
    for channel in (1, 0):
        assert browser.run("channel", channel=channel)["state"] == "done"
    assert browser.state()["sheets"][0]["stale"] == told == ["padding 8 to 12 px"]


def test_a_history_that_is_thinned_keeps_the_layout_of_a_channel_that_is_away(browser: Browser) -> None:
    """Thinning forgot the tries of a channel that is not worked on just now: when it came back nothing was kept."""
    browser.upload(b__glb=crate())
    quick(browser)
    packed(browser)
    # Not as the packer left it: what lies otherwise is no try, and is forgotten with its step.
    assert browser.run("mend", action="even", density=50.0)["state"] == "done"
    before = channels(browser)["crate"][0]
    assert browser.state()["sheets"][0]["kept"] and browser.run("channel", channel=1)["state"] == "done"
    browser.change(settings={**browser.state()["settings"], "padding_px": 5.0})
    browser.post(f"/api/projects/{browser.project}/thin", {"keep": 0})
    assert browser.run("channel", channel=0)["state"] == "done"
    state = browser.state()
    assert state["sheets"][0]["kept"]
    assert channels(browser)["crate"][0] == pytest.approx(before, abs=1e-6)
