"""A layout is always there soon: shelves of boxes, whatever the shapes, and a stop keeps it."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from quilt_core.errors import Cancelled
from quilt_core.pack import Packing, Recipe, Rules, pack
from quilt_core.pack.search import Search
from quilt_core.pack.shelves import shelved

from .test_pack import placed


def wild(n: int, seed: int = 1) -> np.ndarray:
    """Boxes, triangles and thin strips whose sizes differ by 10,000, some far away."""
    random = np.random.default_rng(seed)
    out = []
    for k in range(n):
        size = 10.0 ** random.uniform(-4, 0)
        u, v = random.uniform(-77, 77, 2)
        shape = (shapely.box(0, 0, 1, 1), shapely.Polygon([(0, 0), (1, 0), (0.3, 1)]), shapely.box(0, 0, 5, 0.02))[k % 3]
        out.append(shapely.transform(shape, lambda xy, s=size, u=u, v=v: xy * s + (u, v)))
    return np.array(out, object)


@pytest.mark.parametrize("rotate", ["none", "90", "free"])
def test_shelves_keep_the_padding_and_the_margin(rotate: str) -> None:
    """By shapely, on the placed polygons."""
    regions, recipe = wild(300), Recipe(1024, 3, 5, rotate)
    search = Search(regions, recipe, Rules(), None)
    state = shelved(search)
    assert state is not None and search.proven(state)
    laid = placed(regions, search.packing(state))
    tree = shapely.STRtree(laid)
    i, j = tree.query(laid, predicate="dwithin", distance=(3 - 1e-3) / 1024)
    box = shapely.total_bounds(laid)
    assert (i == j).all() and box[:2].min() >= (5 - 1e-6) / 1024 and box[2:].max() <= 1 - (5 - 1e-6) / 1024


def test_the_first_layout_of_many_is_there_before_any_pass_and_a_stop_keeps_it() -> None:
    regions = wild(2000)
    seen: list[Packing] = []
    result = pack(regions, Recipe(2048, 1, 1, seconds=30), seen.append, lambda: bool(seen))
    assert result.stopped and len(seen) >= 1 and seen[0].coverage > 0 and result.best.coverage >= seen[0].coverage
    assert len(result.best.offset) == 2000


def test_shelves_stand_in_for_a_held_density_only_where_they_fit_it() -> None:
    boxes = np.array([shapely.box(0, 0, 0.01, 0.01)] * 500, object)
    search = Search(boxes, Recipe(1024, 1, 1, density=1.0), Rules(), None)
    assert shelved(search) is not None
    large = np.array([shapely.box(0, 0, 0.045, 0.045)] * 500, object)
    assert shelved(Search(large, Recipe(1024, 1, 1, density=1.0), Rules(), None)) is None, "500 of them cover 1.01 of the tile"


def test_a_held_density_that_is_stopped_is_not_said_not_to_fit() -> None:
    """Seen: whoever stopped the search was told that islands do not fit."""
    random = np.random.default_rng(4)
    shapes = np.array([shapely.Polygon([(0, 0), (w, 0), (0.4 * w, h)]) for w, h in random.uniform(0.05, 0.2, (120, 2))], object)
    area = float(shapely.area(shapes).sum())
    tight = shapely.transform(shapes, lambda xy: xy * np.sqrt(0.93 / area))
    with pytest.raises(Cancelled, match="was stopped before"):
        pack(tight, Recipe(1024, 1, 0, density=1.0, seconds=60), None, lambda: True)


def test_held_islands_have_no_shelves() -> None:
    boxes = np.array([shapely.box(0, 0, 0.2, 0.2), shapely.box(0.5, 0.5, 0.6, 0.6)], object)
    assert shelved(Search(boxes, Recipe(512, 1, 1), Rules(held=np.array([True, False])), None)) is None
