"""Islands in reading order: which comes first, and where each goes."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_core.edit.rows import along, in_rows
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats
from quilt_core.model.similarity import composed
from quilt_core.uv.analysis import IDENTITY

from ..projects.reading import Chosen, Parts, kinds_of_islands, regions_of, sheet_numbers
from ..projects.sheets import grid, of_sheet
from .picked import in_meshes

ORDERS = ("object", "size", "path")


def rowed(
    params: dict[str, Any], settings: dict[str, Any], chosen: list[Chosen], parts: Parts, rows: Floats, lead: NDArray[np.int64] | None
) -> Floats:
    """The layout (n, 5) with the chosen islands (or all) in rows on the first tile of their sheet.

    Parameters
    ----------
    lead : (n,) the island that each follows as its twin, None for none

    Raises
    ------
    QuiltError : they lie on several sheets, or there is no path to follow
    """
    regions = regions_of(parts, rows)
    mask = parts.named(params["islands"]) & ~np.asarray(shapely.is_empty(regions))
    on = sheet_numbers(chosen, parts, settings)
    if lead is not None:
        mask &= lead == np.arange(len(lead))
    if not mask.any():
        raise QuiltError("There are no islands to lay out in rows.")
    if len(np.unique(on[mask])) > 1:
        raise QuiltError("These islands lie on several sheets. Select those of one sheet.")
    mine = np.flatnonzero(mask)
    area = shapely.area(regions[mine])
    if params["way"] == "path":
        order = np.lexsort((-area, along(_path(params["edges"], chosen), _middles(parts)[mine])))
    elif params["way"] == "size":
        order = np.lexsort((mine, -area))
    else:
        order = np.lexsort((-area, kinds_of_islands(chosen, parts, "object")[0][mine]))
    mine = mine[order]
    flat = of_sheet(settings, int(on[mask][0]))
    tiles = grid(flat)
    px = float(tiles.px_at(np.array([[0.5, 0.5]]))[0])
    box = shapely.bounds(regions[mine])
    corners, factor = in_rows(box[:, 2:] - box[:, :2], flat["padding_px"] / px, flat["margin_px"] / px)
    by = np.tile(IDENTITY, (len(mine), 1))
    by[:, 2] = factor
    by[:, 3:] = corners - factor * box[:, :2]
    out = rows.copy()
    out[mine] = composed(by, rows[mine])
    return out


def _middles(parts: Parts) -> Floats:
    """The middle (n, 3) of every island's surface in the world."""
    out = []
    for p in parts.pieces:
        world = p.objects[0].world
        corners = (p.mesh.positions @ world[:3, :3].T + world[:3, 3])[p.mesh.triangles]
        weight = np.maximum(np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1), 1e-30)
        of = np.asarray(p.islands.of_triangle, np.int64)
        has = of >= 0
        n = len(p.islands.area)
        total = np.maximum(np.bincount(of[has], weight[has], n), 1e-300)
        middle = corners.mean(axis=1)
        out.append(np.stack([np.bincount(of[has], (weight * middle[:, k])[has], n) / total for k in range(3)], axis=1))
    return np.concatenate(out) if out else np.zeros((0, 3))


def _path(edges: dict[str, list[list[int]]] | None, chosen: list[Chosen]) -> Floats:
    """The line (k, 3) through the middles of picked edges [object, triangle as shown, side], in the order in which they were picked."""
    line = []
    for c in chosen:
        for o, (triangle, side) in in_meshes(c.scene, (edges or {}).get(str(c.file.pk), [])):
            mesh = c.scene.meshes[o.mesh]
            t = mesh.triangles[triangle]
            middle = mesh.positions[[t[side % 3], t[(side + 1) % 3]]].mean(axis=0)
            line.append(o.world[:3, :3] @ middle + o.world[:3, 3])
    if len(line) < 2:
        raise QuiltError("Pick a path of edges on the model first: the islands follow it in the order in which it was picked.")
    return np.array(line)
