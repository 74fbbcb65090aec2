"""Packing: the result is a try, and the project's new layout."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import Any

import numpy as np
from django.db import transaction

from quilt_core import report
from quilt_core.errors import QuiltError
from quilt_core.faults.layout import prove
from quilt_core.pack import Packing, Recipe, explain
from quilt_core.scene import Floats
from quilt_core.sheet import pack_sheet, sized_regions

from ..projects.geometry import from_npz, to_npz
from ..projects.models import Job, Layout, Project, Snapshot
from ..projects.reading import choose, measure, rules, sheet_of, weights
from ..projects.state import advance, settings_of
from .progress import StopFlag, report_progress

_TRIAL = 2.0  # seconds of each trial of an explanation


def head_of(job: Job) -> tuple[Project, Snapshot, Layout]:
    """The project with the snapshot that a job was asked for on, and its layout.

    Raises
    ------
    QuiltError : the project moved on, or has no layout
    """
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.pk != job.params["base"] or head.layout is None:
        raise QuiltError("The project changed since this was asked for. Do it again.")
    return project, head, head.layout


def recipe_of(snapshot: Snapshot) -> Recipe:
    """The packer's recipe that a snapshot's settings ask for."""
    s = settings_of(snapshot)
    return Recipe(
        int(s["map_px"]), float(s["padding_px"]), float(s["margin_px"]), s["rotate"], 1, 1,
        float(s["density"]) if s["hold"] else None, float(s["seconds"]), None, int(s["seed"]),
    )  # fmt: skip


def run_pack(job: Job) -> None:
    """Even and pack all chosen objects."""
    project, head, before = head_of(job)
    begin = time.monotonic()
    recipe, settings = recipe_of(head), settings_of(head)
    far: dict[str, Any] = {"text": "Reading the islands", "seconds": 0.0, "of": recipe.seconds}
    report_progress(job, far)
    chosen = choose(head)
    sheet = sheet_of(chosen)
    old = from_npz(before.tables)

    def progress(tables: list[Floats], packing: Packing) -> None:
        far.update(text="Packing", coverage=packing.coverage, seconds=time.monotonic() - begin)
        report_progress(job, far, to_npz(sheet.merged(old, tables)))

    flag = StopFlag(job)

    def stop() -> bool:
        # The time goes on while nothing better is found.
        if time.monotonic() - begin - far["seconds"] > 0.7:
            far["seconds"] = time.monotonic() - begin
            report_progress(job, far)
        return flag()

    weight = np.concatenate(weights(chosen, sheet, settings)) if sheet.pieces else None
    ruled = rules(chosen, sheet, settings)
    present = np.concatenate(sheet.split(old)) if sheet.pieces else None
    packed = pack_sheet(sheet.pieces, recipe, bool(settings["keep_ratios"]), progress, stop, weight, ruled, present)
    report_progress(job, far | {"text": "Proving the layout", "coverage": packed.result.best.coverage})
    proof = prove(sheet.pieces, packed.tables, recipe.map_px, (1, 1))
    figures = report.pack_report(sheet.pieces, proof, packed, recipe.map_px, 1, time.monotonic() - begin, recipe.seed, packed.tables)
    layout = Layout(project=project, kind="pack", channel=before.channel, figures=figures, recipe=settings)
    layout.tables = to_npz(sheet.merged(old, packed.tables))
    measure(layout, sheet, packed.tables, recipe.map_px)
    with transaction.atomic():
        project = Project.objects.select_for_update().get(pk=project.pk)
        if project.head_id != head.pk:
            raise QuiltError("The project changed while this was packing. The layout was not kept: pack again.")
        layout.name = f"Try {project.layouts.filter(kind='pack').count() + 1}"
        layout.save()
        advance(project, f"Pack, coverage {figures['coverage']:.1%}", head, layout)
        job.result = {"layout": layout.pk}


def run_explain(job: Job) -> None:
    """Try what would let the islands be larger; the job's result holds what limits them, and the hints."""
    _, head, before = head_of(job)
    settings = settings_of(head)
    chosen = choose(head)
    sheet = sheet_of(chosen)
    weight = np.concatenate(weights(chosen, sheet, settings)) if sheet.pieces else None
    recipe = replace(recipe_of(head), density=None)
    present = np.concatenate(sheet.split(from_npz(before.tables))) if sheet.pieces else None
    regions, real, _ = sized_regions(sheet.pieces, recipe, bool(settings["keep_ratios"]), weight, present)
    ruled = rules(chosen, sheet, settings | {"held": []})

    def tell(done: int, of: int) -> None:
        report_progress(job, {"text": f"Trying what would help, {done + 1} of {of}"})

    report_progress(job, {"text": "Measuring what there is"})
    found = explain(regions, recipe, ruled.of(real) if ruled else None, _TRIAL, StopFlag(job), tell)
    owner = [(file, first + i) for file, first, count in sheet.places for i in range(count)]

    def named(islands: list[int]) -> list[tuple[int, int]]:
        return [owner[int(real[i])] for i in islands]

    job.result = {
        "long": named(found.long), "large": named(found.large),
        "hints": [{"kind": h.kind, "islands": named(h.islands), "gain": round(h.gain, 4), "value": h.value} for h in found.hints],
    }  # fmt: skip
