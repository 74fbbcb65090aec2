"""Faults of real files against other means: texels counted on a raster that Pillow fills, and trimesh for mesh faults."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from PIL import Image, ImageDraw

from quilt_cli import files
from quilt_core.delivery.report import analyse_all, pieces_of
from quilt_core.faults.fault import Limits
from quilt_core.faults.findings import find
from quilt_core.faults.listing import listing
from quilt_core.model.tiles import Grid
from quilt_core.uv.analysis import MeshIslands
from quilt_core.uv.edges import mesh_faults
from tests.real_files import path

SIZE = 4096


def pieces(package: str, file: str) -> list[MeshIslands]:
    return pieces_of(analyse_all([files.read(path(package, file), 1.0)], 0))


def counted(found: list[MeshIslands]) -> np.ndarray:
    """How many islands cover each texel of the tile, every island's triangles filled by Pillow."""
    total = np.zeros((SIZE, SIZE), np.uint8)
    for piece in found:
        corners = piece.uvs[piece.mesh.channels[piece.channel].triangles] * SIZE
        for island in range(piece.islands.count):
            mine = corners[piece.islands.of_triangle == island]
            low = np.maximum(np.floor(mine.min(axis=(0, 1))).astype(int) - 1, 0)
            high = np.minimum(np.ceil(mine.max(axis=(0, 1))).astype(int) + 2, SIZE)
            if (high <= low).any():
                continue
            image = Image.new("1", tuple(high - low))
            pen = ImageDraw.Draw(image)
            for triangle in mine - low:
                pen.polygon([tuple(p) for p in triangle], fill=1)
            total[low[1] : high[1], low[0] : high[0]] += np.asarray(image)
    return total


@pytest.mark.reference("Area that overlaps, real files", "a raster that Pillow fills")
@pytest.mark.parametrize(
    ("package", "file"), [("gradio", "Duck.glb"), ("webxr", "htc-vive-cosmos/left.glb"), ("webxr", "hp-mixed-reality/left.glb")]
)
def test_overlap_area_against_a_raster(package: str, file: str) -> None:
    """Pairs of overlapping islands in a texel: n (n - 1) / 2 where n islands cover it. Pillow draws edges half a texel wide outward,
    so the raster may only be larger, by about the length of the outlines."""
    found = pieces(package, file)
    f = find(found)
    ours = f.overlap_area.sum() * SIZE**2
    n = counted(found).astype(np.int64)
    raster = float((n * (n - 1) // 2).sum())
    if ours == 0:
        # Only the drawn edges of neighbours can meet.
        assert raster < 0.003 * SIZE**2
    else:
        assert ours == pytest.approx(raster, rel=0.06)


@pytest.mark.reference("Mirrored and stacked islands of a real file", "counts of an independent script (test-material.md)")
def test_mirrored_and_stacked_copies() -> None:
    """Counts of an independent script (test-material): 70 flipped islands and 121 overlapping pairs; one island lies on its edge."""
    f = find(pieces("webxr", "htc-vive-cosmos/left.glb"))
    kinds = {x.kind: x for x in listing(f, Limits(Grid(2048), 8.0, 4.0))}
    assert abs(kinds["flipped"].count - 70) <= 1
    assert abs(int((f.overlap_area * 2048**2 > 0.01).sum()) - 121) <= 1
    assert abs(kinds["overlap"].count - 121) <= 1


@pytest.mark.reference("Edges of more than two faces, and winding", "trimesh")
@pytest.mark.parametrize(
    ("package", "file"), [("gradio", "Duck.glb"), ("webxr", "hp-mixed-reality/left.glb"), ("pybullet", "a1/meshes/trunk.obj")]
)
def test_crowded_edges_against_trimesh(package: str, file: str) -> None:
    """Edges with more than two faces, counted by trimesh's sorted edges on vertices merged by their exact position."""
    for piece in pieces(package, file):
        mesh = piece.mesh
        position, inverse = np.unique(mesh.positions, axis=0, return_inverse=True)
        other = trimesh.Trimesh(position, inverse.ravel()[mesh.triangles], process=False)
        real = (other.faces != np.roll(other.faces, -1, axis=1)).all(axis=1)
        edges = np.sort(np.concatenate([other.faces[real][:, [0, 1]], other.faces[real][:, [1, 2]], other.faces[real][:, [2, 0]]]), axis=1)
        times = np.unique(edges, axis=0, return_counts=True)[1]
        assert mesh_faults(mesh).crowded_edges == int((times > 2).sum())
        if mesh_faults(mesh).crowded_edges == 0 and real.all():
            assert (mesh_faults(mesh).against_edges == 0) == bool(other.is_winding_consistent)
