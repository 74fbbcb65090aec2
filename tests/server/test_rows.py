"""Islands in reading order, in a project: by object, by size and along a path, as the delivered file has them."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.model.scene import Floats
from quilt_server.projects.models import Job

from .test_api import Browser
from .test_sewing import strip


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


WIDTHS = [1.0, 2.4, 0.5, 1.6, 0.8]


def laid(browser: Browser) -> list[tuple[float, float, float]]:
    """Left and lower edge, and width over that in space, of each of the strip's rectangles as delivered."""
    out = browser.run("deliver")
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        m = formats.read(z.read("strip.obj"), "strip.obj").meshes[0]
    place: Floats = m.positions[m.triangles].mean(axis=1)[:, 0]
    uv = m.channels[0].uvs[m.channels[0].triangles]
    edges = np.cumsum([0, *WIDTHS])
    found = []
    for k, w in enumerate(WIDTHS):
        mine = uv[(place > edges[k]) & (place < edges[k + 1])].reshape(-1, 2)
        found.append((float(mine[:, 0].min()), float(mine[:, 1].min()), float(np.ptp(mine[:, 0])) / w))
    return found


@pytest.mark.parametrize(("way", "order"), [("size", [1, 3, 0, 4, 2]), ("path", [4, 3, 2, 1, 0])])
def test_they_stand_in_the_order_that_was_asked_for(browser: Browser, way: str, order: list[int]) -> None:
    browser.upload(strip__obj=strip(WIDTHS, [1] * 5))
    file = browser.state()["files"][0]["id"]
    # The last quad's left side first, then the first one's right side: the path runs from right to left.
    edges = {str(file): [[0, 8, 0], [0, 0, 0]]}
    done = browser.run("mend", action="rows", way=way, edges=edges if way == "path" else None)
    assert done["state"] == "done", done["error"]
    found = laid(browser)
    # Reading order: from the top, then from the left.
    assert sorted(range(5), key=lambda k: (-found[k][1], found[k][0])) == order
    # All at one scale, so that the density is as even as it was.
    assert np.ptp([f[2] for f in found]) < 1e-6
    browser.post(f"/api/projects/{browser.project}/undo", {"base": browser.state()["snapshot"]})


def test_a_path_has_to_be_picked(browser: Browser) -> None:
    browser.upload(strip__obj=strip(WIDTHS, [1] * 5))
    assert "Pick a path" in browser.run("mend", action="rows", way="path")["error"]
    body = {"kind": "mend", "base": browser.state()["snapshot"], "params": {"action": "rows", "way": "colour"}}
    assert "by size" in browser.post(f"/api/projects/{browser.project}/jobs", body, 422)["detail"]
