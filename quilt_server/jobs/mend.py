"""Repairs, evening and moves of chosen islands: each is one undo step with a layout, its proof and its findings."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_core.arrange.sheet import leaders_of
from quilt_core.arrays import pack_arrays
from quilt_core.edit import repairs
from quilt_core.edit.settle import grow, settle
from quilt_core.errors import QuiltError
from quilt_core.measure.lie import twin_pairs
from quilt_core.model.scene import Floats
from quilt_core.model.similarity import composed
from quilt_core.model.tiles import corners_of
from quilt_core.uv.analysis import IDENTITY, MeshIslands
from quilt_core.uv.twins import follow, grouped

from ..projects.measuring import lie_of, measure
from ..projects.models import Job, Layout, Snapshot
from ..projects.opened import arrays_of
from ..projects.reading import Chosen, Parts, choose, parts_of, regions_of, sheet_numbers, twin_groups, weights
from ..projects.sheets import grid, of_sheet, sheets
from ..projects.state import readings, settings_of
from ..projects.tries import kept_layout
from .landing import head_of, land
from .progress import StopFlag, report_progress

LABELS = {
    "flip": "Flip mirrored islands back", "into_tile": "Bring islands into the tile", "straighten": "Straighten islands", "even": "Even the density",
    "move": "Move by hand", "settle": "Settle in the nearest free place", "grow": "Grow as far as it fits",
}  # fmt: skip
MOST_MOVED = 200_000


def check(params: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a repair, as far as they can be told to be wrong at once.

    Raises
    ------
    QuiltError : an unknown repair, way, density or choice of islands
    """
    action, way, density = (params.get(k) for k in ("action", "way", "density"))
    if action not in LABELS:
        raise QuiltError(f"'{action}' is not a repair: {', '.join(LABELS)}.")
    if action == "straighten" and way not in ("edges", "box", "up"):
        raise QuiltError("Islands are straightened by their edges, by their box, or by up.")
    good = isinstance(density, int | float) and not isinstance(density, bool) and math.isfinite(density) and 0 < density < 1e9
    if action == "even" and not good:
        raise QuiltError("The density must be greater than 0 px/m.")
    return {"action": action, "way": way, "density": density, "islands": islands_of(params), **_moves(params)}


def islands_of(params: dict[str, Any]) -> dict[str, list[int]] | None:
    """The islands that work is for, as numbers for each file; None for all.

    Raises
    ------
    QuiltError : something else
    """
    chosen = params.get("islands")
    whole = isinstance(chosen, dict) and all(
        k.isdigit() and isinstance(v, list) and all(isinstance(i, int) for i in v) for k, v in chosen.items()
    )
    if chosen is not None and not whole:
        raise QuiltError("Islands are chosen as numbers for each file.")
    return chosen


def _moves(params: dict[str, Any]) -> dict[str, Any]:
    """The rows of a move by hand: file to [[island, angle, mirror, scale, u, v], ...]."""
    if params.get("action") != "move":
        return {}
    rows, label = params.get("rows"), params.get("label", "")
    if not isinstance(rows, dict) or not all(k.isdigit() and isinstance(v, list) for k, v in rows.items()):
        raise QuiltError("A move names the islands of each file.")
    count = 0
    for row in (r for v in rows.values() for r in v):
        count += 1
        numbers = isinstance(row, list) and len(row) == 6 and all(isinstance(x, int | float) and math.isfinite(x) for x in row)
        if not numbers or row[2] not in (-1, 1) or not 1e-9 < row[3] < 1e9 or max(abs(row[4]), abs(row[5])) > 1e6:
            raise QuiltError("An island cannot be put there: its place, size or turn is no usable number.")
    if count > MOST_MOVED:
        raise QuiltError(f"At most {MOST_MOVED:,} islands are moved at once.")
    return {"rows": rows, "label": str(label)[:80]}


def _repaired(
    params: dict[str, Any], settings: dict[str, Any], chosen: list[Chosen], parts: Parts, rows: Floats, mask: NDArray[np.bool_]
) -> Floats:
    """The layout (n, 5) after a repair of the islands in `mask` (n,), sheet by sheet since margins and map sizes are a sheet's."""
    on, weight = sheet_numbers(chosen, parts, settings), weights(chosen, parts, settings)
    out = rows.copy()
    for s in sheets(settings):
        here = mask & (on == s["id"])
        if not here.any():
            continue
        flat = of_sheet(settings, s["id"])
        px = grid(flat).px_of(_boxes(parts, out)) if s["tile_px"] else np.full(len(rows), float(flat["map_px"]))
        split = zip(
            parts.pieces,
            parts.pieced(out),
            parts.pieced(here),
            parts.pieced(weight),
            parts.pieced(np.nan_to_num(px, nan=float(flat["map_px"]))),
            strict=True,
        )
        out = np.concatenate([_one(params, flat, *p) if p[2].any() else p[1] for p in split])
    return out


def _one(
    params: dict[str, Any], flat: dict[str, Any], piece: MeshIslands, table: Floats, mask: NDArray[np.bool_], weight: Floats, px: Floats
) -> Floats:
    action = params["action"]
    if action == "flip":
        return repairs.flip_back(piece, table, mask)
    if action == "into_tile":
        return repairs.into_tile(piece, table, mask, float(flat["margin_px"]), grid(flat))
    if action == "straighten":
        return repairs.straighten(piece, table, mask, params["way"])
    return repairs.even(piece, table, mask, params["density"], px, weight)


def _boxes(parts: Parts, rows: Floats) -> Floats:
    return np.asarray(shapely.bounds(regions_of(parts, rows)))


def _moved(params: dict[str, Any], parts: Parts, rows: Floats) -> Floats:
    """The layout (n, 5) moved on by the similarities that a move by hand gives; islands that are left out now stay."""
    by = np.tile(IDENTITY, (len(rows), 1))
    for (file, first, count), at in zip(parts.places, np.cumsum([0, *(c for _, _, c in parts.places)])[:-1], strict=True):
        for island, *row in params["rows"].get(str(file), []):
            if first <= island < first + count:
                by[at + int(island) - first] = row
    changed = (by != IDENTITY).any(axis=1)
    return np.where(changed[:, None], composed(by, rows), rows)


def _settled(params: dict[str, Any], settings: dict[str, Any], chosen: list[Chosen], parts: Parts, rows: Floats) -> Floats:
    """The layout (n, 5) with the chosen islands, as one, brought to the nearest free place of their tile, or made as large as fits."""
    mask = parts.named(params["islands"]) & ~np.asarray(shapely.is_empty(regions_of(parts, rows)))
    on = sheet_numbers(chosen, parts, settings)
    if not mask.any() or params["islands"] is None:
        raise QuiltError("Select the islands that this is for.")
    if len(np.unique(on[mask])) > 1:
        raise QuiltError("These islands lie on several sheets. Select those of one sheet.")
    flat = of_sheet(settings, int(on[mask][0]))
    tiles, regions = grid(flat), regions_of(parts, rows)
    box = shapely.total_bounds(regions[mask])
    corner = corners_of(box[None, :])
    if not tiles.holds(corner)[0]:
        corner = np.clip(corner, 0, [[tiles.columns - 1, tiles.rows - 1]])
    px = float(tiles.px_at(corner + 0.5)[0])
    others = regions[~mask & (on == on[mask][0]) & ~np.asarray(shapely.is_empty(regions))]
    place, gap, margin = (float(corner[0, 0]), float(corner[0, 1])), flat["padding_px"] / px, flat["margin_px"] / px
    by = np.tile(IDENTITY, (int(mask.sum()), 1))
    if params["action"] == "settle":
        shift = settle(regions[mask], others, place, gap, margin)
        if shift is None:
            raise QuiltError("There is no free place of this size in the tile. Make the islands smaller, or move others first.")
        by[:, 3:] = shift
    else:
        k = grow(regions[mask], others, place, gap, margin)
        if k <= 0:
            raise QuiltError("These islands have no room here at any size. Settle them first.")
        by[:, 2] = k
        by[:, 3:] = (1 - k) * np.array([0.5 * (box[0] + box[2]), 0.5 * (box[1] + box[3])])
    out = rows.copy()
    out[mask] = composed(by, rows[mask])
    return out


def run_mend(job: Job) -> None:
    """Do a repair on the chosen islands, or on all where none are named."""
    project, head, before = head_of(job)
    params, settings, stop = job.params, settings_of(head), StopFlag(job)
    label = params.get("label") or LABELS[params["action"]]
    report_progress(job, {"text": label})
    chosen = choose(head, whole=True)
    parts = parts_of(chosen)
    old = arrays_of(before, "tables")
    rows = parts.whole(old)
    if params["action"] == "move":
        new = _moved(params, parts, rows)
    elif params["action"] in ("settle", "grow"):
        new = _settled(params, settings, chosen, parts, rows)
    else:
        new = _repaired(params, settings, chosen, parts, rows, parts.named(params["islands"]))
    stop.raise_if()
    groups = twin_groups(parts, settings)
    if params["action"] != "flip" and (groups >= 0).any():
        new = follow(rows, new, leaders_of(parts.pieces, rows, groups))
    moved = int((np.abs(new - rows) > 1e-12).any(axis=1).sum())
    job.result = {"changed": moved}
    if moved:
        layout = Layout(
            project=project, kind="mend", channel=before.channel, recipe=settings, tables=pack_arrays(parts.merged(old, parts.pieced(new)))
        )
        measure(layout, parts, new, settings, before, stop)
        land(project, head, layout, f"{label} ({moved})")


def run_settings(job: Job) -> None:
    """Take over settings that change what lies with what, or another choice of objects: sheets, their tiles, twins, what is left out."""
    project, head, before = head_of(job)
    settings = job.params.get("settings") or settings_of(head)
    known = {f"{r.file_id}/{n}" for r in readings(head) for n in range(len(r.objects_info))}
    left_out = [k for k in job.params.get("left_out", head.left_out) if k in known]
    report_progress(job, {"text": "Measuring again"})
    parts = parts_of(choose(Snapshot(files=head.files, left_out=left_out, settings=settings), whole=True))
    layout = Layout(
        project=project, kind="mend", channel=before.channel, recipe=before.recipe, tables=bytes(before.tables), name=before.name
    )
    measure(layout, parts, parts.whole(arrays_of(before, "tables")), settings, before, StopFlag(job))
    ids = {str(s["id"]) for s in sheets(settings)}
    kept = {k: v for k, v in head.kept.items() if k in ids}
    land(project, head, layout, job.params["label"], settings=settings, left_out=left_out, kept=kept)


def run_keep(job: Job) -> None:
    """Keep a try: its islands take the places that it gave them, the rest of the layout stays. One undo step."""
    project, head, before = head_of(job)
    report_progress(job, {"text": "Laying the try out"})
    try_ = Layout.objects.filter(pk=job.params["layout"], project=project, kind="pack").first()
    if try_ is None:
        raise QuiltError("This try is not there any more. Choose another one.")
    layout = kept_layout(project, head, before, try_, StopFlag(job))
    land(project, head, layout, f"Keep {try_.name}", kept=head.kept | {str(try_.sheet): try_.pk})


def run_twins(job: Job) -> None:
    """Mark islands that lie exactly on each other as twins, or take the mark off; among the chosen islands, or all."""
    project, head, before = head_of(job)
    settings = settings_of(head)
    report_progress(job, {"text": "Looking for twins"})
    parts = parts_of(choose(head, whole=True))
    mask, names = parts.named(job.params["islands"]), parts.names()
    touched = {names[i] for i in np.flatnonzero(mask)}
    groups = [[k for k in g if k not in touched] for g in settings["twins"]]
    groups = [g for g in groups if len(g) > 1]
    rows = parts.whole(arrays_of(before, "tables"))
    if job.params["on"]:
        pairs = _twin_pairs(before, parts, rows, mask)
        known = [parts.numbers(g) for g in groups]
        old = [(int(g[0]), int(k)) for g in known for k in g[1:] if g[0] >= 0 and k >= 0]
        label = grouped(np.concatenate([pairs, np.array(old, np.int64).reshape(-1, 2)]), parts.count)
        groups = [[names[i] for i in np.flatnonzero(label == g)] for g in np.unique(label[label >= 0])]
        groups = [g for g in groups if len(g) > 1]
    count = sum(len(g) for g in groups)
    was = sum(len(g) for g in settings["twins"])
    job.result = {"changed": abs(count - was)}
    if groups == settings["twins"]:
        return
    new = settings | {"twins": groups}
    layout = Layout(project=project, kind="mend", channel=before.channel, recipe=new, tables=bytes(before.tables))
    measure(layout, parts, rows, new, before, StopFlag(job))
    land(project, head, layout, "Mark twins" if job.params["on"] else "Unmark twins", settings=new)


def _twin_pairs(before: Layout, parts: Parts, rows: Floats, mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Pairs (k, 2) of islands that cover the same texels, one of them at least among `mask` (n,)."""
    found = lie_of(before)
    if found is None or found[0].count != parts.count:
        return np.zeros((0, 2), np.int64)
    # The short lists of a heap do not hold every pair, so the islands that have twins are compared again.
    which = np.flatnonzero(found[0].twins > 0)
    pairs = twin_pairs(parts.shapes, found[0], rows, which)
    return pairs[mask[pairs].any(axis=1)]
