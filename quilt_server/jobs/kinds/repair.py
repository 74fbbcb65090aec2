"""Repairs, evening and moves of chosen islands: each is one undo step with a layout, its proof and its findings."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import StrictStr

from quilt_core.arrange.sheet import leaders_of
from quilt_core.arrays import pack_arrays
from quilt_core.edit import repairs
from quilt_core.edit.settle import grow, settle
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats
from quilt_core.model.similarity import composed
from quilt_core.model.tiles import corners_of
from quilt_core.uv.analysis import IDENTITY, MeshIslands
from quilt_core.uv.twins import follow

from ...projects.measuring import measure
from ...projects.models import Job, Layout
from ...projects.opened import arrays_of
from ...projects.reading import Chosen, Parts, choose, parts_of, regions_of, sheet_numbers, twin_groups, weights
from ...projects.sheets import grid, of_sheet, sheets
from ...projects.state import settings_of
from ..kind import Asked, FileNumber, Islands, Kind, Number, Real
from ..landing import head_of, land
from ..progress import StopFlag, say
from ..rows import ORDERS, rowed

LABELS = {
    "flip": "Flip mirrored islands back", "into_tile": "Bring islands into the tile", "straighten": "Straighten islands", "even": "Even the density",
    "move": "Move by hand", "settle": "Settle in the nearest free place", "grow": "Grow as far as it fits",
    "rows": "Lay out in rows",
}  # fmt: skip
MOST_MOVED = 200_000


class Repair(Asked):
    """The action, its way or density where it has one, the islands (None for all), and for a move by hand file to
    [[island, angle, mirror, scale, u, v], ...]."""

    words: ClassVar = {
        "rows": "An island cannot be put there: its place, size or turn is no usable number.",
        "density": "The density must be greater than 0 px/m.",
    }
    action: StrictStr = ""
    way: StrictStr | None = None
    density: Real | None = None
    islands: Islands = None
    rows: dict[FileNumber, list[list[Real]]] | None = None
    label: StrictStr = ""
    edges: dict[FileNumber, list[list[Number]]] | None = None

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if self.action not in LABELS:
            raise QuiltError(f"'{self.action}' is not a repair: {', '.join(LABELS)}.")
        if self.action == "straighten" and self.way not in ("edges", "box", "up"):
            raise QuiltError("Islands are straightened by their edges, by their box, or by up.")
        if self.action == "even" and not (self.density is not None and 0 < self.density < 1e9):
            raise QuiltError("The density must be greater than 0 px/m.")
        if self.action == "rows" and (self.way not in ORDERS or any(len(r) != 3 for v in (self.edges or {}).values() for r in v)):
            raise QuiltError("Rows go by object, by size, or along a path of picked edges.")
        more = {"edges": self.edges} if self.action == "rows" else {}
        return {"action": self.action, "way": self.way, "density": self.density, "islands": self.islands, **more, **self._moves()}

    def _moves(self) -> dict[str, Any]:
        if self.action != "move":
            return {}
        if self.rows is None:
            raise QuiltError("A move names the islands of each file.")
        rows = [r for v in self.rows.values() for r in v]
        for row in rows:
            if len(row) != 6 or row[2] not in (-1, 1) or not 1e-9 < row[3] < 1e9 or max(abs(row[4]), abs(row[5])) > 1e6:
                raise QuiltError("An island cannot be put there: its place, size or turn is no usable number.")
        if len(rows) > MOST_MOVED:
            raise QuiltError(f"At most {MOST_MOVED:,} islands are moved at once.")
        return {"rows": self.rows, "label": self.label[:80]}


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
    params: dict[str, Any],
    flat: dict[str, Any],
    piece: MeshIslands,
    similarities: Floats,
    mask: NDArray[np.bool_],
    weight: Floats,
    px: Floats,
) -> Floats:
    action = params["action"]
    if action == "flip":
        return repairs.flip_back(piece, similarities, mask)
    if action == "into_tile":
        return repairs.into_tile(piece, similarities, mask, float(flat["margin_px"]), grid(flat))
    if action == "straighten":
        return repairs.straighten(piece, similarities, mask, params["way"])
    return repairs.even(piece, similarities, mask, params["density"], px, weight)


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


def run_repair(job: Job) -> None:
    """Do a repair on the chosen islands, or on all where none are named."""
    project, head, before = head_of(job)
    params, settings, stop = job.params, settings_of(head), StopFlag(job)
    label = params.get("label") or LABELS[params["action"]]
    say(job, label)
    chosen = choose(head, whole=True)
    parts = parts_of(chosen)
    old = arrays_of(before, "transforms")
    rows = parts.whole(old)
    groups = twin_groups(parts, settings)
    lead = leaders_of(parts.pieces, rows, groups) if (groups >= 0).any() else None
    if params["action"] == "move":
        new = _moved(params, parts, rows)
    elif params["action"] == "rows":
        new = rowed(params, settings, chosen, parts, rows, lead)
    elif params["action"] in ("settle", "grow"):
        new = _settled(params, settings, chosen, parts, rows)
    else:
        new = _repaired(params, settings, chosen, parts, rows, parts.named(params["islands"]))
    stop.raise_if()
    if params["action"] != "flip" and lead is not None:
        new = follow(rows, new, lead)
    moved = int((np.abs(new - rows) > 1e-12).any(axis=1).sum())
    job.result = {"changed": moved}
    if moved:
        layout = Layout(
            project=project,
            kind="mend",
            channel=before.channel,
            recipe=settings,
            transforms=pack_arrays(parts.merged(old, parts.pieced(new))),
        )
        measure(layout, parts, new, settings, before, stop)
        land(project, head, layout, f"{label} ({moved})")


KINDS = (Kind("mend", run_repair, Repair),)
