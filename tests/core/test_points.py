"""Points of islands moved, lined up, welded and parted: by arithmetic, and by islands found anew in what is written."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats, UvChannel
from quilt_core.unwrap import points
from quilt_core.unwrap.skin import Laying, Skin, laying_of, revised, skin_of
from quilt_core.uv.islands import find_islands
from tests.shapes import net as flat_net

from .test_brush import net
from .test_unwrap import mesh_of


def corner(laying: Laying, at: tuple[float, float], island: int | None = None) -> int:
    """The first corner that lies at a place."""
    near = np.linalg.norm(laying.uv - at, axis=2)
    if island is not None:
        near[laying.island != island] = np.inf
    return int(np.argmin(near.reshape(-1)))


def halves(gap: float) -> tuple[Skin, Laying]:
    """A sheet of 4 by 4 quads in two islands, of which the right one lies so far away."""
    xy, faces = flat_net(4)
    x, y = xy.T
    right = (x[faces].mean(axis=1) > 0.5)[:, None]
    mesh = mesh_of(np.column_stack([x, y, 0 * x]), faces)
    mesh.channels[0] = UvChannel(np.concatenate([xy, xy + [gap, 0]]), (faces + len(xy) * right).astype(np.int32))
    skin = skin_of(mesh)
    return skin, laying_of(skin, mesh.channels[0], find_islands(mesh, mesh.channels[0]).of_triangle)


def test_a_point_moves_and_what_is_near_follows_less_the_farther() -> None:
    skin, laying = net(10, 0.0)
    at = corner(laying, (0.5, 0.5))
    out, touched = points.moved(skin, laying, np.array([at]), np.array([0.05, 0.02]), 0.35)
    assert touched.all()
    went = (out.uv - laying.uv).reshape(-1, 2)
    away = np.abs(laying.uv.reshape(-1, 2) - [0.5, 0.5]).sum(axis=1)
    assert went[at] == pytest.approx([0.05, 0.02])
    assert (went[away > 0.8] == 0).all() and 0 < np.median(went[(away > 0.05) & (away < 0.15), 0]) < 0.05
    # All corners of a point go together.
    for k in np.unique(skin.surface.start):
        assert np.ptp(went[skin.surface.start == k], axis=0) == pytest.approx([0, 0])
    alone, _ = points.moved(skin, laying, np.array([at]), np.array([0.05, 0.02]))
    assert ((alone.uv != laying.uv).any(axis=2).sum()) == (skin.surface.start == skin.surface.start[at]).sum()


def test_what_would_fold_or_overlap_is_refused_unless_it_is_let() -> None:
    skin, laying = net(10, 0.0)
    at = np.array([corner(laying, (0.5, 0.5))])
    with pytest.raises(QuiltError, match="fold over"):
        points.moved(skin, laying, at, np.array([0.15, 0.0]))
    out, _ = points.moved(skin, laying, at, np.array([0.15, 0.0]), 0.0, False)
    assert out.uv.reshape(-1, 2)[at[0]] == pytest.approx([0.65, 0.5])
    # A corner pulled across the far side of the island: nothing folds, but it lies double.
    skin, laying = halves(1.0)
    rim = np.array([corner(laying, (0, 0)), corner(laying, (0.25, 0))])
    with pytest.raises(QuiltError, match=r"fold over|overlap itself"):
        points.moved(skin, laying, rim, np.array([0.0, 1.2]))


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 1000), st.sampled_from(points.LINES), st.lists(st.integers(0, 119), min_size=2, max_size=8, unique=True))
def test_points_come_onto_one_line(seed: int, how: str, picked: list[int]) -> None:
    skin, laying = net(7, 0.03, seed)
    corners = 3 * np.array([p % len(laying.uv) for p in picked])
    if len(np.unique(skin.surface.start[corners])) < 2:
        return
    try:
        out, _ = points.lined(skin, laying, corners, how, False)
    except QuiltError as e:
        assert "Nothing moved" in str(e)
        return
    p = out.uv.reshape(-1, 2)[corners]
    if how == "row":
        assert np.ptp(p[:, 1]) < 1e-12
    elif how == "column":
        assert np.ptp(p[:, 0]) < 1e-12
    else:
        # All triangles of points on a line have no area.
        d = p - p[0]
        assert np.abs(d[:, 0][:, None] * d[:, 1] - d[:, 1][:, None] * d[:, 0]).max() < 1e-12


def test_points_are_welded_with_their_other_sides_and_islands_become_one() -> None:
    skin, laying = halves(0.01)
    seam = [corner(laying, (0.5, y), 0) for y in np.linspace(0, 1, 5)]
    with pytest.raises(QuiltError, match="farther away"):
        points.welded(skin, laying, np.array(seam), 0.005)
    out, touched = points.welded(skin, laying, np.array(seam), 0.02)
    assert touched.all() and not out.seam.any()
    assert out.uv.reshape(-1, 2)[seam] == pytest.approx(np.column_stack([np.full(5, 0.505), np.linspace(0, 1, 5)]))
    made = revised(skin, out, touched)
    assert set(made.island.tolist()) == {0}
    # Two points only: the edge between them is sewn, the others stay seams.
    some, _ = points.welded(skin, laying, np.array(seam[:2]), 0.02)
    assert some.seam.sum() == 2 * 3


def test_points_are_parted_and_can_be_moved_apart() -> None:
    skin, laying = net(6, 0.0)
    line = np.array([corner(laying, (1 / 6 * k, 0.5)) for k in range(7)])
    out, touched = points.parted(skin, laying, line)
    assert touched.all() and out.seam.sum() == 12
    made = revised(skin, out, touched)
    assert set(made.island.tolist()) == {0, 1}
    lone, _ = points.parted(skin, laying, line[3:4])
    around = skin.surface.start == skin.surface.start[line[3]]
    assert lone.seam.sum() == 2 * around.sum()
    moved, _ = points.moved(skin, lone, line[3:4], np.array([0.02, 0.01]), 0.0, False)
    assert (moved.uv != lone.uv).any(axis=2).sum() == 1
    with pytest.raises(QuiltError, match="parted already"):
        points.parted(skin, lone, line[3:4])


def placed_islands(laying: Laying) -> Floats:
    return np.array([[0.3, 1.0, 2.0, 0.1, 0.2], [-1.0, -1.0, 0.5, 3.0, 1.0]])[: int(laying.island.max()) + 1]


def test_what_moved_on_the_sheet_comes_back_to_the_islands_own_uvs() -> None:
    skin, laying = halves(2.0)
    places = placed_islands(laying)
    on = points.laid_out(laying, places)
    at = np.array([int(np.flatnonzero(np.repeat(laying.island, 3) == 1)[0])])
    out, touched = points.moved(skin, on, at, np.array([0.01, 0.0]), 0.0, False)
    back = points.taken_back(skin, out, laying, touched, places)
    again = points.laid_out(back, places)
    assert again.uv == pytest.approx(out.uv)
    still = (out.uv == on.uv).all(axis=(1, 2))
    assert np.array_equal(back.uv[still], laying.uv[still]) and not still.all()
    # Islands that became one lie by the place of one of them.
    both = replace(on, uv=np.where((laying.island == 1)[:, None, None], laying.uv - [2.0, 0], laying.uv))
    sewn, mine = points.welded(skin, both, np.array([corner(both, (0.5, y), 0) for y in np.linspace(0, 1, 5)]), 0.1, False)
    joined = points.taken_back(skin, sewn, laying, mine, places)
    one = replace(joined, island=np.full(len(joined.island), 1))
    assert points.laid_out(one, places).uv == pytest.approx(sewn.uv)


def test_points_without_uvs_are_refused() -> None:
    skin, laying = net(3, 0.0)
    bare = replace(laying, uv=np.full_like(laying.uv, np.nan), island=np.full(len(laying.island), -1))
    with pytest.raises(QuiltError, match="has UVs"):
        points.moved(skin, bare, np.array([0]), np.array([0.1, 0.0]))
