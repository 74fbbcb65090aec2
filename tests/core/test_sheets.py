"""Tiles, planning, twins and similarities against arithmetic; the arrangement of a sheet, proven apart from the packer."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from quilt_cli.main import main
from quilt_core import formats
from quilt_core.arrange.plan import PRIOR, USUAL, Part, density, expected, split, tiles_needed
from quilt_core.arrange.sheet import SheetRules, pack_sheet
from quilt_core.errors import QuiltError
from quilt_core.measure.proof import prove
from quilt_core.model.similarity import applied, composed, inverse
from quilt_core.model.tiles import Grid, column_row, corners_of, number
from quilt_core.pack import Recipe
from quilt_core.uv.analysis import IDENTITY, MeshIslands, transform_regions
from quilt_core.uv.twins import follow, grouped, leaders
from tests.shapes import grid_obj

from .test_faults import pieces_of, squares

rows = st.tuples(st.floats(-7, 7), st.sampled_from([1.0, -1.0]), st.floats(0.01, 100), st.floats(-50, 50), st.floats(-50, 50)).map(
    lambda r: np.array([r])
)
Boxes = list[tuple[float, float, float, float]]


def placed(pieces: list[MeshIslands], transforms: list[np.ndarray]) -> np.ndarray:
    return np.concatenate([transform_regions(p.outlines.regions, t) for p, t in zip(pieces, transforms, strict=True)])


def loose(count: int, size: float = 0.1) -> Boxes:
    return [(0.0, 0.0, size * (1 + k % 3), size) for k in range(count)]


@pytest.mark.reference("UDIM numbers by formula", "common practice, no source; documented by MaterialX and OpenUSD")
def test_udim_numbers_follow_the_published_formula() -> None:
    """1001 + column + 10 x row (common practice; documented so by MaterialX and OpenUSD): a 10 x 2 grid is 1001 to 1020."""
    assert Grid(1, 10, 2).numbers == list(range(1001, 1021))
    assert number(3, 4) == 1044 and column_row(1044) == (3, 4)
    for wrong in (1000, 2001):
        with pytest.raises(ValueError, match="no UDIM number"):
            column_row(wrong)
    with pytest.raises(ValueError, match="no tile"):
        number(10, 0)


def test_each_tile_has_its_own_resolution() -> None:
    tiles = Grid(2048, 3, 1, {1001: 4096, 1003: 512})
    assert tiles.sizes == (4096, 2048, 512)
    points = np.array([[0.5, 0.5], [1.5, 0.1], [2.9, 0.9], [5.0, 0.5], [np.nan, 0]])
    assert tiles.px_at(points).tolist() == [4096, 2048, 512, 2048, 2048]
    assert tiles.holds(np.array([[0.0, 0.0], [3.0, 0.0], [0.0, 1.0], [-1.0, 0.0]])).tolist() == [True, False, False, False]


@given(rows, rows, st.floats(-10, 10), st.floats(-10, 10))
def test_similarities_compose_and_undo(a: np.ndarray, b: np.ndarray, u: float, v: float) -> None:
    point = np.array([[u, v]])
    assert applied(composed(a, b), point) == pytest.approx(applied(a, applied(b, point)), rel=1e-9, abs=1e-6)
    assert applied(inverse(a), applied(a, point)) == pytest.approx(point, rel=1e-6, abs=1e-6)


def test_planning_is_arithmetic() -> None:
    """1 m2 on a full 1024 px map has 1024 px/m; at a coverage of 0.5 it has 1024 x sqrt(0.5)."""
    assert density(1.0, 1024**2, 1.0) == pytest.approx(1024)
    assert density(0.5, 1024**2, 1.0) == pytest.approx(1024 * 0.5**0.5)
    assert tiles_needed(0.5, 1024, 1.0, 1024) == 2 and tiles_needed(1.0, 1024, 1.0, 1024) == 1
    assert tiles_needed(0.75, 1024, 3.0, 1024) == 4


def test_own_tries_correct_the_expected_coverage() -> None:
    usual = expected([])
    assert usual.middle == pytest.approx(USUAL) and usual.low < usual.middle < usual.high
    after = expected([0.6] * 8)
    assert after.middle == pytest.approx((PRIOR * USUAL + 8 * 0.6) / (PRIOR + 8))
    assert after.high - after.low < usual.high - usual.low


@given(st.lists(st.tuples(st.floats(0.01, 10), st.sampled_from("abcdef")), min_size=1, max_size=40), st.integers(1, 5))
def test_a_split_is_whole_and_even(things: list[tuple[float, str]], sheets: int) -> None:
    parts = [Part(str(n), area, group) for n, (area, group) in enumerate(things)]
    found = split(parts, sheets)
    assert found.keys() == {p.key for p in parts} and set(found.values()) <= set(range(sheets))
    total = sum(p.area for p in parts)
    filled = [sum(p.area for p in parts if found[p.key] == s) for s in range(sheets)]
    # No unit that stays whole is larger than 1.2 shares or one part, so the fullest sheet has at most that over an even share.
    assert max(filled) <= total / sheets + max(1.2 * total / sheets, max(p.area for p in parts)) + 1e-9


def test_small_groups_stay_together_and_capacity_counts() -> None:
    parts = [Part(f"{g}{k}", 1.0, g) for g in "abcd" for k in range(3)]
    found = split(parts, 2)
    assert all(len({found[f"{g}{k}"] for k in range(3)}) == 1 for g in "abcd")
    uneven = split(parts, 2, [3.0, 1.0])
    assert sum(v == 0 for v in uneven.values()) == 9


def test_one_twin_is_packed_and_the_others_follow() -> None:
    boxes: Boxes = [(0.1, 0.1, 0.3, 0.2), (0.1, 0.1, 0.3, 0.2), (0.5, 0.5, 0.9, 0.6), (0.1, 0.1, 0.3, 0.2)]
    pieces = pieces_of(squares(boxes, flip=frozenset({1})))
    twins = np.array([4, 4, -1, 4])
    recipe = Recipe(512, 4, 2, seconds=0.5, passes=3)
    packed = pack_sheet(pieces, recipe, rules=SheetRules(twins=twins))
    laid = placed(pieces, packed.transforms)
    assert shapely.area(shapely.symmetric_difference(laid[0], laid[1])) < 1e-9
    assert shapely.area(shapely.symmetric_difference(laid[0], laid[3])) < 1e-9
    proof = prove(pieces, packed.transforms, 512, twins=twins)
    assert proof.ok and proof.twins == 3 and proof.gap_px is not None and proof.gap_px >= 4 - 1e-3
    assert prove(pieces, packed.transforms, 512).overlap_pairs == 3, "without the mark they overlap"
    alone = pack_sheet(pieces, recipe)
    assert prove(pieces, alone.transforms, 512).ok
    assert packed.result.best.common > alone.result.best.common, "fewer islands to pack are larger"


def test_twins_that_lie_elsewhere_do_not_follow() -> None:
    regions = np.array([shapely.box(0, 0, 1, 1), shapely.box(0, 0, 1, 1), shapely.box(3, 0, 4, 1)])
    lead = leaders(regions, np.array([0, 0, 0]), np.array([1.0, 2.0, 1.0]))
    assert lead.tolist() == [1, 1, 2]
    before = np.tile(IDENTITY, (3, 1))
    after = before.copy()
    after[1] = [0.3, -1, 2, 5, 6]
    assert follow(before, after, lead)[0] == pytest.approx(after[1])
    assert grouped(np.array([[0, 2], [2, 4]]), 6).tolist() == [0, -1, 0, -1, 0, -1]


def test_closed_tiles_stay_and_open_ones_take_the_rest() -> None:
    pieces = pieces_of(squares(loose(12)))
    recipe = Recipe(256, 4, 2, columns=3, seconds=0.5, passes=3)
    first = pack_sheet(pieces, recipe)
    old = np.concatenate(first.transforms)
    corner = corners_of(shapely.bounds(placed(pieces, first.transforms)))
    there = (corner == (0, 0)).all(axis=1)
    assert there.any() and not there.all()
    again = pack_sheet(pieces, recipe, rules=SheetRules(closed=frozenset({1001})), present=old)
    new = np.concatenate(again.transforms)
    assert np.abs(new[there] - old[there]).max() == 0
    moved = corners_of(shapely.bounds(placed(pieces, again.transforms)))[~there]
    assert set(map(tuple, moved)) <= {(1.0, 0.0), (2.0, 0.0)}
    assert prove(pieces, again.transforms, 256, (3, 1)).ok
    with pytest.raises(QuiltError, match="All tiles"):
        pack_sheet(pieces, recipe, rules=SheetRules(closed=frozenset({1001, 1002, 1003})), present=old)


def test_a_region_is_kept_free() -> None:
    pieces = pieces_of(squares(loose(20)))
    free = ((1001, (0.0, 0.0, 0.5, 0.5)),)
    recipe = Recipe(256, 4, 2, seconds=0.5, passes=4)
    packed = pack_sheet(pieces, recipe, rules=SheetRules(free=free))
    laid = placed(pieces, packed.transforms)
    assert shapely.distance(shapely.box(0, 0, 0.5, 0.5), shapely.union_all(laid)) * 256 >= 4 - 1e-3
    assert prove(pieces, packed.transforms, 256, (1, 1)).ok
    assert packed.result.best.coverage == pytest.approx(shapely.area(laid).sum(), rel=1e-6)


def test_equal_density_over_tiles_of_different_resolution() -> None:
    """The same square metre covers as many texels on every tile: UV area x px squared is one number."""
    pieces = pieces_of(squares([(0, 0, 0.1, 0.1)] * 41))
    recipe = Recipe(512, 4, 2, columns=3, seconds=0.5, passes=3, tile_px=(512, 256, 256))
    packed = pack_sheet(pieces, recipe)
    laid = placed(pieces, packed.transforms)
    px = Grid(512, 3, 1, {1002: 256, 1003: 256}).px_of(shapely.bounds(laid))
    texels = shapely.area(laid) * px**2
    assert len(set(px)) > 1 and texels == pytest.approx(texels[0], rel=1e-9)
    assert prove(pieces, packed.transforms, 512, (3, 1), tile_px={1002: 256, 1003: 256}).gap_px >= 4 - 1e-3  # type: ignore[operator]


def test_each_tile_is_filled_to_its_border() -> None:
    """Each tile is packed again on its own: no island gets smaller, those of one tile keep one scale, and the tiles' scales differ."""
    pieces = pieces_of(squares(loose(23)))
    common = pack_sheet(pieces, Recipe(256, 2, 1, columns=2, seconds=1, passes=2))
    each = pack_sheet(pieces, Recipe(256, 2, 1, columns=2, seconds=1, passes=6, fill="each"))
    assert prove(pieces, each.transforms, 256, (2, 1)).ok
    scale = np.concatenate(each.transforms)[:, 2] / np.sqrt(np.concatenate([p.world_area / p.islands.area for p in pieces]))
    tile = corners_of(shapely.bounds(placed(pieces, each.transforms)))[:, 0]
    for t in (0, 1):
        assert scale[tile == t] == pytest.approx(scale[tile == t][0], rel=1e-9)
    assert abs(scale[tile == 0][0] / scale[tile == 1][0] - 1) > 1e-6
    assert each.result.best.coverage >= common.result.best.coverage * 0.97


@pytest.mark.parametrize("strict", [False, True])
def test_bunches_lie_together(strict: bool) -> None:
    """Proven by hulls: no foreign island reaches into a strict bunch's hull; a loose one is at least compact."""
    pieces = pieces_of(squares(loose(36)))
    bunch = np.full(36, -1)
    bunch[:8], bunch[8:16] = 0, 1
    rules = SheetRules(bunch=bunch, strict=frozenset({0, 1}) if strict else frozenset())
    packed = pack_sheet(pieces, Recipe(512, 4, 2, seconds=3, passes=6), rules=rules)
    proof = prove(pieces, packed.transforms, 512, (1, 1))
    assert proof.ok and proof.gap_px is not None and proof.gap_px >= 4 - 1e-3
    laid = placed(pieces, packed.transforms)
    for group in (0, 1):
        mine = laid[bunch == group]
        hull = shapely.convex_hull(shapely.union_all(mine))
        assert hull.area < 2.2 * shapely.area(mine).sum()
        if strict:
            assert not shapely.intersects(hull, laid[bunch != group]).any()


def test_held_bunches_and_rules_stay_exact() -> None:
    pieces = pieces_of(squares(loose(16)))
    recipe = Recipe(512, 4, 2, seconds=1, passes=4)
    old = np.concatenate(pack_sheet(pieces, recipe).transforms)
    held = np.zeros(16, bool)
    held[[2, 5]] = True
    bunch = np.where(np.arange(16) < 6, 0, -1)
    again = pack_sheet(pieces, recipe, rules=SheetRules(held=held, bunch=bunch), present=old)
    new = np.concatenate(again.transforms)
    assert np.abs(new[held] - old[held]).max() <= 1e-9
    assert prove(pieces, again.transforms, 512, (1, 1)).ok


def test_other_sheets_are_left_alone() -> None:
    pieces = pieces_of(squares(loose(10)))
    only = np.arange(10) < 4
    packed = pack_sheet(pieces, Recipe(256, 4, 2, seconds=0.5, passes=2), rules=SheetRules(only=only))
    table = np.concatenate(packed.transforms)
    assert (table[~only] == IDENTITY).all()
    assert prove(pieces, packed.transforms, 256, only=only).ok
    assert prove(pieces, packed.transforms, 256, only=~only).overlap_pairs > 0
    with pytest.raises(QuiltError, match="no island lies"):
        pack_sheet(pieces, Recipe(256, 4, 2), rules=SheetRules(only=np.zeros(10, bool)))


def test_tiles_filled_each_keep_bunches_and_the_gap_between_materials() -> None:
    """Seen: 12 px asked between two materials, 7.1 given, once every tile was filled to its border."""
    pieces = pieces_of(squares(loose(30)))
    kind, bunch = np.arange(30) % 2, np.where(np.arange(30) < 6, 0, -1)
    rules = SheetRules(kind=kind, apart_px=12.0, bunch=bunch, strict=frozenset({0}))
    packed = pack_sheet(pieces, Recipe(512, 3, 1, columns=2, seconds=3, passes=8, fill="each"), rules=rules)
    laid = placed(pieces, packed.transforms)
    tile = corners_of(shapely.bounds(laid))[:, 0]
    for t in (0, 1):
        one, other = (laid[(tile == t) & (kind == k)] for k in (0, 1))
        if len(one) and len(other):
            assert not shapely.STRtree(one).query(other, predicate="dwithin", distance=(12 - 1e-2) / 512).size
    hull = shapely.convex_hull(shapely.union_all(laid[bunch == 0]))
    assert len(set(tile[bunch == 0])) == 1 and not shapely.intersects(hull, laid[bunch < 0]).any()


def test_regions_kept_free_weigh_as_much_as_their_tile() -> None:
    """Arithmetic: half of the small tile of 256 px is kept free, which is a tenth of all texels of 512 x 512 and 256 x 256; seen: .307 for .665."""
    pieces = pieces_of(squares(loose(20)))
    recipe = Recipe(512, 4, 2, columns=2, seconds=1, passes=4, tile_px=(512, 256))
    packed = pack_sheet(pieces, recipe, rules=SheetRules(free=((1002, (0.0, 0.0, 1.0, 0.5)),)))
    laid = placed(pieces, packed.transforms)
    px = Grid(512, 2, 1, {1002: 256}).px_of(shapely.bounds(laid))
    assert packed.result.best.coverage == pytest.approx((shapely.area(laid) * px**2).sum() / (512**2 + 256**2), rel=1e-6)


def test_islands_keep_the_texels_that_they_were_painted_with(tmp_path: Path) -> None:
    """Two equal squares in UV, one painted in 1024 px and one in 512: merged, the first is twice as wide (arithmetic); one without paint is as the median."""
    for name, px in (("large", 1024), ("small", 512)):
        Image.new("RGB", (px, px)).save(tmp_path / f"{name}.png")
        text = grid_obj(1).replace(b"\nf ", f"\nusemtl {name}\nf ".encode()).replace(b"o ", b"mtllib " + name.encode() + b".mtl\no ", 1)
        (tmp_path / f"{name}.obj").write_bytes(text)
        (tmp_path / f"{name}.mtl").write_text(f"newmtl {name}\nmap_Kd {name}.png\n")
    names = [str(tmp_path / f"{n}.obj") for n in ("large", "small")]
    for option, ratio in (("--keep-texels", 2.0), ("--keep-ratios", 1.0)):
        out = tmp_path / option[2:]
        assert main(["pack", *names, "--map", "512", "--seconds", "1", "--out", str(out), option]) == 0
        large, small = (
            np.ptp(formats.read((out / f"{n}.obj").read_bytes(), "a.obj").meshes[0].channels[0].uvs, axis=0) for n in ("large", "small")
        )
        assert max(large) / max(small) == pytest.approx(ratio, rel=1e-3)
