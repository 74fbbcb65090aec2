"""How large islands are against each other before they are packed."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.arrange.sizes import endless, painted_texels, sized_regions, texel_ratios
from quilt_core.model.material import Material, Texture
from quilt_core.pack import Recipe

from .test_faults import pieces_of, squares

RECIPE = Recipe(512, 4, 2)


def boxes(*sizes: tuple[float, float]) -> np.ndarray:
    return np.array([shapely.box(0, 0, w, h) for w, h in sizes], object)


def test_a_long_one_among_others_is_endless_and_a_lone_one_is_not() -> None:
    """Arithmetic: ten unit squares and a strip of area 1 fill a square of side 3.3; 16 times that is 53."""
    free = np.zeros(11, bool)
    others = [(1.0, 1.0)] * 10
    assert not endless(boxes(*others, (52.0, 1 / 52)), free).any()
    assert endless(boxes(*others, (54.0, 1 / 54)), free).tolist() == [False] * 10 + [True]
    assert not endless(boxes((1000.0, 0.001)), np.zeros(1, bool)).any()
    held = np.r_[np.zeros(10, bool), True]
    assert not endless(boxes(*others, (1e6, 1e-6)), held).any(), "held ones stay what they are"


@given(st.lists(st.tuples(st.floats(1e-6, 1e6), st.floats(1e-6, 1e6)), min_size=1, max_size=12))
def test_what_is_left_fits_a_map(sizes: list[tuple[float, float]]) -> None:
    regions = boxes(*sizes)
    long = endless(regions, np.zeros(len(regions), bool))
    assert not long.all()
    if (~long).sum() > 1:
        box = shapely.bounds(regions[~long])
        assert (box[:, 2:] - box[:, :2]).max() <= 16.001 * np.sqrt(shapely.area(regions[~long]).sum())


def test_endless_ones_are_made_shorter_wherever_islands_are_sized() -> None:
    """By evening: a sliver a millionth of its length wide, on a model where it is as large as the others."""
    pieces = pieces_of(squares([(0.1, 0.1, 0.3, 0.3), (0.4, 0.1, 0.6, 0.3), (0.1, 0.5, 0.9, 0.5 + 1e-6)]))
    pieces[0].world_area[:] = 1.0
    found = sized_regions(pieces, RECIPE)
    assert found.endless.tolist() == [2]
    box = shapely.bounds(found.regions)
    assert np.ptp(box[2][[0, 2]]) == pytest.approx(np.sqrt(shapely.area(found.regions[:2]).sum()) / 8)
    assert found.base[2, 2] * 0.8 == pytest.approx(np.ptp(box[2][[0, 2]])), "the similarity says the size that it has"


def test_texels_of_old_pictures_against_each_other() -> None:
    body = squares([(0.1, 0.1, 0.3, 0.3), (0.4, 0.1, 0.6, 0.3), (0.7, 0.1, 0.9, 0.3)])
    scene, pieces = formats.read(body, "a.obj"), pieces_of(body)
    for mesh in (scene.meshes[0], pieces[0].mesh):
        mesh.materials[:] = np.repeat([0, 1, -1], 2)
    scene.materials = [Material(n, {"map_Kd": Texture("base colour", f"{n}.png")}) for n in ("large", "small")]
    # 2048 and 512 px: the median is 1280, which the one without paint takes (arithmetic).
    texels = [painted_texels(scene, 0, np.array([2048.0, 512.0]))]
    assert texels[0] == pytest.approx(np.repeat([0.02 * 2048**2, 0.02 * 512**2, np.nan], 2), nan_ok=True)
    assert texel_ratios(pieces, texels) == pytest.approx([1.6, 0.4, 1.0])
    assert texel_ratios(pieces, [np.full(6, np.nan)]).tolist() == [1, 1, 1]
    present = np.tile([0.3, 1.0, 1.0, 0.0, 0.0], (3, 1))
    present[:, 2] = 2.0, 0.1, 7.0
    sized = sized_regions(pieces, RECIPE, True, texel_ratios(pieces, texels, present), present)
    side = np.sqrt(shapely.area(sized.regions))
    assert side / side[2] == pytest.approx([1.6, 0.4, 1.0]), "however large they lie now"
    # The second one was unwrapped at half its size since it was painted: as many texels as ever.
    source = pieces[0].mesh.channels[0]
    source.uvs[np.unique(source.triangles[2:4])] *= 0.5
    large, small, _ = texel_ratios(pieces, texels)
    assert small / large == pytest.approx(0.5)
