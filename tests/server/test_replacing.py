"""Newer versions of files, stacks by shape, batches of recipes and channels of sheets over the API."""

from __future__ import annotations

import io
import json
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from tests.core.test_faults import squares
from tests.shapes import PLANE

from .test_api import Browser
from .test_sheets import QUICK, job, settle_settings, sheet, table

pytestmark = pytest.mark.django_db(transaction=True)
OLD = [(0.1, 0.1, 0.2, 0.2), (0.3, 0.1, 0.5, 0.2), (0.6, 0.6, 0.8, 0.9)]


@pytest.fixture
def browser() -> Browser:
    return Browser()


def newer(browser: Browser, file: int, name: str, data: bytes, expect: int = 200) -> dict:
    body = {"files": [SimpleUploadedFile(name, data)], "paths": [name]}
    answer = browser.client.post(f"/api/projects/{browser.project}/files/{file}/replace", body)
    assert answer.status_code == expect, answer.content
    return browser.work(answer.json()) if expect == 200 else answer.json()


def test_a_newer_version_keeps_the_layout_of_what_is_the_same(browser: Browser) -> None:
    browser.upload(parts__obj=squares(OLD), plane__obj=PLANE)
    state = browser.state()
    file = next(f["id"] for f in state["files"] if f["name"] == "parts.obj")
    rules = {"held": [f"{file}:0"], "weights": {f"{file}:2": 2.0, f"{file}/0": 0.5}}
    browser.change(settings={**state["settings"], **QUICK, **rules})
    job(browser, "pack")
    before = table(browser, file)
    snapshot = browser.state()["snapshot"]
    told = newer(browser, file, "renamed.obj", squares([*OLD, (0.0, 0.9, 0.05, 1.0)]))["result"]
    assert told["changed"] == [{"name": "parts", "same": 3, "changed": 0, "new": 1, "gone": 0}] and not told["gone"] and not told["new"]
    assert browser.state()["snapshot"] == snapshot, "nothing changes before it is taken over"
    done = job(browser, "replace", compared=last_job(browser))
    assert done["state"] == "done", done["error"]
    now = browser.state()
    new = next(f["id"] for f in now["files"] if f["name"] == "parts.obj")
    assert new != file and len(now["files"]) == 2 and now["undo"] == "Replace parts.obj"
    rows = table(browser, new)
    assert np.allclose(rows[:3], before) and np.allclose(rows[3], [0, 1, 1, 0, 0])
    assert now["settings"]["held"] == [f"{new}:0"] and now["settings"]["weights"] == {f"{new}:2": 2.0, f"{new}/0": 0.5}
    assert now["sheets"][0]["stale"] == ["a file was replaced", "1 islands more"]
    browser.post(f"/api/projects/{browser.project}/undo", {"base": now["snapshot"]})
    assert {f["id"] for f in browser.state()["files"]} == {f["id"] for f in state["files"]}


@pytest.mark.parametrize("taken", [True, False])
def test_a_comparison_stays_until_it_is_taken_over_or_left(browser: Browser, taken: bool) -> None:
    """It was shown again after it was taken over, and one before it when it was left."""
    browser.upload(parts__obj=squares(OLD))
    file = browser.state()["files"][0]["id"]
    newer(browser, file, "parts.obj", squares(OLD[:2]))
    newer(browser, file, "parts.obj", squares([*OLD, (0.0, 0.9, 0.05, 1.0)]))

    def kept() -> list[tuple[int, bool]]:
        return [
            (m["job"]["id"], m["stale"])
            for m in browser.client.get(f"/api/projects/{browser.project}/made").json()
            if m["job"]["kind"] == "compare"
        ]

    assert kept() == [(last_job(browser), False)]
    if taken:
        job(browser, "replace", compared=last_job(browser))
    else:
        browser.post(f"/api/jobs/{last_job(browser)}/drop", {})
    assert kept() == []


def last_job(browser: Browser) -> int:
    from quilt_server.projects.models import Job

    return Job.objects.filter(kind="compare").latest("pk").pk


def test_a_replacement_that_cannot_be_is_refused_in_words(browser: Browser) -> None:
    browser.upload(parts__obj=squares(OLD))
    file = browser.state()["files"][0]["id"]
    assert (
        "another format"
        in newer(browser, file, "b.glb", two_channels([box(Part("b"), (0, 0, 0), (1, 1, 1)).uv(0.1)], 1, png("crane")))["error"]
    )
    assert "Choose one mesh" in newer(browser, file, "picture.png", png("crane"))["error"]
    assert "not there" in newer(browser, file + 99, "a.obj", PLANE, 422)["detail"]
    assert "broken.obj" in newer(browser, file, "broken.obj", b"f 1 2 3")["error"]
    job(browser, "replace", 422)
    assert "Compare" in job(browser, "replace", compared=10_000)["error"]


def test_islands_of_one_shape_are_selected_and_stacked(browser: Browser) -> None:
    boxes = [(0.0, 0.0, 0.2, 0.1), (0.5, 0.5, 0.6, 0.7), (0.7, 0.1, 0.8, 0.2), (0.3, 0.8, 0.7, 1.0)]
    browser.upload(shapes__obj=squares(boxes))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    file = browser.state()["files"][0]["id"]
    found = job(browser, "alike", islands={str(file): [0]}, mirrored=False)["result"]["islands"]
    assert found == {str(file): [0, 1, 3]}
    assert "Select" in job(browser, "stack", islands=None)["error"]
    assert job(browser, "stack", islands={str(file): [0, 1, 2]})["result"]["changed"] == 1
    state = browser.state()
    assert state["settings"]["twins"] == [[f"{file}:0", f"{file}:1"]] and state["figures"]["twins"] == 1
    job(browser, "pack")
    assert browser.state()["figures"]["twins"] == 1 and browser.state()["figures"]["overlap"]["pairs"] == 0


def test_several_recipes_are_tried_and_the_sharpest_is_kept(browser: Browser) -> None:
    browser.upload(parts__obj=squares([(0.0, 0.0, 0.1 + 0.02 * k, 0.1) for k in range(8)]))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    variants = [{"padding_px": p, "rotate": r} for p in (2, 16) for r in ("90", "none")]
    done = job(browser, "pack", variants=variants)
    assert len(done["result"]["summary"]) == 4 and done["result"]["summary"][0]["recipe"] == "padding 2, turning 90"
    tries = browser.state()["tries"]
    assert [t["padding_px"] for t in tries] == [2, 2, 16, 16] and [t["recipe"]["rotate"] for t in tries] == ["90", "none", "90", "none"]
    kept = next(t for t in tries if t["kept"])
    assert kept["figures"]["density"] == max(t["figures"]["density"] for t in tries)
    assert browser.state()["sheets"][0]["stale"][0].startswith("padding 2 to 4 px")
    for wrong in ([{"padding_px": 999}], [{"colour": 1}], [{"rotate": "33"}], [{"padding_px": "a"}], "x"):
        job(browser, "pack", 422, variants=wrong)


def test_going_on_is_never_worse(browser: Browser) -> None:
    browser.upload(parts__obj=squares([(0.0, 0.0, 0.05 + 0.01 * k, 0.1) for k in range(20)]))
    browser.change(settings={**browser.state()["settings"], **QUICK})
    job(browser, "pack")
    first = browser.state()["figures"]["density"]
    job(browser, "pack", go_on=True)
    assert browser.state()["figures"]["density"] >= first * (1 - 1e-6)


def test_each_sheet_writes_its_own_channel(browser: Browser) -> None:
    """Two meshes of one GLB on two sheets: one layout goes into channel 0, the other into channel 1; the other channels stay."""
    parts = [box(Part(n), (0, 0, 0), (1, 1, 1)).uv(0.1) for n in ("a", "b")]
    data = two_channels(parts, 4.0, png("crane"))
    browser.upload(two__glb=data)
    browser.change(settings={**browser.state()["settings"], **QUICK})
    keys = [o["key"] for o in browser.state()["objects"]]
    settle_settings(browser, sheets=[sheet(1), sheet(2, channel=1)], sheet_of={keys[1]: 2})
    job(browser, "pack", sheets="stale")
    made = job(browser, "deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{made['id']}/output").getvalue()))
    assert json.loads(archive.read("report.json"))["overlap_pairs"] == 0
    old, new = formats.read(data, "two.glb"), formats.read(archive.read("two.glb"), "two.glb")
    same = [[bool((old.meshes[m].channels[c].uvs == new.meshes[m].channels[c].uvs).all()) for c in (0, 1)] for m in (0, 1)]
    assert same == [[False, True], [True, False]]
    settle_settings(browser, sheet_of={f"{keys[1].split('/')[0]}:0": 2, keys[1]: 1})
    assert "different UV channels" in job(browser, "deliver")["error"]


def replace_by(browser: Browser, file: int, data: bytes) -> dict:
    told = newer(browser, file, "parts.obj", data)
    assert told["state"] == "done", told["error"]
    done = job(browser, "replace", compared=last_job(browser))
    assert done["state"] == "done", done["error"]
    return told["result"]


def shown(browser: Browser) -> tuple[np.ndarray, np.ndarray]:
    """Every corner of the only file as the page shows it (places and UVs under the layout), by its place and triangle."""
    from quilt_server.projects.models import SourceFile
    from quilt_server.projects.sources import kept_islands, kept_scene

    (f,) = browser.state()["files"]
    file = SourceFile.objects.get(pk=f["id"])
    scene, rows = kept_scene(file), table(browser, file.pk)
    out, first = [], 0
    for mesh, piece in zip(scene.meshes, kept_islands(file, 0).pieces(scene), strict=True):
        channel = mesh.channels[0]
        uv = channel.uvs[channel.triangles]
        angle, mirror, scale, u, v = (rows[piece.islands.of_triangle + first].T)[:, :, None]
        x, y = uv[..., 0] * mirror, uv[..., 1]
        placed = np.stack(
            [scale * (np.cos(angle) * x - np.sin(angle) * y) + u, scale * (np.sin(angle) * x + np.cos(angle) * y) + v], axis=-1
        )
        out.append(np.concatenate([mesh.positions[mesh.triangles], placed], axis=2))
        first += piece.islands.count
    found = np.concatenate(out)
    return found[:, :, :3], found[:, :, 3:]


def test_whole_texels_stay_when_the_file_comes_again_with_one_comment_more(browser: Browser) -> None:
    """28 islands that are the same fell back to their first UVs: what came was compared with what was made of it."""
    boxes = [(0.03 * k, 0.1, 0.03 * k + 0.02 + 0.001 * k, 0.2 + 0.003 * k) for k in range(28)]
    data = squares(boxes)
    browser.upload(parts__obj=data)
    browser.change(settings={**browser.state()["settings"], **QUICK, "texel_grid": True, "grid_percent": 8.0})
    job(browser, "pack")
    state = browser.state()
    (file,) = state["files"]
    browser.change(settings={**state["settings"], "weights": {f"{file['id']}:3": 2.0}, "held": [f"{file['id']}:5"]})
    before, figures = shown(browser), browser.state()["figures"]
    assert figures["grid"]["on"] == figures["grid"]["edges"] > 0
    told = replace_by(browser, file["id"], b"# one comment more\n" + data)
    assert told["same"] and not (told["changed"] or told["new"] or told["gone"])
    now = browser.state()
    assert np.allclose(shown(browser)[1], before[1], atol=1e-9)
    assert {k: now["figures"]["grid"][k] for k in ("edges", "on")} == {k: figures["grid"][k] for k in ("edges", "on")}
    (new,) = now["files"]
    assert now["settings"]["weights"] == {f"{new['id']}:3": 2.0} and now["settings"]["held"] == [f"{new['id']}:5"]
    # The shapes before the grid came along too, so that sizes do not wander with another packing.
    job(browser, "pack")
    again = browser.state()["figures"]
    assert again["grid"]["on"] == again["grid"]["edges"] and again["grid"]["change"] <= 0.08 + 1e-9


def test_what_was_made_here_is_carried_to_a_version_with_a_part_more_and_one_moved(browser: Browser) -> None:
    data = squares(OLD)
    browser.upload(parts__obj=data)
    browser.change(settings={**browser.state()["settings"], **QUICK})
    (file,) = browser.state()["files"]
    done = job(browser, "hand", operation="move", points={str(file["id"]): [[0, 0, 0]]}, by=[-0.03, -0.02], reach=0.0)
    assert done["state"] == "done", done["error"]
    job(browser, "pack")
    places, uvs = shown(browser)
    (file,) = browser.state()["files"]
    moved = squares([*OLD[:2], (0.7, 0.6, 0.9, 0.9), (0.0, 0.9, 0.05, 1.0)])
    told = replace_by(browser, file["id"], moved)
    assert told["changed"] == [{"name": "parts", "same": 2, "changed": 1, "new": 1, "gone": 0}]
    at, now = shown(browser)
    assert np.allclose(now[:4], uvs[:4], atol=1e-9), "the islands that are the same lie where they lay, with the point that was moved"
    assert not np.allclose(now[4:6], uvs[4:6]) and len(now) == len(uvs) + 2
    came = formats.read(moved, "parts.obj").meshes[0].channels[0]
    assert np.allclose(now[4:], came.uvs[came.triangles][4:], atol=1e-9), "the others as they came"
    made = job(browser, "deliver")
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{made['id']}/output").getvalue()))
    written = formats.read(archive.read("parts.obj"), "parts.obj").meshes[0].channels[0]
    assert np.allclose(written.uvs[written.triangles], now, atol=1e-6)
    assert len(at) == len(places) + 2


def test_triangles_in_another_order_with_other_first_corners_keep_what_was_made_of_them() -> None:
    from quilt_core.model.scene import UvChannel
    from quilt_core.unwrap.skin import Revised
    from quilt_core.versions.carry import carried

    old = formats.read(squares([*OLD, (0.9, 0.9, 1.0, 1.0)]), "a.obj").meshes[0]
    channel, chance = old.channels[0], np.random.default_rng(3)
    made = Revised(
        UvChannel(channel.uvs * 0.5 + chance.random((len(channel.uvs), 2)) * 0.01, channel.triangles),
        np.arange(len(channel.uvs)),
        np.repeat(np.arange(4), 2).astype(np.int32),
    )
    order, turns = chance.permutation(8), chance.integers(0, 3, 8)
    turned = [np.roll(np.arange(3), k) for k in turns]
    new = formats.read(squares([*OLD, (0.9, 0.9, 1.0, 1.0)]), "a.obj").meshes[0]
    new.triangles = np.array([old.triangles[t][c] for t, c in zip(order, turned, strict=True)])
    new.channels[0] = UvChannel(channel.uvs, np.array([channel.triangles[t][c] for t, c in zip(order, turned, strict=True)]))
    found = carried(old, made, new, 0)
    assert found.islands.tolist() == [0, 1, 2, 3]
    for t, (was, c) in enumerate(zip(order, turned, strict=True)):
        assert np.array_equal(
            found.revised.channel.uvs[found.revised.channel.triangles[t]], made.channel.uvs[made.channel.triangles[was][c]]
        )
        assert found.revised.island[t] == made.island[was]
