"""Whatever is sent as a job's parameters is taken or refused in words: never an error of ours, and never anything untyped further in."""

from __future__ import annotations

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from quilt_server.jobs.kinds import ALL
from quilt_server.projects.models import Job
from tests.shapes import PLANE

from .test_api import Browser

NAMES = [
    "action", "way", "density", "islands", "rows", "label", "channel", "sheets", "go_on", "variants", "mirrored", "compared", "on", "settings", "left_out", "layout",
    "sheet", "px", "rays", "maps", "cage", "depth", "pairs", "templates", "template_px", "images", "pattern", "paint", "format", "joined", "channels", "tiles",
]  # fmt: skip
WORDS = [
    "flip",
    "move",
    "even",
    "straighten",
    "edges",
    "stale",
    "png",
    "both",
    "1001-1004",
    "{tile}",
    "{sheet}.{tile}",
    "",
    "occlusion",
    "blank",
    "1/0",
    "1:0",
    "glb",
]
leaf = (
    st.none()
    | st.booleans()
    | st.integers(-(2**70), 2**70)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.sampled_from(WORDS)
    | st.text(max_size=6)
)
value = st.recursive(
    leaf, lambda v: st.lists(v, max_size=4) | st.dictionaries(st.sampled_from([*NAMES, "1", "x"]), v, max_size=4), max_leaves=8
)


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("kind", [k.name for k in ALL.values() if k.asked is not None] + ["nothing", ""])
def test_any_parameters_are_taken_or_refused_in_words(kind: str) -> None:
    browser = Browser()
    browser.upload(plane__obj=PLANE)
    base = browser.state()["snapshot"]
    path = f"/api/projects/{browser.project}/jobs"

    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True, database=None)
    @given(st.dictionaries(st.sampled_from(NAMES), value, max_size=5))
    def ask(params: dict) -> None:
        answer = browser.client.post(path, json.dumps({"kind": kind, "base": base, "params": params}), content_type="application/json")
        assert answer.status_code in (200, 422), (params, answer.content)
        if answer.status_code == 422:
            assert answer.json()["detail"]
        Job.objects.filter(project=browser.project, kind=kind).delete()

    ask()
