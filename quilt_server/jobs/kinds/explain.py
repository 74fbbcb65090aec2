"""What limits a layout, and what would help."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from quilt_core.arrange.sizes import sized_regions
from quilt_core.pack import Rules, explain

from ...projects.models import Job
from ...projects.opened import arrays_of
from ...projects.reading import choose, each, parts_of, sheet_numbers, sizes
from ...projects.sheets import of_sheet, sheets
from ...projects.state import settings_of
from ..kind import Asked, Kind, Sheets, check_sheets
from ..landing import head_of
from ..prices import prices
from ..progress import StopFlag, say
from ..recipes import recipe_of

_TRIAL = 2.0  # seconds of each trial


class Explain(Asked):
    """The sheet, as a list of one; None for the first."""

    sheets: Sheets = None

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        check_sheets(self.sheets, settings)
        return {"sheets": self.sheets}


def run_explain(job: Job) -> None:
    """Try what would let the islands be larger; the job's result holds what limits them, and the hints."""
    _, head, before = head_of(job)
    settings = settings_of(head)
    number = int((job.params.get("sheets") or [sheets(settings)[0]["id"]])[0])
    flat = of_sheet(settings, number)
    chosen = choose(head, whole=True)
    parts = parts_of(chosen)
    recipe = replace(recipe_of(flat), density=None, fill="common")
    only = sheet_numbers(chosen, parts, settings) == number
    present = parts.whole(arrays_of(before, "transforms"))
    sized = sized_regions(
        parts.pieces, recipe, bool(flat["keep_ratios"]), sizes(chosen, parts, settings, flat, present), present, None, only
    )  # fmt: skip
    rotations = each(chosen, parts, settings["rotations"], flat["rotate"]) if settings["rotations"] else None
    ruled = None if rotations is None else Rules(rotate=tuple(rotations[i] for i in sized.real))

    stop = StopFlag(job)

    def tell(what: str, done: int, of: int) -> None:
        job.span = (done / of, 1.0)
        say(job, f"{what}, {done + 1} of {of}")

    say(job, "Measuring what there is")
    found = explain(sized.regions, recipe, ruled, _TRIAL, stop, partial(tell, "Trying what would help"))
    owner = [(file, first + i) for file, first, count in parts.places for i in range(count)]

    def named(islands: list[int]) -> list[tuple[int, int]]:
        return [owner[int(sized.real[i])] for i in islands]

    costs = prices(chosen, parts, settings, flat, only, present, _TRIAL, stop, partial(tell, "Measuring what the rules cost"))
    job.result = {
        "prices": [p for p in costs if p["gain"] > 1.003],
        "long": named(found.long), "large": named(found.large), "sheet": number, "base": head.pk,
        "hints": [{"kind": h.kind, "islands": named(h.islands), "gain": round(h.gain, 4), "value": h.value} for h in found.hints],
    }  # fmt: skip


KINDS = (Kind("explain", run_explain, Explain),)
