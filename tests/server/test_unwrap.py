"""Unwrapping in a project: one undo step, good islands keep their place and their rules, old paint is read by the old UVs, files leave with the new ones."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pytest

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_server.projects.models import SourceFile
from tests.core.test_unwrap import areas
from tests.shapes import PLANE

from .test_api import Browser, quick

BARE = [f"v {x} {y} {z}" for x in (2, 3) for y in (0, 1) for z in (0, 1)]
BARE += [
    "f " + " ".join(f"{k + 5}" for k in q) for q in ((0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3))
]
TWO = PLANE + b"o bare\n" + "\n".join(BARE).encode() + b"\n"


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def test_what_has_no_uvs_gets_some_and_the_rest_stays(browser: Browser) -> None:
    browser.upload(two__obj=TWO)
    state = browser.state()
    plane, bare = state["objects"]
    assert (plane["islands"], bare["islands"], bare["bare"]) == (1, 0, 12)
    browser.change(settings={**state["settings"], "weights": {plane["key"]: 0.5, f"{plane['file']}:0": 2.0}})
    before = browser.state()
    done = browser.run("unwrap", stretch=1.05)
    assert done["state"] == "done" and done["result"]["changed"] == 1, done
    row = done["result"]["objects"][0]
    assert row["name"] == "bare" and row["was"]["without_uvs"] == 12 and row["now"]["stretch"]["share_under_1_1"] == pytest.approx(1)
    after = browser.state()
    plane, bare = after["objects"]
    assert bare["bare"] == 0 and bare["islands"] >= 1 and plane["islands"] == 1 and plane["name"] == "plane"
    assert after["settings"]["weights"] == {plane["key"]: 0.5, f"{plane['file']}:0": 2.0}, "rules follow"
    quick(browser)
    assert browser.run("pack")["state"] == "done"
    figures = browser.state()["figures"]
    assert figures["overlap"]["pairs"] == 0 and figures["overlap"]["self"] == 0
    for _ in range(3):
        browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})
    assert browser.state()["objects"][1]["bare"] == 12 and browser.state()["objects"] == before["objects"], "undone"


def test_chosen_objects_are_unwrapped_and_delivered_with_all_else_as_it_was(browser: Browser) -> None:
    browser.upload(two__obj=TWO)
    key = browser.state()["objects"][0]["key"]
    assert browser.run("unwrap", objects=[key])["result"]["changed"] == 1
    quick(browser)
    browser.run("pack")
    job = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(b"".join(browser.client.get(f"/api/jobs/{job['id']}/output").streaming_content))) as archive:
        text = archive.read("two.obj")
    assert [x for x in text.splitlines() if x.startswith(b"v ")] == [x for x in TWO.splitlines() if x.startswith(b"v ")]
    mesh = formats.read(text, "two.obj").meshes[0]
    uv = mesh.channels[0].uvs[mesh.channels[0].triangles]
    assert (areas(uv) > 0).all() and uv.min() >= 0 and uv.max() <= 1


def test_nothing_beyond_saving_is_said(browser: Browser) -> None:
    browser.upload(plane__obj=PLANE)
    answer = browser.run("unwrap")
    assert answer["state"] == "failed" and "Nothing here is beyond saving" in answer["error"]
    assert (
        "stretch"
        in browser.post(
            f"/api/projects/{browser.project}/jobs",
            {"kind": "unwrap", "base": browser.state()["snapshot"], "params": {"stretch": 0.2}},
            422,
        )["detail"]
    )


def test_a_file_of_bare_meshes_comes_into_the_tile(browser: Browser) -> None:
    text = "\n".join(["o bare", *BARE]).encode().replace(b"f ", b"f ")
    shifted = b"\n".join(
        b"f " + b" ".join(str(int(k) - 4).encode() for k in line.split()[1:]) if line.startswith(b"f ") else line
        for line in text.splitlines()
    )
    browser.upload(bare__obj=shifted)
    assert browser.state()["objects"][0]["islands"] == 0
    assert browser.run("unwrap")["state"] == "done"
    state = browser.state()
    assert state["objects"][0]["islands"] >= 1 and state["figures"]["outside"] == 0
    assert state["figures"]["overlap"]["pairs"] == 0, "they lie apart before they are packed"


def test_objects_of_several_files_lie_apart_beside_the_tile(browser: Browser) -> None:
    shifted = "\n".join([*BARE[:8], *(" ".join(["f", *(str(int(k) - 4) for k in line.split()[1:])]) for line in BARE[8:])])
    two = (
        "o one\n" + shifted + "\no two\n" + "\n".join(" ".join(["f", *(str(int(k) - 4) for k in line.split()[1:])]) for line in BARE[8:])
    ).encode()
    browser.upload(plane__obj=PLANE, a__obj=two, b__obj=shifted.encode())
    assert browser.run("unwrap")["result"]["changed"] == 3
    figures = browser.state()["figures"]
    assert figures["overlap"]["pairs"] == 0 and figures["outside"] >= 3


def test_old_paint_is_carried_from_the_old_uvs(browser: Browser) -> None:
    """A painted box is unwrapped with other seams; its picture, carried over, shows the same on every side: PSNR as the report measures it."""
    browser.upload(box__glb=two_channels([box(Part("crate"), (0, 0, 0), (1, 1, 1)).uv(0.3)], 1.0, png("wheel")))
    keys = [o["key"] for o in browser.state()["objects"]]
    assert browser.run("unwrap", objects=keys, stretch=1.05)["state"] == "done"
    new = SourceFile.objects.get(pk=browser.state()["files"][0]["id"])
    assert new.before is not None and new.before.before is None
    quick(browser)
    browser.run("pack")
    job = browser.run("deliver", paint=True)
    assert job["state"] == "done", job
    carried = [c for c in job["result"]["figures"]["carried"] if c["kind"] == "base colour"]
    assert carried and carried[0]["psnr"] > 25
    copy = browser.post(f"/api/projects/{browser.project}/copy", {})
    file = SourceFile.objects.filter(project_id=copy["id"]).exclude(before=None).get()
    assert file.before.project_id == copy["id"], "a copy has the old UVs too"
    assert np.isfinite(carried[0]["mean"])


def test_faces_without_uvs_in_a_channel_stay_without_where_that_is_asked(browser: Browser) -> None:
    """A channel that is for a part of a surface: *Unwrap* gave all of it UVs there without a question."""
    lines = ["o sheet"] + [f"v {x} {y} 0" for y in range(3) for x in range(3)] + [f"vt {x / 4} {y / 4}" for y in range(3) for x in range(3)]
    corners = [(a, a + 1, a + 4, a + 3) for a in (1, 2, 4, 5)]
    lines += ["f " + " ".join(f"{k}/{k}" if n < 2 else str(k) for k in c) for n, c in enumerate(corners)]
    browser.upload(part__obj=("\n".join(lines) + "\n").encode())
    (thing,) = browser.state()["objects"]
    assert thing["bare"] == 4
    assert browser.run("unwrap", objects=[thing["key"]], bare=False)["state"] == "done"
    (thing,) = browser.state()["objects"]
    assert thing["bare"] == 4 and thing["islands"] == 1
    assert browser.run("unwrap", objects=[thing["key"]])["state"] == "done"
    assert browser.state()["objects"][0]["bare"] == 0
