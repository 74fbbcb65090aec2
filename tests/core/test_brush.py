"""The brush never folds, holds what is to be held, and lays flat what it is taken over; judged by signed areas and distances alone."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats, UvChannel
from quilt_core.unwrap.brush import MOST, Brush, Dab, dabs_of
from quilt_core.unwrap.skin import Laying, Skin, laying_of, skin_of
from quilt_core.uv.areas import signed_areas
from quilt_core.uv.islands import find_islands
from tests.shapes import net as flat_net

from .test_unwrap import mesh_of


def net(n: int, bend: float, seed: int = 0, mirrored: bool = False) -> tuple[Skin, Laying]:
    """A flat sheet of n by n quads whose UVs are pushed about smoothly."""
    xy, faces = flat_net(n)
    x, y = xy.T
    k = 2 * np.pi * np.random.default_rng(seed).random(2)
    inner = (np.sin(np.pi * x) * np.sin(np.pi * y))[:, None]
    uv = xy + bend * inner * np.column_stack([np.sin(9 * y + k[0]), np.sin(8 * x + k[1])])
    mesh = mesh_of(np.column_stack([x, y, 0 * x]), faces)
    mesh.channels[0] = UvChannel(uv * [-1, 1] if mirrored else uv, faces.astype(np.int32))
    skin = skin_of(mesh)
    return skin, laying_of(skin, mesh.channels[0], find_islands(mesh, mesh.channels[0]).of_triangle)


def off(skin: Skin, laying: Laying) -> Floats:
    """How far each side is from its length in space, as a share (3 F,); by arithmetic, up to one scale."""
    p, uv = skin.surface.points[skin.surface.faces], laying.uv
    lengths = [np.linalg.norm(x - np.roll(x, -1, axis=1), axis=2) for x in (p, uv)]
    return np.abs(lengths[1] / lengths[0] - 1)


@settings(max_examples=25, deadline=None)
@example(879, False, True, [(0.0, 0.1875, 0.1875, 1.0)])
@given(st.integers(0, 10_000), st.booleans(), st.booleans(), st.lists(st.tuples(st.floats(-0.1, 1.1), st.floats(-0.1, 1.1), st.floats(0.02, 0.6), st.floats(0.05, 1)), min_size=1, max_size=12))  # fmt: skip
def test_it_never_folds_and_what_is_held_stays(seed: int, mirrored: bool, held: bool, dabs: list[tuple[float, ...]]) -> None:
    skin, laying = net(10, 0.05, seed, mirrored)
    stays = np.array([3 * 57, 3 * 90 + 1])
    brush = Brush(skin, laying, 0, held, stays)
    way = -1 if mirrored else 1
    for u, v, radius, strength in dabs:
        brush.dab(Dab(np.array([way * u, v]), radius, strength))
        assert (way * signed_areas(brush.laying().uv) > 0).all()
    try:
        brush.settled()
    except QuiltError as e:
        assert "overlap itself" in str(e)
        return
    now = brush.laying()
    assert (way * signed_areas(now.uv) > 0).all()
    flat, was = now.uv.reshape(-1, 2), laying.uv.reshape(-1, 2)
    assert np.abs(flat[stays] - was[stays]).max() <= 1e-9
    if held:
        rim = np.flatnonzero(skin.surface.twin < 0)
        ends = np.r_[rim, rim - rim % 3 + (rim + 1) % 3]
        assert np.abs(flat[ends] - was[ends]).max() <= 1e-9
    # Whatever no dab reached is as it was, to the bit.
    far = np.ones(len(was), bool)
    for u, v, radius, _ in dabs:
        # Rows move while the brush goes over them, so one that a later dab reached may have been a little farther away.
        far &= np.hypot(*(was - [way * u, v]).T) > radius + 0.25
    assert np.array_equal(flat[far], was[far])


def test_a_stretched_corner_comes_right() -> None:
    skin, laying = net(20, 0.04)
    before = off(skin, laying)
    brush = Brush(skin, laying, 0, True)
    for _ in range(30):
        for u in np.linspace(0.05, 0.95, 8):
            for v in np.linspace(0.05, 0.95, 8):
                brush.dab(Dab(np.array([u, v]), 0.25, 1.0))
    brush.settled()
    # The border of this sheet lies as it does in space, so the only flat laying within it has every length right.
    assert before.max() > 0.2 and off(skin, brush.laying()).max() < 1e-3


def test_a_fold_under_the_brush_is_undone() -> None:
    skin, laying = net(12, 0.0)
    uv = laying.uv.copy()
    row = skin.surface.faces == skin.surface.faces[5 * 12 + 5, 0]
    uv[row] += [0.13, 0.1]
    assert (signed_areas(uv) <= 0).any()
    brush = Brush(skin, Laying(uv, laying.seam, laying.island), 0)
    at = laying.uv[row][0]
    for _ in range(4):
        brush.dab(Dab(at + 0.05, 0.3, 1.0))
    brush.settled()
    assert (signed_areas(brush.laying().uv) > 0).all()


def test_a_weak_brush_goes_only_part_of_the_way() -> None:
    skin, laying = net(10, 0.05)
    gone = []
    for strength in (0.1, 1.0):
        brush = Brush(skin, laying, 0, True)
        brush.dab(Dab(np.array([0.5, 0.5]), 0.4, strength))
        gone.append(np.abs(brush.laying().uv - laying.uv).max())
    assert 0 < gone[0] < 0.5 * gone[1]


@pytest.mark.parametrize("dab", [[0, 0, 0, 1], [0, 0, 1, 0], [0, 0, 1, 2], [float("nan"), 0, 1, 1], [0, 0, 1], [1e300, 0, 1, 1]])
def test_what_is_no_dab_is_refused(dab: list[float]) -> None:
    with pytest.raises(QuiltError, match="dab of the brush"):
        dabs_of([dab])
    with pytest.raises(QuiltError, match="Lift the brush"):
        dabs_of([[0, 0, 1, 1]] * (MOST + 1))


def test_an_island_that_is_not_there_is_refused() -> None:
    skin, laying = net(3, 0.0)
    with pytest.raises(QuiltError, match="not there any more"):
        Brush(skin, laying, 7)
