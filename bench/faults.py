"""What it costs to look for each fault on one million triangles: `python -m bench.faults [triangles]`.

The mesh is made here: loose square patches of a bumpy surface, with a share of each fault. trimesh's own look at the same mesh
(edges, face adjacency, connected components) is measured in the same run, as a general-purpose reference.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

import numpy as np
import trimesh

from quilt_core.faults.fault import Limits
from quilt_core.faults.findings import find
from quilt_core.faults.listing import listing
from quilt_core.measure.proof import prove
from quilt_core.model.scene import Mesh, MeshObject, Scene, UvChannel
from quilt_core.model.tiles import Grid
from quilt_core.uv.analysis import analyse
from quilt_core.uv.edges import mesh_faults
from quilt_core.uv.islands import find_islands
from quilt_core.uv.outlines import trace_outlines
from quilt_core.uv.stretch import odd_triangles, singular_values, stretch_of_islands

PATCH = 16  # squares along a patch's side


def mesh_of(triangles: int) -> Mesh:
    """Patches of 16 x 16 bumpy squares, each an island; some flipped, some on each other, some outside."""
    patches = max(1, triangles // (2 * PATCH * PATCH))
    random = np.random.default_rng(0)
    side = int(np.ceil(np.sqrt(patches)))
    line = np.arange(PATCH + 1)
    x, y = (a.ravel() for a in np.meshgrid(line, line))
    corner = (np.arange(PATCH)[:, None] * (PATCH + 1) + np.arange(PATCH)).ravel()
    square = np.column_stack([corner, corner + 1, corner + PATCH + 2, corner, corner + PATCH + 2, corner + PATCH + 1]).reshape(-1, 3)
    count = len(x)
    at = np.column_stack([np.arange(patches) % side, np.arange(patches) // side])
    move = np.where(random.random(patches)[:, None] < 0.05, random.normal(0, 1, (patches, 2)), 0.0)
    flip = np.where(random.random(patches) < 0.05, -1.0, 1.0)
    uv = np.stack([flip[:, None] * x / PATCH * 0.9, np.broadcast_to(y / PATCH * 0.9, (patches, count))], axis=2)
    uv = ((uv + at[:, None, :]) / side + move[:, None, :]).reshape(-1, 2)
    z = random.normal(0, 0.2, patches * count)
    position = np.column_stack(
        [np.tile(x, patches) + np.repeat(at[:, 0] * 20, count), np.tile(y, patches) + np.repeat(at[:, 1] * 20, count), z]
    )
    faces = (square[None, :, :] + (np.arange(patches) * count)[:, None, None]).reshape(-1, 3).astype(np.int32)
    return Mesh("bench", position.astype(float), faces, np.full(len(faces), -1, np.int32), {0: UvChannel(uv, faces)})


def main() -> None:
    """Print a table of seconds."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    mesh = mesh_of(count)
    placing = MeshObject("bench", "bench", 0, np.eye(4))
    channel = mesh.channels[0]
    find_islands(mesh_of(1000), mesh_of(1000).channels[0])  # the kernels are compiled by now
    rows: list[tuple[str, float]] = []

    def timed(name: str, work: Callable[[], object]) -> object:
        begin = time.perf_counter()
        out = work()
        rows.append((name, time.perf_counter() - begin))
        return out

    islands = timed("islands", lambda: find_islands(mesh, channel))
    n, of = islands.count, islands.of_triangle  # type: ignore[attr-defined]
    timed("outlines, and where islands overlap themselves", lambda: trace_outlines(channel.uvs, channel.triangles, of, n))
    timed("turned over, no area", lambda: odd_triangles(mesh, channel, placing, of, islands.signed_area))  # type: ignore[attr-defined]
    timed("stretch", lambda: stretch_of_islands(singular_values(mesh, channel, placing), of, n))
    timed("edges of the mesh", lambda: mesh_faults(mesh))
    pieces = analyse(Scene("bench", "obj", [mesh], [placing], []), 0)
    known = [p for p in pieces if p is not None]
    timed("overlap, gap, margin, outside, flipped, coverage", lambda: prove(known, None, 2048))
    found = timed("all findings of a layout", lambda: find(known))
    listed = timed("the list for people", lambda: listing(found, Limits(Grid(2048), 8.0, 4.0)))  # type: ignore[arg-type]
    timed("trimesh: edges, adjacency, components", lambda: reference(mesh))
    print(f"{len(mesh.triangles):,} triangles, {n:,} islands, {len(listed)} kinds of fault")  # type: ignore[arg-type]
    for name, seconds in rows:
        print(f"{name:52}{seconds:8.2f} s")


def reference(mesh: Mesh) -> int:
    """trimesh's look at the mesh."""
    t = trimesh.Trimesh(mesh.positions, mesh.triangles, process=False)
    return len(trimesh.graph.connected_components(t.face_adjacency)) + len(t.edges_unique)


if __name__ == "__main__":
    main()
