"""Packing: the result is a try of a sheet, and the project's new layout."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from quilt_core.arrange.sheet import SheetRules, pack_sheet, sized_regions
from quilt_core.arrays import pack_arrays
from quilt_core.delivery import report
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats
from quilt_core.pack import Packing, Recipe, Rules, explain

from ..projects.figures import sheet_rows
from ..projects.measuring import measure
from ..projects.models import Job, Layout, Project, Snapshot
from ..projects.opened import arrays_of
from ..projects.reading import Chosen, Parts, choose, each, kinds_of_islands, parts_of, sheet_numbers, twin_groups, weights
from ..projects.sheets import IN_RECIPE, grid, of_sheet, sheet_by, sheets
from ..projects.stale import WORDS, inputs_of
from ..projects.state import advance, settings_of
from ..projects.tries import kept_layout
from .landing import head_of, land
from .progress import StopFlag, report_progress

_TRIAL = 2.0  # seconds of each trial of an explanation


def recipe_of(flat: dict[str, Any]) -> Recipe:
    """The packer's recipe that the settings of a sheet ask for."""
    tiles = grid(flat)
    sizes = tiles.sizes if tiles.tile_px else None
    return Recipe(
        int(flat["map_px"]), float(flat["padding_px"]), float(flat["margin_px"]), flat["rotate"], tiles.columns, tiles.rows,
        float(flat["density"]) if flat["hold"] else None, float(flat["seconds"]), None, int(flat["seed"]), bool(flat["mirror"]), sizes,
        flat["fill"] if tiles.columns * tiles.rows > 1 and not flat["hold"] else "common",
    )  # fmt: skip


def rules_of(chosen: list[Chosen], parts: Parts, settings: dict[str, Any], flat: dict[str, Any], only: NDArray[np.bool_]) -> SheetRules:
    """The rules for the islands `only` (n,) of a sheet that the settings hold."""
    held = each(chosen, parts, dict.fromkeys(settings["held"], True), False)
    turns = each(chosen, parts, settings["turns"], flat["rotate"]) if settings["turns"] else None
    sheet = flat["sheet"]
    bunch, strict = _bunches(chosen, parts, settings)
    return SheetRules(
        None if turns is None else tuple(turns), np.array(held, bool) if settings["held"] else None, twin_groups(parts, settings), only,
        bunch, strict, frozenset(int(t) for t in sheet["held_tiles"]), tuple((int(f["tile"]), tuple(f["box"])) for f in sheet["free"]),
        kinds_of_islands(chosen, parts, "material")[0] if settings["apart_px"] > 0 else None, float(settings["apart_px"]),
    )  # fmt: skip


def _bunches(chosen: list[Chosen], parts: Parts, settings: dict[str, Any]) -> tuple[NDArray[np.int64] | None, frozenset[int]]:
    """Bunch (n,) of every island and which of them are strict: the named ones, and where that is wanted each object's rest."""
    named, automatic = settings["bunches"], settings["bunch_objects"]
    if not (named or automatic):
        return None, frozenset()
    group = np.array(each(chosen, parts, {k: n for n, b in enumerate(named) for k in b["members"]}, -1), np.int64)
    strict = {n for n, b in enumerate(named) if b["strict"]}
    if automatic:
        owner = np.repeat(np.arange(len(parts.places)), [count for _, _, count in parts.places]) + len(named)
        if automatic == "strict":
            strict |= set(np.unique(owner).tolist())
        group = np.where(group < 0, owner, group)
    return group, frozenset(strict)


@dataclass
class _Work:
    """What packing one sheet after the other works on."""

    job: Job
    chosen: list[Chosen]
    parts: Parts
    settings: dict[str, Any]
    variant: dict[str, Any] = field(default_factory=dict)


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
        work.variant = variant
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
        land(project, head, again, f"Keep {best[1].name}", kept=head.kept | {str(best[1].sheet): best[1].pk})
    job.result = {"layout": layout.pk, "summary": summary}
    if aside:
        job.result["note"] = (
            f"The project was changed while this was packing, so the layout is not on the table: it is kept as {layout.name}, among the tries below."
        )


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
    far: dict[str, Any] = {"text": f"Packing{name}", "seconds": 0.0, "of": recipe.seconds, "sheet": number}
    report_progress(job, far)
    old = arrays_of(before, "tables")
    present = parts.whole(old)
    only = sheet_numbers(chosen, parts, settings) == number

    def progress(tables: list[Floats], packing: Packing) -> None:
        far.update(coverage=packing.coverage, seconds=time.monotonic() - begin)
        report_progress(job, far, pack_arrays(parts.merged(old, tables)))

    flag = StopFlag(job)

    def stop() -> bool:
        # The time goes on while nothing better is found.
        if time.monotonic() - begin - far["seconds"] > 0.7:
            far["seconds"] = time.monotonic() - begin
            report_progress(job, far)
        return flag()

    ruled = replace(rules_of(chosen, parts, settings, flat, only), go_on=bool(job.params.get("go_on")))
    packed = pack_sheet(parts.pieces, recipe, bool(flat["keep_ratios"]), progress, stop, weights(chosen, parts, settings), ruled, present)
    # The table shows what was found while it is measured once more.
    tables = parts.merged(old, packed.tables)
    report_progress(job, far | {"text": f"Proving{name}", "coverage": packed.result.best.coverage}, pack_arrays(tables))
    layout = Layout(project=project, kind="pack", channel=before.channel, recipe=settings | {k: flat[k] for k in IN_RECIPE}, sheet=number)
    if work.variant:
        layout.recipe |= {"recipes": {}, "sheets": [s | {"recipe": ""} for s in sheets(settings)]}
    made_from = inputs_of(head)[number]
    layout.inputs = made_from | {"recipe": made_from["recipe"] | {k: v for k, v in work.variant.items() if k in made_from["recipe"]}}
    layout.figures = {
        "seconds": round(time.monotonic() - begin, 2), "seed": recipe.seed, "passes": packed.result.passes, "stopped": packed.result.stopped,
        "limiting": report.limiting(parts.pieces, packed.tables, parts.pieced(only)),
    }  # fmt: skip
    layout.tables, layout.members = pack_arrays(tables), pack_arrays(parts.masks(tables, only))
    rows = np.concatenate(packed.tables)
    measure(layout, parts, rows, settings, before)
    coverage = layout.figures["sheets"][str(number)]["coverage"]
    with transaction.atomic():
        project = Project.objects.select_for_update().get(pk=project.pk)
        layout.name = f"Try {project.layouts.filter(kind='pack').count() + 1}"
        layout.save()
        if project.head_id != head.pk:
            return head, layout, True, True
        kept = head.kept | {str(number): layout.pk}
        after = advance(project, f"Pack{name}, coverage {coverage:.1%}", head, layout, kept=kept)
    return after, layout, packed.result.stopped, False


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
    present = parts.whole(arrays_of(before, "tables"))
    regions, real, _ = sized_regions(
        parts.pieces, recipe, bool(flat["keep_ratios"]), weights(chosen, parts, settings), present, None, only
    )  # fmt: skip
    turns = each(chosen, parts, settings["turns"], flat["rotate"]) if settings["turns"] else None
    ruled = None if turns is None else Rules(rotate=tuple(turns[i] for i in real))

    def tell(done: int, of: int) -> None:
        report_progress(job, {"text": f"Trying what would help, {done + 1} of {of}"})

    report_progress(job, {"text": "Measuring what there is"})
    found = explain(regions, recipe, ruled, _TRIAL, StopFlag(job), tell)
    owner = [(file, first + i) for file, first, count in parts.places for i in range(count)]

    def named(islands: list[int]) -> list[tuple[int, int]]:
        return [owner[int(real[i])] for i in islands]

    job.result = {
        "long": named(found.long), "large": named(found.large), "sheet": number,
        "hints": [{"kind": h.kind, "islands": named(h.islands), "gain": round(h.gain, 4), "value": h.value} for h in found.hints],
    }  # fmt: skip
