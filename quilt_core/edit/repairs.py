"""Repairs of chosen islands: flip back, bring into the tile, straighten, even. Each keeps an island where it is as far as it can."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely
from numpy.typing import NDArray

from ..measure.proof import flipped
from ..model.scene import Floats
from ..model.tiles import Grid
from ..uv.analysis import MeshIslands, transform_regions
from ..uv.areas import triangle_areas
from ..uv.density import densities
from .moves import boxes, centres, mirrored, only, scaled, shifted, turned

Mask = NDArray[np.bool_]
_EDGE = 1e-9
_ONE = Grid(1)


def flip_back(piece: MeshIslands, similarities: Floats, chosen: Mask) -> Floats:
    """Mirrored islands among the chosen turned over about their middles.

    Parameters
    ----------
    similarities : (n, 5) of the islands of the mesh; chosen : (n,) bool

    Returns
    -------
    (n, 5) similarities
    """
    return only(similarities, mirrored(similarities, centres(boxes(piece, similarities))), chosen & flipped(piece, similarities))


def into_tile(piece: MeshIslands, similarities: Floats, chosen: Mask, margin_px: float = 0.0, tiles: Grid = _ONE) -> Floats:
    """Chosen islands brought into a tile of the sheet: the one that they are in, else 1001. By whole tiles first, made smaller only
    where too large, then moved off the border.

    Parameters
    ----------
    margin_px : to keep from the border, in px of the tile that an island comes to; tiles : those of the sheet
    """
    corner = np.floor(centres(boxes(piece, similarities)))
    goal = np.where(tiles.holds(corner)[:, None], corner, 0.0)
    margin = (margin_px / tiles.px_at(goal + 0.5))[:, None]
    out = shifted(similarities, -corner)
    box = boxes(piece, out)
    room = 1.0 - 2 * margin[:, 0]
    size = (box[:, 2:] - box[:, :2]).max(axis=1)
    out = scaled(out, centres(box), np.where(size > room, room * (1 - _EDGE) / np.maximum(size, 1e-30), 1.0))
    box = boxes(piece, out)
    by = np.maximum(margin - box[:, :2], 0.0) + np.minimum(1.0 - margin - box[:, 2:], 0.0)
    return only(similarities, shifted(out, by + goal), chosen)


def straighten(piece: MeshIslands, similarities: Floats, chosen: Mask, way: str = "edges") -> Floats:
    """Chosen islands turned about their middles so that they stand upright.

    Parameters
    ----------
    way : "edges": the longest straight edges lie along an axis; "box": the box of least area does; "up": the model's
        up direction (y) points along v

    Raises
    ------
    ValueError : another way
    """
    ways: dict[str, Callable[[MeshIslands, Floats], Floats]] = {"edges": _by_edges, "box": _by_box, "up": _by_up}
    if way not in ways:
        raise ValueError(f"'{way}' is not a way to straighten: edges, box or up")
    return only(similarities, turned(similarities, centres(boxes(piece, similarities)), ways[way](piece, similarities)), chosen)


def _quarter(angle: Floats) -> Floats:
    """The least turn (n,) that brings an angle to a multiple of 90 degrees."""
    return np.round(angle / (np.pi / 2)) * (np.pi / 2) - angle


def _by_edges(piece: MeshIslands, similarities: Floats) -> Floats:
    """Turns (n,) from the outline's edges: the direction (mod 90 degrees) that carries most length within 2 degrees."""
    regions = transform_regions(piece.outlines.regions, similarities)
    out = np.zeros(len(regions))
    for i, region in enumerate(regions):
        rings = shapely.get_rings(region)
        if not len(rings):
            continue
        d = np.concatenate([np.diff(shapely.get_coordinates(r), axis=0) for r in rings])
        length = np.hypot(d[:, 0], d[:, 1])
        angle = np.mod(np.arctan2(d[:, 1], d[:, 0]), np.pi / 2)
        # Lengths add up in bins of one degree, three bins wide; the mean of the best ones is exact for straight edges.
        bins = np.bincount((angle / (np.pi / 2) * 90).astype(int) % 90, length, 90)
        best = int(np.argmax(bins + np.roll(bins, 1) + np.roll(bins, -1)))
        off = np.mod(angle - (best + 0.5) * np.pi / 180 + np.pi / 4, np.pi / 2) - np.pi / 4
        near = np.abs(off) < 1.6 * np.pi / 180
        mean = (best + 0.5) * np.pi / 180 + float((off[near] * length[near] ** 2).sum() / (length[near] ** 2).sum())
        if length[near].sum() > 0.2 * length.sum():  # a round island has no straight edges to follow
            out[i] = float(_quarter(np.array([mean]))[0])
    return out


def _by_box(piece: MeshIslands, similarities: Floats) -> Floats:
    regions = transform_regions(piece.outlines.regions, similarities)
    out = np.zeros(len(regions))
    for i, region in enumerate(regions):
        corners = shapely.get_coordinates(shapely.oriented_envelope(region)) if not region.is_empty else np.zeros((0, 2))
        if len(corners) >= 4:
            a = corners[1] - corners[0]
            out[i] = float(_quarter(np.array([np.arctan2(a[1], a[0])]))[0])
    return out


def _by_up(piece: MeshIslands, similarities: Floats) -> Floats:
    """Turns (n,) that bring the mean direction of growing height to +v.

    The height is linear on a triangle, so its gradient in the UV plane is exact; the mean is weighted by UV area. An island that
    lies flat keeps its turn.
    """
    placing = piece.objects[int(np.argmax([a.sum() for a in piece.object_areas]))]
    of = piece.islands.of_triangle
    has = of >= 0
    tri = piece.mesh.channels[piece.channel].triangles[has]
    height = (piece.mesh.positions @ placing.world[:3, :3].T)[:, 1][piece.mesh.triangles[has]]
    uv = piece.uvs[tri]
    # The gradient times twice the signed area; dividing once leaves the weight by area in it.
    across = uv[:, [1, 2, 0]] - uv[:, [2, 0, 1]]
    sign = np.sign(triangle_areas(piece.uvs, tri))
    gu, gv = sign * (height * across[:, :, 1]).sum(axis=1), -sign * (height * across[:, :, 0]).sum(axis=1)
    n = piece.islands.count
    gu, gv = np.bincount(of[has], gu, n), np.bincount(of[has], gv, n)
    t = similarities
    u, v = gu * t[:, 1], gv
    c, s = np.cos(t[:, 0]), np.sin(t[:, 0])
    now = np.arctan2(s * u + c * v, c * u - s * v)
    size = np.hypot(gu, gv)
    flat = size < 1e-3 * np.sqrt(np.maximum(piece.islands.area * piece.world_area, 1e-60))
    return np.where(flat, 0.0, np.pi / 2 - now)


def even(
    piece: MeshIslands, similarities: Floats, chosen: Mask, density: float, map_px: float | Floats, weight: Floats | float = 1.0
) -> Floats:
    """Chosen islands scaled about their middles to a density in px/m at a map size, times their weights (n,).

    Islands without area on one side keep their size.

    Parameters
    ----------
    similarities : (n, 5); chosen : (n,) bool
    density : px/m; map_px : texels along a side, one or (n,); weight : factor on the density, one or (n,)

    Returns
    -------
    (n, 5) similarities
    """
    now = densities(piece.islands.area * similarities[:, 2] ** 2, piece.world_area, map_px)
    with np.errstate(invalid="ignore"):
        factor = np.where(np.isfinite(now), density * weight / now, 1.0)
    return only(similarities, scaled(similarities, centres(boxes(piece, similarities)), factor), chosen)
