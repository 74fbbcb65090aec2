"""What a delivery says of the surface, in a project: figures, the new maps for the page, old paint by the UVs that it was painted on, kept texels."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from demo.textures import png
from quilt_server.projects.models import Reading

from .test_api import Browser
from .test_deliver import BOXES, MTL, painted_obj, start
from .test_sheets import QUICK, job

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def browser() -> Browser:
    return Browser()


def test_what_a_delivery_says_and_the_maps_that_it_shows(browser: Browser) -> None:
    start(browser)
    made = job(browser, "deliver", paint=True, per_sheet=True)
    figures = made["result"]["figures"]
    assert made["result"]["per_sheet"] and figures["looks_other"] == []
    assert {f["kind"] for f in figures["seen"]} == {"base colour", "opacity", "roughness", "metal", "emission", "occlusion", "normal"}
    assert {m["material"] for m in figures["seen_by_material"]} <= {"wood", "sack"}
    assert any("gloss.png" in n and "did not come" in n for n in figures["notes"])
    url = f"/api/jobs/{made['id']}/carried/0.png"
    shown = Image.open(io.BytesIO(browser.client.get(url, {"px": 64}).content))
    assert shown.size == (64, 64) and shown.mode == "RGB"
    assert browser.client.get(f"/api/jobs/{made['id']}/carried/9.png").status_code == 404
    assert browser.client.get(f"/api/jobs/{made['id'] + 1}/carried/0.png").status_code == 404


def test_a_plain_delivery_says_nothing_of_paint(browser: Browser) -> None:
    start(browser)
    made = job(browser, "deliver")
    figures = made["result"]["figures"]
    assert figures["seen"] == [] and figures["looks_other"] == [] and figures["carried"] == []
    assert browser.client.get(f"/api/jobs/{made['id']}/carried/0.png").status_code == 404


def test_old_pictures_are_looked_at_by_the_uvs_that_they_were_painted_on(browser: Browser) -> None:
    """After new UVs the page still gets those that came, beside the new ones: without them the old paint would lie wrongly on the model."""
    start(browser)
    keys = [o["key"] for o in browser.state()["objects"]]
    assert job(browser, "unwrap", objects=keys)["state"] == "done"
    file = browser.state()["files"][0]["id"]
    body = bytes(Reading.objects.get(file_id=file, channel=0).geometry)
    old = np.array(sorted({x for b in BOXES for x in b}), "<f4")
    assert all(x.tobytes() in body for x in old), "the corners of the old squares are there"


def test_islands_keep_the_texels_of_their_pictures(browser: Browser) -> None:
    """Two equal squares in UV, painted in 1024 and in 256 px: kept by texels one is four times as wide, kept in UV they are alike (arithmetic)."""
    browser.upload(parts__obj=painted_obj(), old__mtl=MTL, wheel__png=png("wheel"), sack__png=png("sack"))
    # Whatever was packed before: texels are those of the paint; sizes in UV are the present ones.
    for ratios, want in (("uv", 1.0), ("texels", 4.0), ("texels", 4.0), ("uv", 4.0)):
        browser.change(settings={**browser.state()["settings"], **QUICK, "keep_ratios": True, "ratios": ratios})
        job(browser, "pack")
        state = browser.state()
        rows = browser.client.get(f"/api/layouts/{state['layout']}/files/{state['files'][0]['id']}").content
        scale = np.frombuffer(rows, "<f4").reshape(-1, 5)[:, 2]
        assert scale[0] / scale[1] == pytest.approx(want, rel=1e-4)
    path = f"/api/projects/{browser.project}/change"
    wrong = {**browser.state()["settings"], "ratios": "inches"}
    answer = browser.client.post(
        path, {"base": browser.state()["snapshot"], "settings": wrong}, content_type="application/json", headers={"X-Quilt": "1"}
    )
    assert answer.status_code in (400, 403, 422)
