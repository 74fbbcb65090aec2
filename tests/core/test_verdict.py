"""The one verdict on a layout: of which parts it is made, and which is the heaviest."""

from __future__ import annotations

from quilt_core.delivery.verdict import Asked, OfSheet, of_sheets, verdict

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


def test_what_is_allowed_counts_for_nothing_and_what_is_refused_for_much() -> None:
    mirrored = GOOD | {"flipped": 3, "overlap": {"pairs": 0, "self": 2, "px": 1.0}}
    assert verdict(mirrored, CLEAN).heavy == 1 and verdict(mirrored, CLEAN, allow=("self",)).grade == "fit with faults"
    assert verdict(mirrored, CLEAN, allow=("self", "mirrored")) == verdict(GOOD, CLEAN)
    refused = verdict(mirrored, CLEAN, refuse=("mirrored",))
    assert refused.heavy == 2 and refused.reasons[1].startswith("3 islands are mirrored")


def test_several_sheets_are_as_good_as_the_worst() -> None:
    fit, bad = verdict(GOOD, CLEAN), verdict(GOOD | {"outside": 2}, CLEAN)
    one = OfSheet("One", fit, 10)
    assert of_sheets([]) is None and of_sheets([one]) == fit
    said = of_sheets([one, OfSheet("Two", bad, 10)])
    assert said is not None and said.grade == "not fit" and said.line == "Two: not fit for baking at 1024 px"
    assert said.reasons == ["Two: 2 islands are outside or astride tiles"]
    # Of sheets that are all fit the one counts whose colours stay apart the least, or of which that is not known.
    less = OfSheet("Two", verdict(GOOD, CLEAN | {"clean": 3}), 3)
    assert of_sheets([one, less]) == less.verdict
    assert of_sheets([one, less, OfSheet("Three", verdict(GOOD), None)]) == verdict(GOOD)
