"""What rules cost: each is measured by packing without it, and none is named that does not hold."""

from __future__ import annotations

import pytest

from quilt_server.jobs.kinds import explain
from tests.core.test_faults import squares

from .test_api import Browser, quick
from .test_sheets import sheet

# Three strips along u and three along v, which lie beside each other when they may turn: a square of three lengths and not of four.
STRIPS = [(0.0, 0.2 * k, 0.9, 0.2 * k + 0.1) for k in range(3)] + [(1.0 + 0.2 * k, 0.0, 1.1 + 0.2 * k, 0.9) for k in range(3)]


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def test_rules_are_told_with_what_they_cost(browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(explain, "_TRIAL", 0.3)
    browser.upload(strips__obj=squares(STRIPS))
    quick(browser, rotate="none", padding_px=2.0)
    found = browser.run("explain", sheets=[1])["result"]["prices"]
    assert [p["rule"] for p in found] == ["rotate"] and found[0]["gain"] > 1.05
    quick(browser, rotate="90", padding_px=2.0)
    assert browser.run("explain", sheets=[1])["result"]["prices"] == []
    state = browser.state()
    half = [{"tile": 1001, "box": [0.0, 0.0, 1.0, 0.5]}]
    browser.run("settings", settings={**state["settings"], "sheets": [sheet(1, free=half)]})
    (price,) = browser.run("explain", sheets=[1])["result"]["prices"]
    assert price["rule"] == "free" and price["gain"] > 1.15, "half of the tile is kept free"
