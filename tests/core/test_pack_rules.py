"""What holds for single islands and tiles: turning, mirroring, held islands, resolutions, stopping. Proven by shapely."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.errors import DoesNotFit
from quilt_core.pack import Recipe, Rules, pack

from .test_pack import check, mixed, placed


def test_mirrored_only_where_it_is_allowed() -> None:
    hook = shapely.Polygon([(0, 0), (3, 0), (3, 1), (1, 1), (1, 4), (0, 4)])
    other = shapely.affinity.scale(hook, -1, 1)
    regions = np.array([hook, other] * 8, object)
    plain = pack(regions, Recipe(512, 2, 1, passes=30)).best
    assert (plain.mirror == 1).all()
    free = pack(regions, Recipe(512, 2, 1, passes=30, mirror=True)).best
    check(regions, Recipe(512, 2, 1), free)
    some = np.arange(16) % 4 == 0
    ruled = pack(regions, Recipe(512, 2, 1, passes=30), rules=Rules(mirror=some)).best
    check(regions, Recipe(512, 2, 1), ruled)
    assert (ruled.mirror[~some] == 1).all()


def test_upright_islands_do_not_turn_and_a_long_one_may() -> None:
    regions = np.array([shapely.box(0, 0, 10, 0.4)] + [shapely.box(0, 0, 1.4, 0.9 + 0.1 * k) for k in range(10)], object)
    rotations = ("free",) + ("none",) * 10
    p = pack(regions, Recipe(512, 2, 1, passes=40), rules=Rules(rotate=rotations)).best
    check(regions, Recipe(512, 2, 1), p)
    assert (p.angle[1:] == 0).all()


def test_a_long_island_that_may_turn_freely_lies_across_the_tile() -> None:
    """Arithmetic: a bar as long as the side of the tile in steps of 90 degrees is shorter than its diagonal."""
    regions = np.array([shapely.box(0, 0, 12, 0.2)] + [shapely.box(0, 0, 0.8, 0.8)] * 12, object)
    steps = pack(regions, Recipe(512, 2, 1, passes=40)).best
    free = pack(regions, Recipe(512, 2, 1, "free", passes=40)).best
    check(regions, Recipe(512, 2, 1, "free"), free)
    assert free.common > 1.1 * steps.common


@pytest.mark.parametrize("density", [None, 400.0])
def test_held_islands_stay_and_the_rest_keeps_off(density: float | None) -> None:
    regions = mixed(24)
    recipe = Recipe(512, 4, 2, passes=26)
    before = pack(regions, recipe).best
    done = placed(regions, before)
    held = np.arange(24) % 5 == 0
    size = before.common if density else 1.0
    again = np.array(
        [d if h else shapely.affinity.scale(r, size * 0.8, size * 0.8, origin=(0, 0)) for d, r, h in zip(done, regions, held, strict=True)],
        object,
    )
    recipe = Recipe(512, 4, 2, passes=40, density=density)
    p = pack(again, recipe, rules=Rules(held=held)).best
    check(again, recipe, p)
    assert (p.offset[held] == 0).all() and (p.scale[held] == 1).all() and (p.angle[held] == 0).all()
    assert p.common > 0 and (density is None or p.common == pytest.approx(1))


def test_held_islands_that_overlap_are_left_alone() -> None:
    regions = np.array([shapely.box(0.1, 0.1, 0.4, 0.4), shapely.box(0.3, 0.3, 0.5, 0.5)] + [shapely.box(0, 0, 1, 1)] * 5, object)
    held = np.array([True, True] + [False] * 5)
    p = pack(regions, Recipe(512, 4, 2, passes=20), rules=Rules(held=held)).best
    done = placed(regions, p)
    assert shapely.equals_exact(done[0], regions[0]) and shapely.equals_exact(done[1], regions[1])
    for i in range(2, 7):
        assert min(done[i].distance(done[j]) for j in range(7) if j != i) * 512 >= 4 - 1e-3
    assert pack(regions[:2], Recipe(512, 4, 2), rules=Rules(held=held[:2])).best.coverage > 0


def test_tiles_of_different_resolution_have_one_density() -> None:
    """Arithmetic: in a tile of half the resolution the same texels are twice as large in UV."""
    recipe = Recipe(1024, 4, 2, columns=2, passes=30, tile_px=(1024, 512))
    regions = mixed(60)
    p = pack(regions, recipe).best
    assert set(p.tile) == {0, 1}
    assert np.allclose(p.scale[p.tile == 1], 2 * p.scale[p.tile == 0][0]) and p.scale[p.tile == 0][0] == p.common
    done, px = placed(regions, p), np.array([1024, 512])[p.tile]
    for i in range(60):
        low_u, low_v, high_u, high_v = done[i].bounds
        assert min(low_u - p.tile[i], low_v, p.tile[i] + 1 - high_u, 1 - high_v) * px[i] >= 2 - 1e-3
        near = [done[i].distance(done[j]) for j in range(60) if j != i and p.tile[i] == p.tile[j]]
        assert min(near) * px[i] >= 4 - 1e-3
    texels = sum(shapely.area(done[i]) * px[i] ** 2 for i in range(60))
    assert p.coverage == pytest.approx(texels / (1024**2 + 512**2))


def test_the_search_beats_its_own_first_layouts() -> None:
    regions = mixed(40, 3)
    result = pack(regions, Recipe(512, 2, 1, passes=60))
    first = pack(regions, Recipe(512, 2, 1, passes=12))
    assert result.best.coverage > 1.02 * first.best.coverage
    check(regions, Recipe(512, 2, 1), result.best)


def test_stopping_answers_at_once() -> None:
    """A stop waits for nothing that runs: of a search that was given an hour, at most a layout that was on its way comes after it."""
    seen: list[float] = []
    asked: list[int] = []

    def stop() -> bool:
        if len(seen) > 3:
            asked.append(len(seen))
        return len(seen) > 3

    result = pack(mixed(60), Recipe(512, 2, 1, seconds=3600), lambda p: seen.append(p.coverage), stop)
    assert result.stopped and len(seen) <= asked[0] + 2 and result.best.coverage == max(seen)


def test_padding_wider_than_the_islands() -> None:
    regions = np.array([shapely.box(0, 0, 0.01, 0.01)] * 30, object)
    recipe = Recipe(256, 20, 10, passes=30)
    check(regions, recipe, pack(regions, recipe).best)
    with pytest.raises(DoesNotFit):
        pack(np.array([shapely.box(0, 0, 1, 1)] * 400, object), Recipe(256, 100, 100, passes=4))


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 10_000), st.integers(2, 14), st.sampled_from(["none", "90", "free"]), st.booleans())
def test_any_mixture(seed: int, count: int, rotate: str, mirror: bool) -> None:
    """Random rings, needles and stars, duplicates, and one giant."""
    random = np.random.default_rng(seed)
    regions = list(mixed(count, seed))
    regions += [regions[0], shapely.box(0, 0, 0.001, 3), shapely.Point(0, 0).buffer(random.uniform(1, 8))]
    heap = np.array(regions, object)
    recipe = Recipe(512, 3, 1, rotate, passes=28, mirror=mirror, seed=seed)
    check(heap, recipe, pack(heap, recipe).best)
