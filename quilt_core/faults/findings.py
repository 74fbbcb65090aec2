"""Everything that is wrong with a layout, island by island and place by place, in UV units: valid for any map size.

`findings` puts together what `measure` knows; `listing.py` turns it into a list for people at a map size and padding.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..measure.lie import Lie, measured
from ..measure.proof import Marked, marked
from ..measure.shapes import IslandShapes, joined, shapes_of
from ..model.scene import Floats
from ..uv.analysis import IDENTITY, MeshIslands
from ..uv.twins import is_twin

_PAIRS = {
    "overlap_pairs": ("overlap_area", "overlap_at", "twins"), "marked_pairs": ("marked_area", "marked_at"), "gap_pairs": ("gap", "gap_at"),
}  # fmt: skip
_BY_MESH = ("crowded", "against", "cut")


@dataclass(frozen=True)
class Findings:
    """Arrays over n islands, k overlapping, q marked and m near pairs, p meshes.

    area (n,) that is covered; uv_area (n,) of the triangles, more where an island covers itself; world (n,); box (n, 4); flipped (n,) bool; turned, zero_uv, zero_world (n,) numbers of triangles; own (n,) area
    by which an island covers itself; l2, linf, angle, distortion (n,) stretch; overlaps, twin_overlaps (n,) with how many others an island shares
    area, and with how many of them the same texels; overlap_pairs (k, 2), the largest first, overlap_area (k,), overlap_at (k, 2), twins (k,) bool: of heaps the largest of each
    island; marked_pairs (q, 2), marked_area, marked_at: twins on purpose; gap_pairs (m, 2), gap (m,), gap_at (m, 2) nearest first;
    crowded, against (p,) numbers of edges; crowded_island, against_island (n,)
    numbers of triangles at such edges; cut: the heap was too deep to be measured whole.
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
    overlaps: NDArray[np.int64]
    twin_overlaps: NDArray[np.int64]
    overlap_pairs: NDArray[np.int64]
    overlap_area: Floats
    overlap_at: Floats
    twins: NDArray[np.bool_]
    marked_pairs: NDArray[np.int64]
    marked_area: Floats
    marked_at: Floats
    gap_pairs: NDArray[np.int64]
    gap: Floats
    gap_at: Floats
    crowded: NDArray[np.int64]
    against: NDArray[np.int64]
    crowded_island: NDArray[np.int64]
    against_island: NDArray[np.int64]
    cut: NDArray[np.bool_]

    def of(self, islands: NDArray[np.int64]) -> Findings:
        """What concerns the islands (k,) of a sheet alone, numbered in that order; faults of whole meshes stay as they are."""
        count = len(self.area)
        renumbered = np.full(count, -1)
        renumbered[islands] = np.arange(len(islands))
        out: dict[str, NDArray[Any]] = {}
        for pairs, more in _PAIRS.items():
            mine = renumbered[getattr(self, pairs)].reshape(-1, 2)
            keep = (mine >= 0).all(axis=1)
            out[pairs] = mine[keep]
            out |= {name: getattr(self, name)[keep] for name in more}
        for name in _BY_MESH[:2]:
            # Edges are counted by mesh: they concern this part where one of its islands has one.
            marks = getattr(self, f"{name}_island")
            if marks.any() and not marks[islands].any():
                out[name] = np.zeros_like(getattr(self, name))
        rest = {f.name: getattr(self, f.name) for f in fields(self) if f.name not in out}
        return Findings(**out, **{k: v if k in _BY_MESH else v[islands] for k, v in rest.items()})


def findings(shapes: IslandShapes, lie: Lie, rows: Floats, on_purpose: Marked) -> Findings:
    """What is known of a layout (n, 5) whose islands lie as `lie` says; `on_purpose` are the pairs that are marked as twins.

    Parameters
    ----------
    shapes, lie : of the n islands; rows : (n, 5) similarities
    on_purpose : pairs that are marked as twins

    Returns
    -------
    see `Findings`
    """
    area = shapes.region_area * rows[:, 2] ** 2
    pairs, shares, at = lie.over_pairs()
    near, gap, gap_at = lie.near_pairs()
    return Findings(
        area=area, uv_area=shapes.uv_area * rows[:, 2] ** 2, world=shapes.world, box=lie.box, flipped=shapes.flipped(rows[:, 1]),
        turned=shapes.turned, zero_uv=shapes.zero_uv, zero_world=shapes.zero_world, own=shapes.own * rows[:, 2] ** 2, l2=shapes.l2, linf=shapes.linf,
        angle=shapes.angle, distortion=shapes.distortion, overlaps=lie.overlaps.astype(np.int64), twin_overlaps=lie.twins.astype(np.int64),
        overlap_pairs=pairs, overlap_area=shares, overlap_at=at, twins=is_twin(shares, area[pairs[:, 0]], area[pairs[:, 1]]),
        marked_pairs=on_purpose.pairs, marked_area=on_purpose.area, marked_at=on_purpose.at, gap_pairs=near, gap=gap, gap_at=gap_at,
        crowded=shapes.crowded, against=shapes.against, crowded_island=shapes.crowded_island,
        against_island=shapes.against_island, cut=lie.cut,
    )  # fmt: skip


def find(
    pieces: list[MeshIslands],
    transforms: list[Floats] | None = None,
    sheet: NDArray[np.int64] | None = None,
    twins: NDArray[np.int64] | None = None,
) -> Findings:
    """Measure a layout from nothing.

    Parameters
    ----------
    transforms : similarity per island and piece; None for the UVs as they were read
    sheet : (n,) number of the sheet that each island lies on; islands of different sheets have nothing to do with each other
    twins : (n,) group of islands that share their texels on purpose, -1 for none
    """
    shapes = joined([shapes_of(p) for p in pieces])
    rows = np.tile(IDENTITY, (shapes.count, 1)) if transforms is None else np.concatenate(transforms)
    lie = measured(shapes, rows, np.zeros(shapes.count, np.int64) if sheet is None else sheet)
    return findings(shapes, lie, rows, marked(shapes, lie, rows, twins))
