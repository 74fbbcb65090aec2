"""The one verdict on a layout: of which parts it is made, and which is the heaviest."""

from __future__ import annotations

from quilt_core.delivery.verdict import Asked, of_sheets, verdict

GOOD = {
    "overlap": {"pairs": 0, "self": 0, "px": 0.0}, "outside": 0, "flipped": 0, "map_px": 1024, "smallest_gap_px": 8.0, "smallest_margin_px": 4.0,
}  # fmt: skip
CLEAN = {"clean": 10, "levels": 11, "thin": 0}


def test_what_was_not_measured_is_said() -> None:
    assert verdict(GOOD).line == "Fit for baking at 1024 px; whether colours bleed is not measured yet"
    assert verdict(GOOD, CLEAN).line == "Fit for baking at 1024 px, clean on every mip level"
    assert "at this size" in verdict(GOOD, CLEAN | {"clean": None}).line


def test_every_part_counts() -> None:
    assert verdict(GOOD | {"outside": 1}, CLEAN).grade == "not fit"
    assert verdict(GOOD, CLEAN | {"clean": -1, "on_map": 0.3, "reached": 9}).grade == "not fit"
    tips = verdict(GOOD, CLEAN | {"clean": -1, "on_map": 0.001, "reached": 1})
    assert tips.grade == "fit with faults" and "reach 1 island on the full map, along 0.1% of the outlines" in tips.reasons[0]
    assert verdict(GOOD, CLEAN | {"thin": 2}).grade == "fit with faults"
    narrow = verdict(GOOD, CLEAN, Asked(padding_px=16.0, margin_px=4.0))
    assert narrow.grade == "fit with faults" and narrow.reasons == ["the smallest gap is 8.000 px, 16 px are asked for"]


def test_several_sheets_are_as_good_as_the_worst() -> None:
    fit, bad = verdict(GOOD, CLEAN), verdict(GOOD | {"outside": 2}, CLEAN)
    assert of_sheets([]) is None and of_sheets([("One", fit)]) == fit
    said = of_sheets([("One", fit), ("Two", bad)])
    assert said is not None and said.grade == "not fit" and said.line == "Two: not fit for baking at 1024 px"
    assert said.reasons == ["Two: 2 islands are outside or astride tiles"]
