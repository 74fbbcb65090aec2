"""Left and right controllers made by others: one gets the UVs of the other, shuffled, judged by lengths alone (arithmetic)."""

from __future__ import annotations

import numpy as np
import pytest

from bench.copies import read, shuffled, whole
from quilt_core.model.scene import Floats, Mesh
from quilt_core.unwrap.copies import copied
from quilt_core.unwrap.match import matched
from quilt_core.unwrap.skin import laying_of, skin_of
from quilt_core.uv.areas import signed_areas
from quilt_core.uv.islands import find_islands
from tests.real_files import path


def pair(name: str) -> tuple[Mesh, Mesh]:
    left, right = (whole(read(path("webxr", f"{name}/{side}.glb"))) for side in ("left", "right"))
    return left, shuffled(right, np.random.default_rng(7))


def lengths(corners: Floats) -> Floats:
    return np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)


def ratios(points: Floats, uv: Floats) -> Floats:
    """UV length over length in space of every side, by triangle (T, 3), sorted within each."""
    return np.sort(lengths(uv) / np.maximum(lengths(points), 1e-12), axis=1)


@pytest.mark.reference("Copies of real left and right pairs", "arithmetic on lengths")
@pytest.mark.parametrize("name", ["hp-mixed-reality", "meta-quest-touch-pro"])
def test_a_true_copy_lies_triangle_for_triangle_as_the_other_does(name: str) -> None:
    left, right = pair(name)
    source, skin = skin_of(left), skin_of(right)
    lies = laying_of(source, left.channels[0], find_islands(left, left.channels[0]).of_triangle)
    done = copied(source, lies, skin, matched(source, skin))
    assert done is not None and done.shares["near"] < 0.001
    one = ratios(source.surface.points[source.surface.faces], lies.uv)
    two = ratios(skin.surface.points[skin.surface.faces], done.laying.uv)
    # The same triangles in another order: sorted by their sides they are the same list, but for the files' own rounding.
    for k in range(3):
        a, b = np.sort(one[:, k]), np.sort(two[:, k])
        assert np.quantile(np.abs(a / b - 1), 0.99) < 0.02


@pytest.mark.reference("Copies of real left and right pairs", "arithmetic on lengths")
@pytest.mark.parametrize("name", ["yvr-touch", "oculus-touch-v2"])
def test_other_triangles_lie_as_evenly_as_the_other_side(name: str) -> None:
    left, right = pair(name)
    source, skin = skin_of(left), skin_of(right)
    lies = laying_of(source, left.channels[0], find_islands(left, left.channels[0]).of_triangle)
    done = copied(source, lies, skin, matched(source, skin))
    assert done is not None and not done.laying.bare.any() and done.near < 0.02

    def even(points: Floats, uv: Floats, area: Floats) -> float:
        r = ratios(points, uv)
        return float(area[r[:, 2] < 1.6 * r[:, 0]].sum() / area.sum())

    was = even(source.surface.points[source.surface.faces], lies.uv, source.surface.area)
    now = even(skin.surface.points[skin.surface.faces], done.laying.uv, skin.surface.area)
    assert now > was - 0.02
    # As large on the sheet as the other one, for the same surface.
    size = [np.abs(signed_areas(u)).sum() for u in (lies.uv, done.laying.uv)]
    assert size[1] == pytest.approx(size[0], rel=0.03)
