"""Islands, outlines and density on shapes whose figures are known."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_cli.child import bounded
from quilt_core import formats
from quilt_core.delivery.report import inspect_report
from quilt_core.measure.proof import flipped
from quilt_core.model.points import NEAR, merged_positions
from quilt_core.uv.analysis import analyse
from quilt_core.uv.density import densities, even_scales, spread, spreads
from quilt_core.uv.islands import weld
from quilt_core.uv.outlines import trace_outlines
from quilt_core.uv.stretch import stretch
from tests.shapes import PLANE, grid_obj


def test_a_seam_parts_and_a_normal_does_not() -> None:
    shared = b"v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvt 0.1 0\nvn 0 0 1\nvn 0 1 0\n"
    whole = analyse(formats.read(shared + b"f 1/1/1 2/2/1 3/3/1\nf 1/1/2 3/3/2 4/4/2\n", "a.obj"), 0)[0]
    parted = analyse(formats.read(shared + b"f 1/1/1 2/2/1 3/3/1\nf 1/5/2 3/4/2 4/4/2\n", "a.obj"), 0)[0]
    assert whole is not None and whole.islands.count == 1
    assert parted is not None and parted.islands.count == 2


@pytest.mark.parametrize("noise", [6e-8, 2e-7])
def test_rounding_of_32_bit_files_does_not_part_an_island(noise: float) -> None:
    for start in np.linspace(0, 1, 97):
        uv = np.array([[start, start], [start + noise, start - noise]])
        assert len(weld(np.zeros((2, 1)), uv)[1]) == 1
    assert len(weld(np.zeros((2, 1)), np.array([[0.5, 0.5], [0.5001, 0.5]]))[1]) == 2


def ring(inner: float, outer: float, sides: int = 32) -> tuple[np.ndarray, np.ndarray]:
    a = np.arange(sides) * 2 * np.pi / sides
    circle = np.column_stack([np.cos(a), np.sin(a)])
    i, j = np.arange(sides), (np.arange(sides) + 1) % sides
    return np.concatenate([circle * inner, circle * outer]), np.concatenate(
        [np.column_stack([i, i + sides, j + sides]), np.column_stack([i, j + sides, j])]
    ).astype(np.int32)


def test_a_ring_keeps_its_hole() -> None:
    uv, tri = ring(0.2, 0.4)
    found = trace_outlines(uv, tri, np.zeros(len(tri), np.int32), 1)
    exact = 0.5 * 32 * np.sin(2 * np.pi / 32) * (0.4**2 - 0.2**2)  # arithmetic: a regular polygon's area
    assert len(found.regions[0].interiors) == 1
    assert found.regions[0].area == pytest.approx(exact) and found.self_overlap[0] == 0


def test_mirrored_triangles_inside_an_island_do_not_hide_its_overlap() -> None:
    """A square folded over itself covers half of its triangles' area twice."""
    uv = np.array([[0, 0], [1, 0], [1, 1], [0.9, 0.1]], float)
    tri = np.array([[0, 1, 2], [0, 2, 3]], np.int32)
    found = trace_outlines(uv, tri, np.zeros(2, np.int32), 1)
    a, b = shapely.Polygon(uv[tri[0]]), shapely.Polygon(uv[tri[1]])
    assert found.regions[0].area == pytest.approx(a.union(b).area)
    assert found.self_overlap[0] == pytest.approx(a.intersection(b).area)


@pytest.mark.reference("Outlines of islands", "the union of their triangles by shapely")
def test_random_islands_against_the_union_of_their_triangles() -> None:
    """Reference: shapely's union_all."""
    random = np.random.default_rng(5)
    for _ in range(40):
        uv, tri = random.random((9, 2)), random.integers(0, 9, (6, 3)).astype(np.int32)
        tri = tri[[len(set(t)) == 3 for t in tri]]
        found = trace_outlines(uv, tri, np.zeros(len(tri), np.int32), 1).regions[0]
        wanted = shapely.union_all(shapely.polygons(uv[tri]))
        assert found.symmetric_difference(wanted).area < 1e-9


def test_density_is_map_size_times_root_of_areas() -> None:
    """Arithmetic; 1024 px/m is 10.24 px/cm, and half the linear UV scale is half the density."""
    assert densities(np.array([1.0, 0.25]), np.array([1.0, 1.0]), 1024).tolist() == [1024, 512]
    assert np.isnan(densities(np.array([0.0]), np.array([1.0]), 1024)[0])


def test_units_of_files_that_do_not_say() -> None:
    """100 units of 1 cm are 1 m."""
    big = PLANE.replace(b"v 1 0", b"v 100 0").replace(b"v 1 1", b"v 100 100").replace(b"v 0 1", b"v 0 100")
    report = inspect_report([formats.read(big, "a.obj", 0.01)], 0, 1024)
    assert report["objects"][0]["density_px_per_m"]["median"] == pytest.approx(1024)
    assert report["objects"][0]["world_area_m2"] == pytest.approx(1)


def test_evening_brings_all_to_one_density_and_flat_islands_follow() -> None:
    uv, world = np.array([0.1, 0.4, 0.0]), np.array([2.0, 3.0, 1.0])
    scale = even_scales(uv, world)
    assert np.sqrt(uv * scale**2 / world)[:2] == pytest.approx([1, 1]) and np.isfinite(scale[2])


def test_the_median_is_weighted_by_surface() -> None:
    found = spread(np.array([1.0, 5.0, 9.0]), np.array([0.1, 0.1, 10.0]))
    assert found is not None and (found.median, found.least, found.greatest) == (9, 1, 9)


def test_stretch_of_an_even_and_of_a_squeezed_square() -> None:
    """Sander et al. 2001: even is 1; squeezed to half in u, G = 2, g = 1, so L2 = sqrt(5 / 2) sqrt(1 / 2), Linf = 2 sqrt(1 / 2)."""
    for text, l2, linf in ((PLANE, 1, 1), (PLANE.replace(b"vt 1", b"vt 0.5"), np.sqrt(1.25), np.sqrt(2))):
        scene = formats.read(text, "a.obj")
        found = stretch(scene.meshes[0], scene.meshes[0].channels[0], scene.objects[0])
        assert found == (pytest.approx(l2), pytest.approx(linf))


def test_inspection_counts_what_is_there() -> None:
    report = inspect_report([formats.read(grid_obj(3), "a.obj")], 0, 1000)
    faults = report["faults"]
    assert report["islands"] == 3 and faults["overlap"]["pairs"] == 3 and faults["gap"]["smallest_px"] == 0
    assert faults["overlap"]["px"] == pytest.approx(100)  # arithmetic: 0.01 x 0.01 of 1000 x 1000 px, written by all three
    outside = formats.read(grid_obj(1).replace(b"vt 0 ", b"vt -0.5 "), "b.obj")
    assert inspect_report([outside], 0, 1000)["faults"]["outside"] == 1


# Areas in square metres: nothing, or from a hundredth of a micron squared on. What is 300 powers of ten smaller than its neighbours has no sum with them.
AREAS = st.just(0.0) | st.floats(1e-16, 5)


@settings(deadline=None, max_examples=60)
@given(st.lists(st.lists(st.tuples(st.floats(0, 100), AREAS), max_size=6), max_size=6))
def test_spreads_at_once_are_those_one_by_one(runs: list[list[tuple[float, float]]]) -> None:
    flat = [x for run in runs for x in run]
    density = np.array([np.nan if d == 0 else d for d, _ in flat], float)
    weight = np.array([w for _, w in flat], float)
    starts = np.cumsum([0, *(len(r) for r in runs)])
    one_by_one = [spread(density[a:b], weight[a:b]) for a, b in itertools.pairwise(starts)]
    for ours, theirs in zip(spreads(density, weight, starts), one_by_one, strict=True):
        assert (ours is None) == (theirs is None)
        if ours is not None and theirs is not None:
            assert (ours.least, ours.greatest) == (theirs.least, theirs.greatest)
            # Sums in another order may tip a tie: the median is then the neighbour.
            run = np.sort(density[np.isfinite(density)])
            assert abs(int(np.searchsorted(run, ours.median)) - int(np.searchsorted(run, theirs.median))) <= 1


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_positions_that_rounding_parts_are_one(seed: int) -> None:
    """Against all pairs, by the definition: clusters narrower than the distance and farther than that from each other."""
    chance = np.random.default_rng(seed)
    size = 10.0 ** chance.uniform(-3, 3)
    centres = np.unique(chance.integers(0, 40, (60, 3)), axis=0) * size
    near = 2 * NEAR * np.ptp(centres, axis=0).max()
    of = chance.integers(0, len(centres), 400)
    found = merged_positions(centres[of] + chance.uniform(-0.25, 0.25, (400, 3)) * near)
    assert ((found[:, None] == found) == (of[:, None] == of)).all()


def test_a_stray_that_makes_all_others_near_takes_no_memory_for_pairs() -> None:
    """50,000 positions and one a million times as far away: all pairs would be 20 GB."""
    cloud = np.vstack([np.random.default_rng(1).random((50_000, 3)), [[1e7, 0, 0]]])
    assert bounded(lambda _: len(np.unique(merged_positions(cloud))), "cloud", cloud.nbytes) == 2


def test_a_needle_lies_neither_way_round() -> None:
    """The count of mirrored islands changed from one packing of the same islands to the next: the winding of needles is that of rounding."""
    lines = ["o needles"]
    for k, high in enumerate((1e-7, -1e-7, 0.1, -0.1)):
        corners = [(0.1, 0.1), (0.9, 0.1), (0.9, 0.1 + high), (0.1, 0.1 + high)]
        lines += [f"v {x} {y} {k}" for x, y in corners] + [f"vt {x} {y + 0.01 * k}" for x, y in corners]
        lines.append("f " + " ".join(f"{4 * k + c}/{4 * k + c}" for c in range(1, 5)))
    piece = analyse(formats.read("\n".join(lines).encode(), "needles.obj"), 0)[0]
    assert piece is not None and piece.islands.count == 4
    assert (piece.islands.area > 0).all() and np.sign(piece.islands.signed_area).tolist() == [0, 0, 1, -1]
    assert flipped(piece).tolist() == [False, False, False, True]
