"""Repairs of layouts, against arithmetic."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from quilt_core import formats
from quilt_core.edit.moves import boxes, centres
from quilt_core.edit.repairs import even, flip_back, into_tile, straighten
from quilt_core.measure.proof import flipped
from quilt_core.model.tiles import Grid
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse, transform_regions
from quilt_core.uv.density import densities

from ..shapes import PLANE
from .test_faults import squares

ANGLE = np.deg2rad(17.0)


def turned_plane(height: float = 1.0) -> bytes:
    """A plane standing upright on the model; its UVs are a 0.4 x 0.2 box turned by 17 degrees."""
    c, s = np.cos(ANGLE), np.sin(ANGLE)
    uv = [(0.5 + c * x - s * y, 0.4 + s * x + c * y) for x, y in ((0, 0), (0.4, 0), (0.4, 0.2), (0, 0.2))]
    lines = ["v 0 0 0", "v 2 0 0", f"v 2 {height} 0", f"v 0 {height} 0", *(f"vt {u:.9f} {v:.9f}" for u, v in uv), "f 1/1 2/2 3/3 4/4"]
    return "\n".join(lines).encode()


def one(data: bytes) -> tuple[MeshIslands, np.ndarray]:
    piece = analyse(formats.read(data, "a.obj"), 0)[0]
    assert piece is not None
    return piece, np.tile(IDENTITY, (piece.islands.count, 1))


ALL = np.array([True])


@pytest.mark.parametrize("way", ["edges", "box", "up"])
def test_a_turned_box_is_straightened_about_its_middle(way: str) -> None:
    """Arithmetic: a box of 0.4 x 0.2 that stands straight has that box, and its middle has not moved."""
    piece, table = one(turned_plane())
    out = straighten(piece, table, ALL, way)
    box = boxes(piece, out)[0]
    size = sorted(box[2:] - box[:2])
    assert np.allclose(size, [0.2, 0.4], atol=1e-6)
    assert np.allclose(centres(boxes(piece, out)), centres(boxes(piece, table)), atol=1e-6)


def test_up_on_the_model_is_up_on_the_sheet() -> None:
    upside = turned_plane(-1.0)  # the same plane hanging down: its UVs stand on their head
    piece, table = one(upside)
    out = straighten(piece, table, ALL, "up")
    assert np.isclose(np.cos(out[0, 0] - (np.pi - ANGLE)), 1, atol=1e-9)


def test_a_flipped_island_is_flipped_back_in_its_place() -> None:
    mirrored = PLANE.replace(b"vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1", b"vt 3 0\nvt 2 0\nvt 2 1\nvt 3 1")
    piece, table = one(mirrored)
    assert flipped(piece, table).all()
    out = flip_back(piece, table, ALL)
    assert not flipped(piece, out).any()
    assert np.allclose(boxes(piece, out), boxes(piece, table))
    assert np.array_equal(flip_back(piece, out, ALL), out), "an island that reads right stays as it is"


@pytest.mark.parametrize(("corner", "size"), [((7.25, -3.5), 0.5), ((0.75, 0.25), 0.5), ((-20.0, 40.0), 3.0), ((0.1, 0.2), 0.3)])
def test_into_the_tile_by_whole_tiles_first(corner: tuple[float, float], size: float) -> None:
    """Arithmetic: an island that fits keeps its size, one inside a tile moves by whole tiles only."""
    (u, v), s = corner, size
    data = PLANE.replace(
        b"vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1", "\n".join(f"vt {a} {b}" for a, b in ((u, v), (u + s, v), (u + s, v + s), (u, v + s))).encode()
    )
    piece, table = one(data)
    out = into_tile(piece, table, ALL, 10.0, Grid(1000))
    box = boxes(piece, out)[0]
    assert (box >= 0.01 - 1e-9).all() and (box <= 0.99 + 1e-9).all()
    assert np.isclose(out[0, 2], min(1.0, 0.98 / s))
    if s == 0.3:
        assert np.array_equal(out, table)


def test_even_scales_about_the_middle_to_the_density_times_the_weight() -> None:
    """Arithmetic: 2 m x 1 m on 0.4 x 0.2 of 1024 px is 204.8 px/m."""
    piece, table = one(turned_plane())
    assert densities(piece.islands.area, piece.world_area, 1024)[0] == pytest.approx(204.8)
    out = even(piece, table, ALL, 512.0, 1024, np.array([0.5]))
    area = shapely.area(transform_regions(piece.outlines.regions, out))
    assert densities(area, piece.world_area, 1024)[0] == pytest.approx(256.0)
    assert np.allclose(centres(boxes(piece, out)), centres(boxes(piece, table)))
    assert np.array_equal(even(piece, table, ~ALL, 512.0, 1024), table)


def test_the_margin_is_in_px_of_the_tile_that_an_island_comes_to() -> None:
    """Arithmetic: 8 px of a tile of 128 px are a sixteenth of it; seen: 1 px instead of 8, counted at the sheet's 1,024."""
    (piece,) = [p for p in analyse(formats.read(squares([(1.0, 0.2, 1.2, 0.4)]), "a.obj"), 0) if p]
    table = np.tile(IDENTITY, (1, 1))
    out = into_tile(piece, table, np.ones(1, bool), 8.0, Grid(1024, 2, 1, {1002: 128}))
    assert boxes(piece, out)[0, 0] == pytest.approx(1 + 8 / 128)
