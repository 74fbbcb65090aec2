"""A step of the brush: 600 faces in an island of 20,000, and what is solved when it is lifted.

    python -m bench.brush

As ratios to one solve of the same patch's Laplacian by SciPy (factored and solved once), measured in the same run.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.sparse import csc_matrix
from scipy.sparse.linalg import splu

from quilt_core.model.scene import UvChannel
from quilt_core.unwrap.brush import Brush, Dab
from quilt_core.unwrap.skin import laying_of, skin_of
from quilt_core.uv.areas import signed_areas
from quilt_core.uv.islands import find_islands
from tests.core.test_unwrap import mesh_of
from tests.shapes import net

SIDE = 100  # quads


def brush() -> Brush:
    """An island of 20,000 triangles on a wavy sheet, with UVs that are pushed about."""
    xy, faces = net(SIDE)
    x, y = xy.T
    mesh = mesh_of(np.column_stack([x, y, 0.2 * np.sin(3 * x) * y]), faces)
    inner = (np.sin(np.pi * x) * np.sin(np.pi * y))[:, None]
    uv = xy + 0.03 * inner * np.column_stack([np.sin(20 * y), np.sin(17 * x)])
    mesh.channels[0] = UvChannel(uv, faces.astype(np.int32))
    skin = skin_of(mesh)
    return Brush(skin, laying_of(skin, mesh.channels[0], find_islands(mesh, mesh.channels[0]).of_triangle), 0)


def plain_solve(rows: int) -> float:
    """Seconds of one Laplacian of a grid of about so many rows, factored and solved by SciPy."""
    n = max(2, round(rows**0.5))
    i = np.arange(n * n).reshape(n, n)
    pairs = np.concatenate([np.column_stack([i[:, 1:].ravel(), i[:, :-1].ravel()]), np.column_stack([i[1:].ravel(), i[:-1].ravel()])])
    a, b = np.r_[pairs[:, 0], pairs[:, 1]], np.r_[pairs[:, 1], pairs[:, 0]]
    start = time.perf_counter()
    matrix = csc_matrix((np.r_[-np.ones(len(a)), np.full(n * n, 4.1)], (np.r_[a, np.arange(n * n)], np.r_[b, np.arange(n * n)])))
    splu(matrix).solve(np.ones((n * n, 2)))
    return time.perf_counter() - start


def main() -> None:
    b = brush()
    radius = float(np.sqrt(600 / (2 * SIDE**2) / np.pi))
    b.dab(Dab(np.array([0.5, 0.5]), radius, 1.0))
    steps, sizes = [], []
    for k in range(80):
        start = time.perf_counter()
        moved = b.dab(Dab(np.array([0.15 + 0.007 * k, 0.4 + 0.2 * (k % 2)]), radius, 1.0))
        steps.append(time.perf_counter() - start)
        sizes.append(len(b.around(moved)) if len(moved) else 0)
    reference = float(np.median([plain_solve(300) for _ in range(30)]))
    step = float(np.median(steps))
    print(
        f"a step: {1e3 * step:.1f} ms (at most {1e3 * max(steps):.1f}), {int(np.median(sizes))} faces; {step / reference:.1f} times one plain solve"
    )
    start = time.perf_counter()
    b.settled()
    print(
        f"lifted: {time.perf_counter() - start:.2f} s for {int(b.touched.sum())} rows; folded: {int((signed_areas(b.laying().uv) <= 0).sum())}"
    )


if __name__ == "__main__":
    main()
