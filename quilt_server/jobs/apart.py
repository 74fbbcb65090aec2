"""What was laid flat by hand and came to lie on something else: it goes to the nearest free place of its tile, or beside the tiles where there is none."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_core.edit.settle import settle
from quilt_core.model.scene import Floats
from quilt_core.model.tiles import corners_of

from ..projects.reading import Chosen, Parts, regions_of, sheet_numbers, twin_groups
from ..projects.sheets import grid, of_sheet

APART = 0.02  # of a tile, between what lies beside the tiles
_SHARED = 1e-9  # of an island's area: less is rounding


def lies_on_others(chosen: list[Chosen], parts: Parts, rows: Floats, settings: dict[str, Any], some: NDArray[np.bool_]) -> bool:
    """Whether some islands (n,) of a layout (n, 5) lie on others of their sheet."""
    on, regions = sheet_numbers(chosen, parts, settings), regions_of(parts, rows)
    there = ~np.asarray(shapely.is_empty(regions))
    return any(
        _lies_on(regions[i], regions[~some & there & (on == on[i])], float(shapely.area(regions[i]))) for i in np.flatnonzero(some & there)
    )


def laid_apart(chosen: list[Chosen], parts: Parts, rows: Floats, settings: dict[str, Any], made: NDArray[np.bool_], among: bool) -> Floats:
    """A layout (n, 5) in which the islands that were just made (n,) lie on nothing else of their sheet, the largest staying where it is first. Twins stay on each
    other.

    Parameters
    ----------
    among : only on none of each other, since they lay on others before they were made
    """
    on, groups, out = sheet_numbers(chosen, parts, settings), twin_groups(parts, settings), rows.copy()
    regions = regions_of(parts, rows)
    area = np.asarray(shapely.area(regions))
    todo = np.flatnonzero(made & (area > 0) & (groups < 0))
    beside = {int(s): _free_beside(regions[~made & (on == s)], settings, int(s)) for s in np.unique(on[todo])}
    settled = np.zeros(len(rows), bool) if among else ~made
    for i in todo[np.argsort(-area[todo], kind="stable")].tolist():
        others = np.flatnonzero(settled & (on == on[i]) & (area > 0))
        settled[i] = True
        if not _lies_on(regions[i], regions[others], area[i]):
            continue
        shift = _free(regions[i], regions[others], of_sheet(settings, int(on[i])))
        if shift is None:
            box, (u, v) = shapely.bounds(regions[i]), beside[int(on[i])]
            shift = np.array([u, v]) - box[:2]
            beside[int(on[i])] = u, v + float(box[3] - box[1]) + APART
        out[i, 3:] += shift
        regions[i] = shapely.transform(regions[i], lambda xy, by=shift: xy + by)
    return out


def _lies_on(region: shapely.Geometry, others: NDArray[np.object_], area: float) -> bool:
    near = others[shapely.STRtree(others).query(region, predicate="intersects")] if len(others) else others
    return bool((shapely.area(shapely.intersection(near, region)) > _SHARED * area).any())


def _free(region: shapely.Geometry, others: NDArray[np.object_], flat: dict[str, Any]) -> Floats | None:
    """The shift to the nearest free place of the tile that a region lies in."""
    corner = corners_of(np.array([shapely.bounds(region)]))
    tiles = grid(flat)
    if not tiles.holds(corner)[0]:
        corner = np.clip(corner, 0, [[tiles.columns - 1, tiles.rows - 1]])
    px = float(tiles.px_at(corner + 0.5)[0])
    return settle(
        np.array([region], object), others, (float(corner[0, 0]), float(corner[0, 1])), flat["padding_px"] / px, flat["margin_px"] / px
    )


def beside_tiles(sheet: dict[str, Any]) -> tuple[float, float]:
    """Where what has no place lies, from here upward: beside the tiles of a sheet."""
    return int(sheet["columns"]) + 0.05, APART


def _free_beside(regions: NDArray[np.object_], settings: dict[str, Any], sheet: int) -> tuple[float, float]:
    """The same, above what lies there already."""
    u, v = beside_tiles(of_sheet(settings, sheet)["sheet"])
    box = shapely.bounds(regions)
    there = box[box[:, 2] > u]
    return u, max(v, float(np.max(there[:, 3], initial=0.0)) + APART)
