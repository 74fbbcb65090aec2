"""The packer's promises, each checked by shapely on the polygons that it was given."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.errors import DoesNotFit
from quilt_core.measure.gaps import smallest_gap
from quilt_core.pack import Packing, Recipe, Rules, pack
from quilt_core.pack.construct import Construct
from quilt_core.pack.improve import Improve
from quilt_core.pack.search import Search


def placed(regions: np.ndarray, p: Packing) -> np.ndarray:
    out = []
    for r, a, m, z, o in zip(regions, p.angle, p.mirror, p.scale, p.offset, strict=True):
        c, s = np.cos(a) * z, np.sin(a) * z
        out.append(shapely.affinity.affine_transform(r, [c * m, -s, s * m, c, o[0], o[1]]))
    return np.array(out, object)


def check(regions: np.ndarray, recipe: Recipe, p: Packing) -> None:
    """Padding, margin, no overlap, coverage: by brute force over all pairs."""
    done = placed(regions, p)
    for i in range(len(done)):
        for j in range(i):
            if p.tile[i] == p.tile[j]:
                assert done[i].distance(done[j]) * recipe.map_px >= recipe.padding_px - 1e-3
    for q, t in zip(done, p.tile, strict=True):
        u, v = t % recipe.columns, t // recipe.columns
        low_u, low_v, high_u, high_v = q.bounds
        assert min(low_u - u, low_v - v, u + 1 - high_u, v + 1 - high_v) * recipe.map_px >= recipe.margin_px - 1e-3
    assert p.coverage == pytest.approx(sum(q.area for q in done) / recipe.tiles)


def mixed(count: int, seed: int = 1) -> np.ndarray:
    """Boxes, needles, rings and stars."""
    random = np.random.default_rng(seed)
    out = []
    for k in range(count):
        size = random.uniform(0.3, 2)
        if k % 4 == 0:
            out.append(shapely.box(0, 0, size, size * random.uniform(0.05, 1)))
        elif k % 4 == 1:
            out.append(shapely.Point(3, 3).buffer(size).difference(shapely.Point(3, 3).buffer(size * 0.7)))
        elif k % 4 == 2:
            a = np.linspace(0, 2 * np.pi, 11)[:-1]
            r = size * np.where(np.arange(10) % 2, 0.4, 1)
            out.append(shapely.Polygon(np.column_stack([r * np.cos(a), r * np.sin(a)])))
        else:
            out.append(shapely.Polygon([(0, 0), (size, 0), (0, 0.4 * size)]))
    return np.array(out, object)


@pytest.mark.parametrize("rotate", ["none", "180", "90", "45", "free"])
@pytest.mark.parametrize(("padding", "margin"), [(0, 0), (4, 2), (1, 8)])
def test_padding_and_margin_hold(rotate: str, padding: float, margin: float) -> None:
    recipe = Recipe(512, padding, margin, rotate, passes=6)
    regions = mixed(24)
    result = pack(regions, recipe)
    check(regions, recipe, result.best)
    if rotate != "free":
        steps = result.best.angle / (2 * np.pi / {"none": 1, "180": 2, "90": 4, "45": 8}[rotate])
        assert np.allclose(steps, np.round(steps))


def test_padding_is_not_exceeded_without_need() -> None:
    regions = mixed(24)
    gap = smallest_gap(placed(regions, pack(regions, Recipe(512, 4, 2, passes=8)).best)) * 512
    assert 4 <= gap < 4.1


def test_small_islands_go_into_holes() -> None:
    """Common practice, no source: the holes of large islands are filled. Nine boxes fit a square only inside the ring."""
    frame = shapely.box(0, 0, 10, 10).difference(shapely.box(1, 1, 9, 9))
    regions = np.array([frame] + [shapely.box(0, 0, 2, 2)] * 9, object)
    p = pack(regions, Recipe(512, 1, 1, passes=12)).best
    done = placed(regions, p)
    assert all(shapely.convex_hull(done[0]).contains(q) for q in done[1:])


def test_the_same_input_gives_the_same_layout_bit_for_bit() -> None:
    regions = mixed(30)
    a, b = (pack(regions, Recipe(512, 2, 1, passes=15, seed=7)).best for _ in range(2))
    assert np.array_equal(a.offset, b.offset) and np.array_equal(a.angle, b.angle) and a.common == b.common


def test_several_tiles_share_one_scale() -> None:
    recipe = Recipe(512, 2, 1, columns=2, rows=2, passes=12)
    regions = mixed(90)
    p = pack(regions, recipe).best
    check(regions, recipe, p)
    assert set(p.tile) == {0, 1, 2, 3} and p.coverage > 0.3


def test_a_held_density_is_held_or_refused() -> None:
    regions = np.array([shapely.box(0, 0, 0.2, 0.2)] * 9, object)
    recipe = Recipe(1000, 4, 2, density=200.0, passes=10)
    p = pack(regions, recipe).best
    assert p.common == pytest.approx(1)
    check(regions, recipe, p)
    crowd = np.array([shapely.box(0, 0, 0.5, 0.5)] * 4, object)  # four quarters leave no room for any padding
    with pytest.raises(DoesNotFit) as caught:
        pack(crowd, recipe)
    assert caught.value.islands and caught.value.best_density == pytest.approx(0.99, abs=0.03)


def test_progress_only_gets_better_and_stop_keeps_the_best() -> None:
    seen: list[float] = []
    result = pack(mixed(30), Recipe(512, 2, 1, seconds=60), lambda p: seen.append(p.coverage), lambda: len(seen) >= 2)
    assert result.stopped and seen == sorted(seen) and result.best.coverage == seen[-1]
    at_once = pack(mixed(30), Recipe(512, 2, 1, seconds=60), None, lambda: True)
    assert at_once.stopped and at_once.best.coverage > 0  # even then there is a first layout to keep


def test_nothing_one_and_a_thousand() -> None:
    assert pack(np.zeros(0, object), Recipe()).best.coverage == 0
    one = pack(np.array([shapely.box(0, 0, 3, 3)], object), Recipe(1000, 8, 4, passes=4)).best
    assert one.coverage == pytest.approx(0.992**2, abs=2e-3)  # arithmetic: all but a margin of 4 px of 1000
    many = np.array([shapely.box(0, 0, 1 + k % 5, 1 + k % 3) for k in range(1000)], object)
    recipe = Recipe(2048, 4, 2, passes=1)
    p = pack(many, recipe).best
    assert smallest_gap(placed(many, p)) * 2048 >= 4 - 1e-3 and p.coverage > 0.5


@settings(max_examples=12, deadline=None)
@given(st.lists(st.tuples(st.floats(0.01, 5), st.floats(0.002, 5)), min_size=1, max_size=12), st.sampled_from([0.0, 1.0, 20.0]))
def test_any_boxes(sizes: list[tuple[float, float]], padding: float) -> None:
    """Needles, giants, padding larger than islands."""
    regions = np.array([shapely.box(0, 0, w, h) for w, h in sizes], object)
    recipe = Recipe(512, padding, padding / 2, passes=3)
    check(regions, recipe, pack(regions, recipe).best)


@pytest.mark.parametrize(
    "change", [{"rotate": "7"}, {"padding_px": -1}, {"padding_px": float("nan")}, {"map_px": 0}, {"columns": 11}, {"density": 0}]
)
def test_settings_that_cannot_work_are_refused(change: dict) -> None:
    with pytest.raises(ValueError):
        Recipe(**change)


def test_a_worker_with_a_layout_of_its_own_only_ever_helps() -> None:
    """Bounded by passes, it repeats bit for bit; what it finds counts where it is better, and it joins the other after its share."""
    shapes = np.array([shapely.box(0, 0, 1 + 0.37 * k, 2.4 - 0.21 * k) for k in range(9)], object)

    def found() -> tuple[float, bool]:
        search = Search(shapes, Recipe(256, 1.0, 0.0, passes=30), Rules(), None)
        construct = Construct(search)
        construct.run(256, False)
        first = search.best
        assert first is not None
        improve = Improve(search, [first, search.sided(first, 1.1 * first.side)])
        improve.explore(improve.workers[1])
        improve.run()
        assert search.best is not None and search.best.side <= first.side and search.proven(search.best)
        return search.best.side, improve.workers[1].own is None

    assert found() == found() and found()[1]
