"""Repairs and evening of chosen islands: each is one undo step with a layout, its proof and its findings."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from quilt_core.errors import QuiltError
from quilt_core.mend import repairs
from quilt_core.scene import Floats
from quilt_core.sheet import MeshIslands

from ..projects.geometry import from_npz, to_npz
from ..projects.models import Job, Layout, Project
from ..projects.reading import choose, measure, sheet_of, weights
from ..projects.state import advance, settings_of
from .packing import head_of
from .progress import report_progress

LABELS = {
    "flip": "Flip mirrored islands back", "into_tile": "Bring islands into the tile", "straighten": "Straighten islands", "even": "Even the density",
}  # fmt: skip
Repair = Callable[[MeshIslands, Floats, NDArray[np.bool_], Floats], Floats]


def check(params: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a repair, as far as they can be told to be wrong at once.

    Raises
    ------
    QuiltError : an unknown repair, way, density or choice of islands
    """
    action, way, density, chosen = (params.get(k) for k in ("action", "way", "density", "islands"))
    if action not in LABELS:
        raise QuiltError(f"'{action}' is not a repair: {', '.join(LABELS)}.")
    if action == "straighten" and way not in ("edges", "box", "up"):
        raise QuiltError("Islands are straightened by their edges, by their box, or by up.")
    good = isinstance(density, int | float) and not isinstance(density, bool) and math.isfinite(density) and 0 < density < 1e9
    if action == "even" and not good:
        raise QuiltError("The density must be greater than 0 px/m.")
    whole = isinstance(chosen, dict) and all(
        k.isdigit() and isinstance(v, list) and all(isinstance(i, int) for i in v) for k, v in chosen.items()
    )
    if chosen is not None and not whole:
        raise QuiltError("Islands are chosen as numbers for each file.")
    return {"action": action, "way": way, "density": density, "islands": chosen}


def _repair(params: dict[str, Any], settings: dict[str, Any]) -> Repair:
    map_px = float(settings["map_px"])
    action = params["action"]
    if action == "flip":
        return lambda piece, table, chosen, _: repairs.flip_back(piece, table, chosen)
    if action == "into_tile":
        return lambda piece, table, chosen, _: repairs.into_tile(piece, table, chosen, settings["margin_px"] / map_px)
    if action == "straighten":
        return lambda piece, table, chosen, _: repairs.straighten(piece, table, chosen, params["way"])
    return lambda piece, table, chosen, weight: repairs.even(piece, table, chosen, params["density"], map_px, weight)


def run_mend(job: Job) -> None:
    """Do a repair on the chosen islands, or on all where none are named."""
    project, head, before = head_of(job)
    params, settings = job.params, settings_of(head)
    label = LABELS[params["action"]]
    report_progress(job, {"text": label})
    chosen = choose(head)
    sheet = sheet_of(chosen)
    old = from_npz(before.tables)
    tables = sheet.split(old)
    repair, wanted = _repair(params, settings), params["islands"]
    out, moved = [], 0
    for piece, table, (file, first, count), weight in zip(
        sheet.pieces, tables, sheet.places, weights(chosen, sheet, settings), strict=True
    ):
        mask = np.ones(count, bool)
        if wanted is not None:
            mask = np.isin(np.arange(first, first + count), wanted.get(str(file), []))
        new = repair(piece, table, mask, weight) if mask.any() else table
        moved += int((np.abs(new - table) > 1e-12).any(axis=1).sum())
        out.append(new)
    job.result = {"changed": moved}
    if not moved:
        return
    report_progress(job, {"text": "Measuring again"})
    layout = Layout(project=project, kind="mend", channel=before.channel, recipe=settings, tables=to_npz(sheet.merged(old, out)))
    measure(layout, sheet, out, int(settings["map_px"]))
    with transaction.atomic():
        project = Project.objects.select_for_update().get(pk=project.pk)
        if project.head_id != head.pk:
            raise QuiltError("The project changed meanwhile. Nothing was done: do it again.")
        layout.save()
        advance(project, f"{label} ({moved})", head, layout)
