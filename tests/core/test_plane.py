"""A polygon folds or overlaps itself when its outline does, whatever triangles it is cut into: judged by shapely on the outlines alone."""

from __future__ import annotations

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.measure.proof import prove
from quilt_core.uv.analysis import analyse
from quilt_core.uv.plane import plane_triangles
from quilt_core.uv.stretch import odd_triangles


def dart(flip: bool = False) -> bytes:
    """A quad that is convex on the model and concave in the UV plane: the diagonal that its model is cut along lies outside there."""
    uv = [(0.1, 0.1), (0.5, 0.3), (0.9, 0.1), (0.5, 0.9)]
    lines = [f"v {x} {y} 0" for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))] + [f"vt {1 - u if flip else u} {v}" for u, v in uv]
    return ("\n".join(lines) + "\nf 1/1 2/2 3/3 4/4\n").encode()


def test_a_concave_quad_is_no_fold() -> None:
    for flip in (False, True):
        scene = formats.read(dart(flip), "dart.obj")
        mesh = scene.meshes[0]
        piece = analyse(scene, 0)[0]
        assert piece is not None
        own = shapely.Polygon([(0.1, 0.1), (0.5, 0.3), (0.9, 0.1), (0.5, 0.9)])
        assert piece.islands.area[0] == np.abs(piece.islands.signed_area[0]) and abs(piece.islands.area[0] - own.area) < 1e-12
        assert abs(piece.outlines.regions[0].area - own.area) < 1e-12 and piece.outlines.self_overlap[0] == 0
        assert not odd_triangles(
            mesh, mesh.channels[0], scene.objects[0], piece.islands.of_triangle, piece.islands.signed_area
        ).turned.any()
        proof = prove([piece], None, 1024)
        assert proof.overlap_self == 0 and proof.flipped == int(flip)


def test_a_quad_that_crosses_itself_still_folds() -> None:
    data = dart().replace(b"vt 0.5 0.3", b"vt 0.5 0.95").replace(b"vt 0.5 0.9\n", b"vt 0.95 0.8\n")
    scene = formats.read(data, "bow.obj")
    piece = analyse(scene, 0)[0]
    assert piece is not None
    mesh = scene.meshes[0]
    assert odd_triangles(mesh, mesh.channels[0], scene.objects[0], piece.islands.of_triangle, piece.islands.signed_area).turned.any()


@given(st.integers(0, 100_000))
@settings(max_examples=80, deadline=None)
def test_any_simple_outline_counts_with_its_own_area(seed: int) -> None:
    """A star-shaped polygon in the UV plane, another one on the model, so that the two are cut in different ways."""
    chance = np.random.default_rng(seed)
    n = int(chance.integers(4, 12))
    angle = np.sort(chance.uniform(0, 2 * np.pi, n))
    shapes = [np.column_stack([np.cos(angle), np.sin(angle)]) * chance.uniform(0.1, 0.5, (n, 1)) + 0.5 for _ in range(2)]
    outline = shapely.Polygon(shapes[0])
    if not (outline.is_valid and shapely.Polygon(shapes[1]).is_valid):
        return
    lines = [f"v {x!r} {y!r} 0" for x, y in shapes[1].tolist()] + [f"vt {u!r} {v!r}" for u, v in shapes[0].tolist()]
    lines.append("f " + " ".join(f"{k}/{k}" for k in range(1, n + 1)))
    scene = formats.read("\n".join(lines).encode(), "star.obj")
    piece = analyse(scene, 0)[0]
    assert piece is not None
    assert abs(piece.islands.signed_area[0] - outline.area * (1 if outline.exterior.is_ccw else -1)) < 1e-9
    assert shapely.symmetric_difference(piece.outlines.regions[0], outline).area < 1e-9 and piece.outlines.self_overlap[0] < 1e-9
    mesh = scene.meshes[0]
    assert len(plane_triangles(mesh, mesh.channels[0])) == n - 2
