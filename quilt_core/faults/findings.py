"""Everything that is wrong with a layout, island by island and place by place, in UV units: valid for any map size.

`find` measures; `listing.py` turns the findings into a list for people at a map size and padding.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..prove.gaps import LEAST_OVERLAP, Overlaps, overlaps, shared_area
from ..scene import Floats
from ..sheet import MeshIslands, transform_regions
from ..tiles import corners_of
from ..twins import is_twin
from .layout import flipped
from .mesh import mesh_faults
from .triangles import odd_triangles, singular_values, stretch_of_islands

REACH = 1 / 32  # UV units within which gaps are looked for: 64 px of a 2048 px map
MOST_GAPS = 20_000
MOST_OVERLAPS = 20_000
_PAIRS = {"overlap_pairs": ("overlap_area", "overlap_at", "twins"), "gap_pairs": ("gap", "gap_at"), "split": ()}
_HEAP = 1_000_000  # pairs of boxes that meet; above that gaps are only looked for between islands that overlap nothing


@dataclass(frozen=True)
class Findings:
    """Arrays over the n islands of all pieces of a sheet, k overlapping and m near pairs, p pieces.

    area (n,) that is covered; uv_area (n,) of the triangles, more where an island covers itself; world (n,); box (n, 4); flipped (n,) bool; turned, zero_uv, zero_world (n,) numbers of triangles; own (n,) area
    by which an island covers itself; l2, linf, angle, distortion (n,) stretch; overlap_pairs (k, 2), overlap_area (k,),
    overlap_at (k, 2), twins (k,) bool: congruent islands exactly on each other; gap_pairs (m, 2), gap (m,), gap_at (m, 2)
    nearest first; split (s, 2) pairs that duplicate vertices keep apart; crowded, against (p,) numbers of edges;
    crowded_island, against_island (n,) numbers of triangles at such edges; cut: some lists were too long to be kept whole.
    """

    area: Floats
    uv_area: Floats
    world: Floats
    box: Floats
    flipped: NDArray[np.bool_]
    turned: NDArray[np.int64]
    zero_uv: NDArray[np.int64]
    zero_world: NDArray[np.int64]
    own: Floats
    l2: Floats
    linf: Floats
    angle: Floats
    distortion: Floats
    overlap_pairs: NDArray[np.int64]
    overlap_area: Floats
    overlap_at: Floats
    twins: NDArray[np.bool_]
    gap_pairs: NDArray[np.int64]
    gap: Floats
    gap_at: Floats
    split: NDArray[np.int64]
    crowded: NDArray[np.int64]
    against: NDArray[np.int64]
    crowded_island: NDArray[np.int64]
    against_island: NDArray[np.int64]
    cut: NDArray[np.bool_]

    def of(self, islands: NDArray[np.int64]) -> Findings:
        """What concerns some islands (k,) alone, numbered in that order; faults of whole meshes stay as they are."""
        count = len(self.area)
        number = np.full(count, -1)
        number[islands] = np.arange(len(islands))
        out: dict[str, NDArray[Any]] = {}
        for pairs, more in _PAIRS.items():
            mine = number[getattr(self, pairs)].reshape(-1, 2)
            keep = (mine >= 0).all(axis=1)
            out[pairs] = mine[keep]
            out |= {name: getattr(self, name)[keep] for name in more}
        whole = ("crowded", "against", "cut")
        for name in whole[:2]:
            # Edges are counted by mesh: they concern this part where one of its islands has one.
            marks = getattr(self, f"{name}_island")
            if marks.any() and not marks[islands].any():
                out[name] = np.zeros_like(getattr(self, name))
        rest = {f.name: getattr(self, f.name) for f in fields(self) if f.name not in out}
        return Findings(**out, **{k: v if k in whole else v[islands] for k, v in rest.items()})

    def replaced(self, other: Findings, mine: NDArray[np.bool_]) -> Findings:
        """With what `other` found of the islands `mine` (n,) in place of what is here; both are of the same pieces.

        Pairs of one island among them and one not have to be of different sheets: they are dropped.
        """
        out: dict[str, NDArray[Any]] = {}
        for pairs, more in _PAIRS.items():
            here, there = getattr(self, pairs), getattr(other, pairs)
            old, new = ~mine[here].reshape(-1, 2).any(axis=1), mine[there].reshape(-1, 2).all(axis=1)
            names = (pairs, *more)
            out |= {n: np.concatenate([getattr(self, n)[old], getattr(other, n)[new]]) for n in names}
        by_size = np.argsort(out["gap"], kind="stable")
        out |= {n: out[n][by_size] for n in ("gap_pairs", "gap", "gap_at")}
        for f in fields(self):
            if f.name not in out:
                a, b = getattr(self, f.name), getattr(other, f.name)
                out[f.name] = (
                    a | b if f.name == "cut" else a if len(a) != len(mine) else np.where(mine[:, None] if a.ndim > 1 else mine, b, a)
                )
        return Findings(**out)

    def arrays(self) -> dict[str, NDArray[Any]]:
        """All fields by name, for storing."""
        return {f.name: getattr(self, f.name) for f in fields(self)}


def find(
    pieces: list[MeshIslands],
    tables: list[Floats] | None = None,
    reach: float = REACH,
    shared: Overlaps | None = None,
    sheet: NDArray[np.int64] | None = None,
) -> Findings:
    """Measure a layout.

    Parameters
    ----------
    tables : similarity per island and piece; None for the UVs as they were read
    reach : UV units within which gaps are looked for
    shared : the overlaps of the layout, where somebody measured them already
    sheet : (n,) number of the sheet that each island lies on; islands of different sheets have nothing to do with each other
    """
    if not pieces:
        return _nothing()
    per_island: dict[str, list[NDArray[Any]]] = {}
    splits, crowded, against = [], [], []
    start = 0
    for number, piece in enumerate(pieces):
        table = None if tables is None else tables[number]
        for name, value in _of_piece(piece, table).items():
            per_island.setdefault(name, []).append(value)
        mesh = mesh_faults(piece.mesh, piece.mesh.channels[piece.channel], piece.islands)
        splits.append(mesh.split + start)
        crowded.append(mesh.crowded_edges)
        against.append(mesh.against_edges)
        for name, marks in (("crowded_island", mesh.crowded), ("against_island", mesh.against)):
            per_island.setdefault(name, []).append(_count(piece, marks))
        start += piece.islands.count
    merged = {k: np.concatenate(v) for k, v in per_island.items()}
    moved = [p.outlines.regions if tables is None else transform_regions(p.outlines.regions, tables[i]) for i, p in enumerate(pieces)]
    regions = np.concatenate(moved)
    merged["area"] = shapely.area(regions)
    merged["box"] = shapely.bounds(regions)
    apart = _apart(regions, sheet)
    if shared is None:
        shared = joined([overlaps(r, LEAST_OVERLAP) for r in apart])
    pairs = _pairs(regions, apart, merged["area"], reach, shared)
    cut = np.array([pairs.pop("cut")])
    return Findings(
        **merged, **pairs, split=np.concatenate(splits), crowded=np.array(crowded), against=np.array(against), cut=cut
    )  # fmt: skip


def joined(parts: list[Overlaps]) -> Overlaps:
    """The overlaps of several sheets as one list."""
    return Overlaps(
        np.concatenate([p.pairs for p in parts]), np.concatenate([p.area for p in parts]), any(p.cut for p in parts)
    )  # fmt: skip


def _apart(regions: NDArray[np.object_], sheet: NDArray[np.int64] | None) -> list[NDArray[np.object_]]:
    """For each sheet the regions (n,), those of other sheets empty: so that numbers of islands stay what they are."""
    if sheet is None:
        return [regions]
    nothing = shapely.Polygon()
    return [np.where(sheet == s, regions, nothing) for s in np.unique(sheet)]


def _nothing() -> Findings:
    shapes = {
        "box": (0, 4),
        "overlap_pairs": (0, 2),
        "overlap_at": (0, 2),
        "gap_pairs": (0, 2),
        "gap_at": (0, 2),
        "split": (0, 2),
        "cut": (1,),
    }
    whole = (
        "turned",
        "zero_uv",
        "zero_world",
        "overlap_pairs",
        "gap_pairs",
        "split",
        "crowded",
        "against",
        "crowded_island",
        "against_island",
    )
    kind = {**{k: np.int64 for k in whole}, "flipped": np.bool_, "twins": np.bool_, "cut": np.bool_}
    return Findings(**{f.name: np.zeros(shapes.get(f.name, (0,)), kind.get(f.name, np.float64)) for f in fields(Findings)})


def _count(piece: MeshIslands, marks: NDArray[np.bool_]) -> NDArray[np.int64]:
    of = piece.islands.of_triangle
    return np.bincount(of[marks & (of >= 0)], minlength=piece.islands.count).astype(np.int64)


def _of_piece(piece: MeshIslands, table: Floats | None) -> dict[str, NDArray[Any]]:
    """What is measured on the islands of one mesh, by its largest placing."""
    islands, channel = piece.islands, piece.mesh.channels[piece.channel]
    largest = piece.objects[int(np.argmax([a.sum() for a in piece.object_areas]))]
    odd = odd_triangles(piece.mesh, channel, largest, islands.of_triangle, islands.signed_area)
    stretched = stretch_of_islands(singular_values(piece.mesh, channel, largest), islands.of_triangle, islands.count)
    scale = 1.0 if table is None else table[:, 2]
    return {
        "uv_area": islands.area * scale**2 * np.ones(islands.count), "world": piece.world_area, "flipped": flipped(piece, table), "turned": _count(piece, odd.turned), "zero_uv": _count(piece, odd.zero_uv),
        "zero_world": _count(piece, odd.zero_world), "own": piece.outlines.self_overlap * scale**2, "l2": stretched.l2, "linf": stretched.linf,
        "angle": stretched.angle, "distortion": stretched.area,
    }  # fmt: skip


def _pairs(regions: NDArray[np.object_], apart: list[NDArray[np.object_]], area: Floats, reach: float, shared: Overlaps) -> dict[str, Any]:
    """Overlapping and near pairs with their places; near ones only of one sheet (see `_apart`) and one tile."""
    order = np.argsort(-shared.area, kind="stable")[:MOST_OVERLAPS]
    pairs, shares = shared.pairs[order], shared.area[order]
    cut = shared.cut or len(shared.pairs) > MOST_OVERLAPS
    common = shapely.intersection(regions[pairs[:, 0]], regions[pairs[:, 1]])
    at = shapely.get_coordinates(shapely.point_on_surface(common)) if len(pairs) else np.zeros((0, 2))
    twins = is_twin(shares, area[pairs[:, 0]], area[pairs[:, 1]])
    found = [_gaps(r, reach, np.unique(shared.pairs)) for r in apart]
    near, gap, gap_at = (np.concatenate([f[k] for f in found]) for k in range(3))
    more = any(f[3] for f in found) or len(gap) > MOST_GAPS
    by_size = np.argsort(gap, kind="stable")[:MOST_GAPS]
    near, gap, gap_at = near[by_size], gap[by_size], gap_at[by_size]
    return {
        "overlap_pairs": pairs, "overlap_area": shares, "overlap_at": at, "twins": twins, "gap_pairs": near, "gap": gap, "gap_at": gap_at,
        "cut": cut or more,
    }  # fmt: skip


def _gaps(regions: NDArray[np.object_], reach: float, overlapping: NDArray[np.int64]) -> tuple[NDArray[np.int64], Floats, Floats, bool]:
    """Pairs (m, 2) within reach that share no area, nearest first; their distances and the middles of the gaps; whether some were left out."""
    known = np.flatnonzero(~shapely.is_empty(regions))
    none = np.zeros((0, 2), np.int64), np.zeros(0), np.zeros((0, 2))
    tree = shapely.STRtree(regions[known])
    left_out = False
    if len(known) > 2000 and len(tree.query(regions[known])[0]) > _HEAP:
        known = np.setdiff1d(known, overlapping)
        tree, left_out = shapely.STRtree(regions[known]), True
    if len(known) < 2:
        return *none, left_out
    # Thousands of islands lie closer than `reach` all over: a smaller reach finds the nearest ones.
    for _ in range(12):
        grown = shapely.bounds(regions[known]) + reach * np.array([-1, -1, 1, 1])
        if len(known) < 500 or len(tree.query(shapely.box(*grown.T))[0]) < 40 * MOST_GAPS:
            break
        reach *= 0.5
    i, j = tree.query(regions[known], predicate="dwithin", distance=reach)
    tile = corners_of(shapely.bounds(regions[known]))
    use = (i < j) & (tile[i] == tile[j]).all(axis=1)
    i, j = known[i[use]], known[j[use]]
    distance = shapely.distance(regions[i], regions[j])
    apart = (distance > 0) | ~_share(regions, i, j)
    i, j, distance = i[apart], j[apart], distance[apart]
    order = np.argsort(distance, kind="stable")[:MOST_GAPS]
    cut = left_out or len(distance) > MOST_GAPS
    i, j, distance = i[order], j[order], distance[order]
    if not len(i):
        return *none, cut
    ends = shapely.get_coordinates(shapely.shortest_line(regions[i], regions[j])).reshape(-1, 2, 2)
    return np.column_stack([i, j]), distance, ends.mean(axis=1), cut


def _share(regions: NDArray[np.object_], i: NDArray[np.int64], j: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Whether pairs at distance 0 share area (they are overlaps then) or only touch."""
    out = np.zeros(len(i), bool)
    touching = np.flatnonzero(shapely.distance(regions[i], regions[j]) <= 0)
    out[touching] = shared_area(regions[i[touching]], regions[j[touching]]) > LEAST_OVERLAP
    return out
