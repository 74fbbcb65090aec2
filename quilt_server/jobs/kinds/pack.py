"""Packing: the result is a try of a sheet, and the project's new layout."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np
from django.db import transaction
from pydantic import BaseModel, ConfigDict, Field, StrictBool, StrictStr

from quilt_core.arrange.sheet import SheetPacking, pack_sheet
from quilt_core.arrays import pack_arrays
from quilt_core.delivery import report
from quilt_core.errors import DoesNotFit, QuiltError
from quilt_core.model.scene import Floats
from quilt_core.pack import Packing, Recipe
from quilt_core.words import plain

from ...checks import check_recipe
from ...projects.doing import doing
from ...projects.figures import sheet_rows
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Snapshot
from ...projects.opened import arrays_of
from ...projects.reading import Chosen, Parts, choose, parts_of, sheet_numbers, sizes
from ...projects.sheets import IN_RECIPE, of_sheet, sheet_by, sheets
from ...projects.stale import WORDS, inputs_of
from ...projects.state import advance, project_now, settings_of
from ...projects.tries import kept_layout, next_name
from ..belonging import density_of, filled, some_only, spanning, strays
from ..gridding import on_texels
from ..kind import Asked, Islands, Kind, Real, Sheets, Whole, check_sheets
from ..landing import head_of, land
from ..progress import StopFlag, report_progress
from ..recipes import recipe_of, rules_of


class Variant(BaseModel):
    """What a recipe that is tried has other than the sheet's own."""

    model_config = ConfigDict(extra="forbid")
    padding_px: Real | None = None
    margin_px: Real | None = None
    rotate: StrictStr | None = None
    seed: Whole | None = None
    seconds: Real | None = None
    fill: StrictStr | None = None


class Pack(Asked):
    """The sheets (None for the first, or "stale" ones), whether to go on from the layout as it is, and recipes to try one after the other. Of one sheet it may
    be some tiles by UDIM number, or some islands: all else stays as it is."""

    words: ClassVar = {
        "variants": f"Up to 24 recipes are tried at once, that differ in {', '.join(Variant.model_fields)}.",
    }
    sheets: Sheets = None
    go_on: StrictBool = False
    tiles: list[Whole] | None = None
    islands: Islands = None
    variants: list[Variant] = Field(default=[], max_length=24)

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        check_sheets(self.sheets, settings)
        variants = [v.model_dump(exclude_none=True) for v in self.variants]
        if variants and self.sheets == "stale":
            raise QuiltError("Several recipes are tried on sheets that are named.")
        for number in (self.sheets or [sheets(settings)[0]["id"]]) if variants else []:
            for v in variants:
                check_recipe(of_sheet(settings, int(number)) | v)
        if (self.tiles is not None or self.islands is not None) and (self.sheets == "stale" or len(self.sheets or [0]) != 1):
            raise QuiltError("Some tiles or islands are packed of one sheet at a time.")
        return {"sheets": self.sheets, "go_on": self.go_on, "variants": variants, "tiles": self.tiles, "islands": self.islands}


@dataclass
class _Work:
    """What packing one sheet after the other works on."""

    job: Job
    chosen: list[Chosen]
    parts: Parts
    settings: dict[str, Any]
    variant: dict[str, Any] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    def take(self, chosen: list[Chosen], settings: dict[str, Any]) -> None:
        """Go on with other files."""
        self.chosen, self.parts, self.settings = chosen, parts_of(chosen), settings


def _wanted(job: Job, head: Snapshot) -> list[int]:
    """The sheets that a job packs: those it names, or those that are stale or never were packed."""
    asked, settings = job.params.get("sheets"), settings_of(head)
    if asked == "stale":
        rows = sheet_rows(head)
        found = [r["id"] for r in rows if r["islands"] and (r["kept"] is None or r["stale"])]
        if not found:
            raise QuiltError("No sheet is stale: every layout belongs to what it was made from.")
        return found
    if asked is None:
        return [sheets(settings)[0]["id"]]
    return [sheet_by(settings, s)["id"] for s in asked]


def run_pack(job: Job) -> None:
    """Even and pack the chosen sheets one after the other; each is a try and an undo step of its own."""
    project, head, layout = head_of(job)
    settings = settings_of(head)
    wanted = _wanted(job, head)
    variants = job.params.get("variants") or [{}]
    report_progress(job, {"text": "Reading the islands", "seconds": 0.0, "of": 0.0})
    chosen = choose(head, whole=True)
    work = _Work(job, chosen, parts_of(chosen), settings)
    summary: list[dict[str, Any]] = []
    best: tuple[float, Layout] | None = None
    aside = False
    runs = [(number, variant) for number in wanted for variant in variants]
    for n, (number, variant) in enumerate(runs):
        begin = time.monotonic()
        was = head.layout.figures.get("sheets", {}).get(str(number)) if head.layout else None
        # Whole texels make files of their own, between which no try could be chosen.
        work.variant = variant | {"texel_grid": False} if variant else {}
        head, layout, stopped, aside = _pack_one(work, project, head, layout, number, f" {n + 1} of {len(runs)}" if len(runs) > 1 else "")
        now = layout.figures["sheets"][str(number)]
        told = ", ".join(f"{WORDS[k]} {v:g}" if not isinstance(v, str) else f"{WORDS[k]} {v}" for k, v in variant.items())
        summary.append(
            {"sheet": number, "name": layout.name if variant else sheet_by(settings, number)["name"], "recipe": told or sheet_by(settings, number)["recipe"],
             "was": None if was is None else was["coverage"], "coverage": now["coverage"], "density": now["density"],
             "seconds": round(time.monotonic() - begin, 1)}
        )  # fmt: skip
        if stopped:
            break
        if variant and now["density"] is not None and (best is None or now["density"] > best[0]):
            best = now["density"], layout
    if best is not None and not aside and head.kept.get(str(best[1].sheet)) != best[1].pk:
        # Of several recipes the sharpest layout is kept; the others stay as tries.
        again = kept_layout(project, head, layout, best[1], lambda: False)
        with doing("keep", {"sheets": [best[1].sheet]}):
            land(project, head, again, f"Keep {best[1].name}", kept=head.kept | {str(best[1].sheet): best[1].pk})
    job.result = {"layout": layout.pk, "summary": summary}
    if variants != [{}] and any(of_sheet(settings, n)["texel_grid"] for n in wanted):
        work.notes.append("The recipes were tried without laying edges on whole texels: pack once more for that.")
    if aside:
        work.notes.append(
            f"The project was changed while this was packing, so the layout is not on the table: it is kept as {layout.name}, among the tries below."
        )
    if work.notes:
        job.result["note"] = " ".join(work.notes)


def _pack_one(
    work: _Work, project: Project, head: Snapshot, before: Layout, number: int, which: str
) -> tuple[Snapshot, Layout, bool, bool]:
    """Pack a sheet and make the result the project's layout; returns the new snapshot and layout, whether it was stopped, and whether the result
    is a try alone, since the project changed meanwhile."""
    job, chosen, parts, settings = work.job, work.chosen, work.parts, work.settings
    begin = time.monotonic()
    flat = of_sheet(settings, number) | work.variant
    recipe = recipe_of(flat)
    name = f" {flat['sheet']['name']}{which}" if len(sheets(settings)) > 1 or which else ""
    far: dict[str, Any] = {
        "text": f"Packing{name}",
        "seconds": 0.0,
        "of": recipe.seconds if recipe.passes is None else 0.0,
        "sheet": number,
    }
    report_progress(job, far)
    old = arrays_of(before, "transforms")
    present = parts.whole(old)
    only = sheet_numbers(chosen, parts, settings) == number

    def progress(transforms: list[Floats], packing: Packing) -> None:
        far.update(coverage=packing.coverage, seconds=time.monotonic() - begin)
        report_progress(job, far, pack_arrays(parts.merged(old, transforms)))

    flag = StopFlag(job)

    def stop() -> bool:
        # The time goes on while nothing better is found.
        if time.monotonic() - begin - far["seconds"] > 0.7:
            far["seconds"] = time.monotonic() - begin
            report_progress(job, far)
        return flag()

    rules = replace(rules_of(chosen, parts, settings, flat, only), go_on=bool(job.params.get("go_on")))
    ruled, rest = some_only(job.params, parts, rules, flat, present)
    weight = sizes(chosen, parts, settings, flat, present)

    def run(recipe: Recipe) -> SheetPacking:
        return pack_sheet(parts.pieces, recipe, bool(flat["keep_ratios"]), progress, stop, weight, ruled, present)

    like = None if rest is None or recipe.density is not None or recipe.fill == "each" else density_of(parts, weight, flat, rest, present)
    try:
        packed = run(recipe if like is None else replace(recipe, density=like))
    except DoesNotFit:
        if like is None:
            raise
        packed = run(recipe)
        work.notes.append(f"There was no room for it at the {plain(like)} px/m of the rest: it is packed as sharp as there is room.")
    # The table shows what was found while it is measured once more.
    transforms = parts.merged(old, packed.transforms)
    report_progress(job, far | {"text": f"Proving{name}", "coverage": packed.result.best.coverage}, pack_arrays(transforms))
    rows = np.concatenate(packed.transforms)
    figures = {
        "spans": spanning(parts, rows, only, flat), "strays": strays(parts, rows, rules),
        "seconds": round(time.monotonic() - begin, 2), "seed": recipe.seed, "passes": packed.result.passes, "stopped": packed.result.stopped,
        **filled(parts, packed, only, weight, flat),
        "limiting": report.limiting(parts.pieces, packed.transforms, parts.pieced(only)) + report.shrunk(parts.pieces, packed.shrunk),
    }  # fmt: skip
    changed = dict[str, Any]()
    if flat["texel_grid"]:
        laid = on_texels(job, head, settings, flat, parts, rows, packed.laid, transforms)
        transforms, settings, changed, figures = laid.transforms, laid.settings, laid.changes, laid.renamed(figures)
        work.take(choose(laid.snapshot, whole=True), settings)
        chosen, parts = work.chosen, work.parts
        only, rows = sheet_numbers(chosen, parts, settings) == number, parts.whole(transforms)
    layout = Layout(project=project, kind="pack", channel=before.channel, recipe=settings | {k: flat[k] for k in IN_RECIPE}, sheet=number)
    if work.variant:
        layout.recipe |= {"recipes": {}, "sheets": [s | {"recipe": ""} for s in sheets(settings)]}
    made_from = inputs_of(laid.snapshot if changed else head)[number]
    layout.inputs = made_from | {"recipe": made_from["recipe"] | {k: v for k, v in work.variant.items() if k in made_from["recipe"]}}
    layout.figures = figures
    layout.transforms, layout.members = pack_arrays(transforms), pack_arrays(parts.masks(transforms, only))
    measure(layout, parts, rows, settings, None if changed else before)
    if changed:
        layout.figures["sheets"][str(number)]["grid"] |= {"change": laid.change}
    coverage = layout.figures["sheets"][str(number)]["coverage"]
    with transaction.atomic():
        project = project_now(project.pk)
        layout.name = next_name(project)
        layout.save()
        if project.head_id != head.pk:
            return head, layout, True, True
        kept = head.kept | {str(number): layout.pk}
        with doing("pack", {"sheets": [number], **{k: job.params.get(k) for k in ("tiles", "islands", "go_on")}}):
            after = advance(project, f"Pack{name}, coverage {coverage:.1%}", head, layout, kept=kept, **changed)
    return after, layout, packed.result.stopped, False


KINDS = (Kind("pack", run_pack, Pack, keeps_best=True),)
