"""Measuring: exact against shapely, and an incremental measure says what a whole one says, to the last bit."""

from __future__ import annotations

from dataclasses import fields

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.errors import Cancelled
from quilt_core.faults.fault import Limits
from quilt_core.faults.findings import find, findings
from quilt_core.faults.listing import listing
from quilt_core.measure.lie import LEAST_OVERLAP, Lie, measured, twin_pairs, updated
from quilt_core.measure.proof import covered_on_texels, marked, proof_of, prove
from quilt_core.measure.revised import after_revision
from quilt_core.measure.shapes import IslandShapes, joined, shapes_of
from quilt_core.model.tiles import Grid
from quilt_core.uv.analysis import IDENTITY, MeshIslands, transform_regions
from tests.shapes import grid_obj

from .test_faults import pieces_of, squares


def mixture(count: int = 24, seed: int = 3) -> list[MeshIslands]:
    """Boxes, thin strips, stacked copies and a ring with a box in its hole, some of them on each other."""
    random = np.random.default_rng(seed)
    boxes = []
    for k in range(count):
        u, v = random.uniform(0.0, 0.85, 2)
        w, h = ((0.12, 0.1), (0.3, 0.01), (0.02, 0.2), (0.05, 0.05))[k % 4]
        boxes.append((u, v, u + w, v + h))
    boxes += [boxes[0], boxes[0], (1.2, 0.2, 1.3, 0.3), (-3.0, 5.0, -2.0, 7.5)]
    return pieces_of(squares(boxes))


def of(pieces: list[MeshIslands]) -> tuple[IslandShapes, np.ndarray]:
    shapes = joined([shapes_of(p) for p in pieces])
    return shapes, np.concatenate([p.outlines.regions for p in pieces])


def rows(n: int) -> np.ndarray:
    return np.tile(IDENTITY, (n, 1))


def same(one: Lie, other: Lie) -> None:
    for f in fields(Lie):
        a, b = getattr(one, f.name), getattr(other, f.name)
        assert a.dtype == b.dtype and np.array_equal(a, b, equal_nan=f.name == "box"), f.name


@pytest.mark.reference("Overlaps and gaps of all pairs", "shapely")
def test_pairs_are_those_that_shapely_finds() -> None:
    """Against shapely's overlay and distance, over all pairs, of islands turned, mirrored and scaled."""
    pieces = mixture()
    shapes, regions = of(pieces)
    random = np.random.default_rng(5)
    layout = rows(shapes.count)
    # Two are mirrored about a line near them, so that they stay among the others.
    layout[:, 0], layout[:, 1], layout[:, 2] = (
        random.normal(0, 0.1, shapes.count),
        np.ones(shapes.count),
        random.uniform(0.5, 1.5, shapes.count),
    )
    layout[[3, 8], 1], layout[[3, 8], 3] = -1, 0.8
    placed = transform_regions(regions, layout)
    lie = measured(shapes, layout, np.zeros(shapes.count, np.int64))
    assert np.allclose(lie.box, shapely.bounds(placed), atol=1e-12)
    i, j = np.triu_indices(shapes.count, 1)
    area = shapely.area(shapely.intersection(placed[i], placed[j]))
    over = area > LEAST_OVERLAP
    pairs, shares, at = lie.over_pairs()
    assert {tuple(p) for p in pairs.tolist()} == set(zip(i[over].tolist(), j[over].tolist(), strict=True)) and over.sum() > 3
    known = dict(zip(zip(i.tolist(), j.tolist(), strict=True), area, strict=True))
    assert all(abs(known[tuple(p)] - s) < 1e-12 for p, s in zip(pairs.tolist(), shares, strict=True))
    inside = shapely.distance(shapely.points(at), shapely.intersection(placed[pairs[:, 0]], placed[pairs[:, 1]]))
    assert inside.max() < 1e-6, "the place of an overlap lies in it"
    apart = shapely.distance(placed[i], placed[j])
    near, gap, _ = lie.near_pairs()
    gaps = dict(zip(zip(i.tolist(), j.tolist(), strict=True), apart, strict=True))
    assert len(near) and all(abs(gaps[tuple(p)] - g) < 1e-12 for p, g in zip(near.tolist(), gap, strict=True))
    tile = np.floor(0.5 * (lie.box[:, :2] + lie.box[:, 2:]))
    wanted = (apart < 1 / 32) & ~over & (tile[i] == tile[j]).all(axis=1)
    assert {tuple(p) for p in near.tolist()} == set(zip(i[wanted].tolist(), j[wanted].tolist(), strict=True))


@settings(deadline=None, max_examples=40)
@given(st.data())
def test_an_incremental_measure_is_the_whole_one(data: st.DataObject) -> None:
    """Random edits one after the other: moves, turns, mirroring, scaling, other sheets, left out and taken in again."""
    pieces = mixture(data.draw(st.sampled_from([6, 24, 60])), data.draw(st.integers(0, 5)))
    shapes, regions = of(pieces)
    n = shapes.count
    layout, sheet = rows(n), np.ones(n, np.int64)
    lie = measured(shapes, layout, sheet)
    twins = np.where(np.arange(n) >= n - 4, 1, -1)
    for _ in range(data.draw(st.integers(1, 4))):
        new, on = layout.copy(), sheet.copy()
        for k in data.draw(st.lists(st.integers(0, n - 1), min_size=1, max_size=5, unique=True)):
            kind = data.draw(st.sampled_from(["move", "far", "turn", "mirror", "scale", "sheet", "out", "back"]))
            if kind == "move":
                new[k, 3:] += data.draw(st.floats(-0.3, 0.3)), data.draw(st.floats(-0.3, 0.3))
            elif kind == "far":
                new[k, 3] += data.draw(st.sampled_from([-40.0, 1.0, 77.0]))
            elif kind == "turn":
                new[k, 0] += data.draw(st.sampled_from([np.pi / 2, 0.3]))
            elif kind == "mirror":
                new[k, 1] *= -1
            elif kind == "scale":
                new[k, 2] *= data.draw(st.sampled_from([0.01, 0.5, 3.0]))
            elif kind == "sheet":
                on[k] = data.draw(st.sampled_from([1, 2]))
            else:
                on[k] = -1 if kind == "out" else 1
        part, whole = updated(shapes, lie, layout, new, on), measured(shapes, new, on)
        same(part, whole)
        for s in (1, 2):
            proofs = [
                proof_of(
                    shapes,
                    x,
                    new,
                    lambda k, r=new: transform_regions(regions[k], r[k]),
                    Grid(1024, 2, 1),
                    s,
                    on_purpose=marked(shapes, x, new, twins),
                )
                for x in (part, whole)
            ]
            assert proofs[0] == proofs[1]
        layout, sheet, lie = new, on, part


@settings(deadline=None, max_examples=40)
@given(st.data())
def test_a_measure_after_islands_became_others_is_the_whole_one(data: st.DataObject) -> None:
    """Some meshes are gone, others came, the rest has other numbers and other ties; some lie elsewhere too."""
    count = data.draw(st.sampled_from([6, 24, 60]))
    pieces, strangers = mixture(count, 1), mixture(24, 7)
    gone = set(data.draw(st.lists(st.integers(0, len(pieces) - 1), max_size=len(pieces) // 3, unique=True)))
    stay = data.draw(st.permutations([k for k in range(len(pieces)) if k not in gone]))
    come = strangers[: data.draw(st.integers(0, 5))]
    new_pieces = [*come, *(pieces[k] for k in stay)]
    (old_shapes, _), (shapes, _) = of(pieces), of(new_pieces)
    old_first = np.cumsum([0, *(len(p.islands.box) for p in pieces)])
    first = np.cumsum([0, *(len(p.islands.box) for p in new_pieces)])
    to = np.full(old_shapes.count, -1)
    for at, k in enumerate(stay):
        to[old_first[k] : old_first[k + 1]] = np.arange(first[len(come) + at], first[len(come) + at + 1])
    old_rows, old_sheet = rows(old_shapes.count), np.ones(old_shapes.count, np.int64)
    old_sheet[data.draw(st.integers(0, len(old_sheet) - 1))] = data.draw(st.sampled_from([-1, 1, 2]))
    new_rows, sheet = rows(shapes.count), np.ones(shapes.count, np.int64)
    kept = np.flatnonzero(to >= 0)
    new_rows[to[kept]], sheet[to[kept]] = old_rows[kept], old_sheet[kept]
    if len(kept):
        new_rows[to[kept[0]], 3] += data.draw(st.sampled_from([0.0, 0.1, 1.0]))
    lie = measured(old_shapes, old_rows, old_sheet)
    same(after_revision((old_shapes, lie, old_rows), (shapes, new_rows, sheet), to), measured(shapes, new_rows, sheet))


def test_deep_heaps_are_counted_whole_and_listed_in_part() -> None:
    """Arithmetic: k islands in one place are k (k - 1) / 2 pairs, however short the lists of each are."""
    k = 300
    shapes, _ = of(pieces_of(grid_obj(k)))
    layout, sheet = rows(k), np.zeros(k, np.int64)
    lie = measured(shapes, layout, sheet)
    assert lie.overlaps.tolist() == [k - 1] * k and lie.twins.tolist() == [k - 1] * k and not lie.cut.any()
    assert lie.over_with.shape[1] < k - 1 and lie.buried.all() and not len(lie.near_pairs()[0])
    assert len(twin_pairs(shapes, lie, layout, np.arange(k))) == k * (k - 1) // 2
    moved = layout.copy()
    moved[7, 3] = 0.5
    same(updated(shapes, lie, layout, moved, sheet), measured(shapes, moved, sheet))
    found = find(pieces_of(grid_obj(k)))
    assert {f.kind: f.count for f in listing(found, Limits(Grid(1000), 10, 5))}["twins"] == k * (k - 1) // 2


def test_what_is_written_twice_is_a_part_of_the_map() -> None:
    """Arithmetic: three boxes of 0.2 x 0.2, each 0.1 beside the last one, cover 0.2 x 0.1 twice in two places; on a grid of texels the same."""
    pieces = pieces_of(squares([(0.1 * k, 0.0, 0.1 * k + 0.2, 0.2) for k in range(3)]))
    shapes, _ = of(pieces)
    proof = prove(pieces, None, 1000, (1, 1))
    assert proof.overlap_pairs == 2 and proof.overlap_px == pytest.approx(0.04 * 1000**2) and proof.coverage[1001][0] == pytest.approx(0.08)
    lie = measured(shapes, rows(3), np.zeros(3, np.int64))
    share, twice = covered_on_texels(shapes, lie, rows(3), np.arange(3), lie.overlaps.astype(np.int64), (0, 0), 200)
    assert (share, twice) == (pytest.approx(0.08), pytest.approx(0.04))


def test_a_gap_across_the_whole_tile_is_found_and_one_into_another_tile_is_not() -> None:
    pieces = pieces_of(squares([(0.05, 0.1, 0.1, 0.2), (0.75, 0.1, 0.8, 0.2), (1.01, 0.1, 1.1, 0.2)]))
    proof = prove(pieces, None, 1000, (2, 1))
    assert proof.gap_px == pytest.approx(650) and proof.tiles[1001].pair == (0, 1) and not np.isfinite(proof.tiles[1002].gap_px)


def test_measuring_can_be_stopped() -> None:
    shapes, _ = of(pieces_of(grid_obj(200)))
    with pytest.raises(Cancelled):
        measured(shapes, rows(200), np.zeros(200, np.int64), lambda: True)


def test_nothing_and_flat_islands_have_no_place() -> None:
    flat = pieces_of(b"v 0 0 0\nv 1 0 0\nv 1 1 0\nvt 0.5 0.5\nf 1/1 2/1 3/1\n")
    shapes, _ = of(flat)
    lie = measured(shapes, rows(1), np.zeros(1, np.int64))
    assert np.isnan(lie.box).all() and not lie.overlaps.any()
    assert findings(shapes, lie, rows(1), marked(shapes, lie, rows(1), None)).area.tolist() == [0.0]
    assert len(measured(joined([]), rows(0), np.zeros(0, np.int64)).box) == 0
