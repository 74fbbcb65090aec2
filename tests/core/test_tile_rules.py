"""Islands that belong to tiles: proven by shapely and arithmetic on what comes out, apart from the packer."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.arrange.sheet import SheetPacking, SheetRules, pack_sheet
from quilt_core.errors import DoesNotFit, QuiltError
from quilt_core.pack import Recipe
from quilt_core.uv.analysis import IDENTITY, MeshIslands

from .test_faults import pieces_of, squares
from .test_sheets import Boxes, placed


def some(seed: int, count: int) -> list[MeshIslands]:
    """Rectangles of many shapes, each an island."""
    rng = np.random.default_rng(seed)
    size = rng.uniform(0.02, 0.3, (count, 2))
    boxes: Boxes = [(0.0, 0.0, float(w), float(h)) for w, h in size]
    return pieces_of(squares(boxes))


def proven(pieces: list[MeshIslands], packed: SheetPacking, recipe: Recipe, tile: np.ndarray) -> np.ndarray:
    """Every island lies within its tile, at the margin and the padding in texels of that tile; the density (n,) of each in texels per unit."""
    regions = placed(pieces, packed.transforms)
    px = np.array([recipe.map_px] * recipe.tiles if recipe.tile_px is None else recipe.tile_px)
    number = tile - 1001
    corner = np.column_stack([number % 10, number // 10])
    index = (number // 10) * recipe.columns + number % 10
    box = shapely.bounds(regions)
    margin = recipe.margin_px / px[index]
    assert (box[:, :2] >= corner + margin[:, None] - 1e-7).all()
    assert (box[:, 2:] <= corner + 1 - margin[:, None] + 1e-7).all()
    for t in np.unique(index):
        mine = regions[index == t]
        for k, one in enumerate(mine):
            others = np.delete(mine, k)
            if len(others):
                assert shapely.distance(one, others).min() * px[t] >= recipe.padding_px - 1e-4
    area = np.concatenate([p.world_area for p in pieces])
    return np.sqrt(shapely.area(regions) / area) * px[index]


@settings(max_examples=4, deadline=None)
@given(st.integers(0, 10_000))
def test_three_parts_in_three_tiles_of_unlike_resolution(seed: int) -> None:
    pieces = some(seed, 24)
    tile = 1001 + np.random.default_rng(seed).integers(0, 3, 24)
    recipe = Recipe(512, 4, 2, columns=3, seconds=5, passes=9, tile_px=(512, 1024, 256))
    packed = pack_sheet(pieces, recipe, rules=SheetRules(tile=tile))
    density = proven(pieces, packed, recipe, tile)
    assert np.ptp(density) < 1e-6 * density.max()
    # The fullest tile decides: alone it has the common density, the others could have more.
    assert [t.tile for t in packed.tiles] == sorted(set(tile.tolist()))
    assert min(t.alone for t in packed.tiles) == pytest.approx(1.0) and sum(t.islands for t in packed.tiles) == 24
    each = pack_sheet(
        pieces, Recipe(512, 4, 2, columns=3, seconds=5, passes=9, tile_px=(512, 1024, 256), fill="each"), rules=SheetRules(tile=tile)
    )
    own = proven(pieces, each, recipe, tile)
    for t in packed.tiles:
        mine = own[tile == t.tile]
        assert np.ptp(mine) < 1e-6 * mine.max() and mine[0] >= density[0] * 0.93


def test_what_belongs_nowhere_goes_where_there_is_room() -> None:
    pieces = some(3, 20)
    tile = np.where(np.arange(20) < 12, 1001, 0)
    packed = pack_sheet(pieces, Recipe(512, 4, 2, columns=2, seconds=5, passes=6), rules=SheetRules(tile=tile))
    where = 1001 + np.floor(shapely.bounds(placed(pieces, packed.transforms))[:, 0]).astype(int)
    assert (where[:12] == 1001).all() and (where[12:] == 1002).any()
    proven(pieces, packed, Recipe(512, 4, 2, columns=2), where)


def test_at_a_held_density_what_does_not_fit_is_told_by_tile() -> None:
    # Squares of 1 m2: at 100 px/m each covers 100 x 100 px of tiles of 256 px, so at most four fit.
    boxes: Boxes = [(0.0, 0.0, 1.0, 1.0)] * 10
    pieces = pieces_of(squares(boxes))
    tile = np.array([1001] * 3 + [1002] * 7)
    recipe = Recipe(256, 4, 2, columns=2, density=100, seconds=1, passes=6)
    with pytest.raises(DoesNotFit, match=r"Tile 1002: \d of 7 islands") as error:
        pack_sheet(pieces, recipe, rules=SheetRules(tile=tile))
    assert "1001" not in str(error.value) and set(error.value.islands) <= set(range(3, 10))
    tile = np.array([1001] * 3 + [1002] * 4 + [1003] * 3)
    recipe = Recipe(256, 4, 2, columns=3, density=100, seconds=1, passes=6)
    density = proven(pieces, pack_sheet(pieces, recipe, rules=SheetRules(tile=tile)), recipe, tile)
    assert density == pytest.approx(np.full(10, 100.0), rel=1e-6)


def test_one_tile_is_packed_and_the_rest_stays_to_the_bit() -> None:
    pieces = some(5, 18)
    tile = 1001 + np.arange(18) % 3
    recipe = Recipe(512, 4, 2, columns=3, seconds=5, passes=6)
    before = np.concatenate(pack_sheet(pieces, recipe, rules=SheetRules(tile=tile)).transforms)
    # Three islands of the first tile are sent to the second, which alone is packed.
    moved = tile.copy()
    moved[[0, 3, 6]] = 1002
    rules = SheetRules(tile=moved, closed=frozenset({1001, 1003}))
    after = pack_sheet(pieces, recipe, rules=rules, present=before)
    now = np.concatenate(after.transforms)
    still = moved != 1002
    assert np.array_equal(now[still], before[still]) and not np.allclose(now[~still], before[~still])
    proven(pieces, after, recipe, moved)


def test_a_tile_that_the_sheet_has_not_is_said() -> None:
    pieces = some(5, 4)
    with pytest.raises(QuiltError, match="2 islands belong to tile 1004"):
        pack_sheet(pieces, Recipe(512, 4, 2, columns=2, seconds=1), rules=SheetRules(tile=np.array([1001, 1001, 1004, 1004])))


def test_twins_bunches_held_islands_and_free_regions_still_hold() -> None:
    pieces = some(8, 12)
    now = np.tile(IDENTITY, (12, 1))
    # The first is held in the middle of the first tile.
    size = pieces[0].islands.box[0, 2:] - pieces[0].islands.box[0, :2]
    now[0, 2], now[0, 3:] = 0.5, 0.5 - 0.25 * size
    held = np.arange(12) == 0
    tile = np.array([0, 1001, 1001, 1001, 1001, 1002, 1002, 1002, 0, 0, 0, 0])
    group = np.where(np.isin(np.arange(12), [8, 9, 5]), 0, -1)
    rules = SheetRules(tile=tile, held=held, bunch=group, free=((1002, (0.0, 0.0, 0.4, 0.4)),))
    recipe = Recipe(512, 4, 2, columns=2, seconds=4)
    packed = pack_sheet(pieces, recipe, rules=rules, present=now)
    rows, regions = np.concatenate(packed.transforms), placed(pieces, packed.transforms)
    assert np.array_equal(rows[0], now[0])
    where = np.floor(shapely.bounds(regions)[:, 0]).astype(int) + 1001
    assert (where[1:5] == 1001).all() and (where[[5, 6, 7, 8, 9]] == 1002).all()
    proven(pieces, packed, recipe, where)
    assert not shapely.intersects(regions, shapely.box(1.0, 0.0, 1.4, 0.4)).any()
    with pytest.raises(DoesNotFit, match="two tiles"):
        pack_sheet(pieces, recipe, rules=SheetRules(tile=tile, bunch=np.where(np.isin(np.arange(12), [1, 5]), 0, -1)))


def test_twins_belong_where_one_of_them_does() -> None:
    boxes: Boxes = [(0.1, 0.1, 0.3, 0.2), (0.1, 0.1, 0.3, 0.2), (0.5, 0.5, 0.9, 0.6), (0.1, 0.7, 0.3, 0.9)]
    pieces = pieces_of(squares(boxes))
    packed = pack_sheet(
        pieces,
        Recipe(512, 4, 2, columns=2, seconds=1, passes=5),
        rules=SheetRules(tile=np.array([0, 1002, 1001, 0]), twins=np.array([4, 4, -1, -1])),
    )
    regions = placed(pieces, packed.transforms)
    assert shapely.intersection(regions[0], regions[1]).area == pytest.approx(shapely.area(regions[0]), rel=1e-6)
    assert (shapely.bounds(regions[:2])[:, 0] > 1).all() and shapely.bounds(regions[2])[2] < 1


def test_a_search_does_not_go_on_from_tiles_that_are_packed_one_by_one() -> None:
    pieces = some(5, 6)
    recipe = Recipe(512, 4, 2, columns=2, seconds=1, passes=4)
    tile = np.array([1001, 1002] * 3)
    before = np.concatenate(pack_sheet(pieces, recipe, rules=SheetRules(tile=tile)).transforms)
    with pytest.raises(QuiltError, match="parts that belong to tiles"):
        pack_sheet(pieces, recipe, rules=SheetRules(tile=tile, go_on=True), present=before)
