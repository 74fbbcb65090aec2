"""A made-up file for the benchmarks: many small curved patches, and their UVs far away and huge, as badly exported files have them."""

from __future__ import annotations

import numpy as np


def far_patches(patches: int = 400, squares: int = 18, far: float = 70.0, seed: int = 5, largest: float = 3.0, one: bool = False) -> bytes:
    """An OBJ of `patches` objects (or one object of them all) of 2 x squares^2 triangles each, every patch one island of up to `largest` tiles, up to `far` tiles away."""
    random = np.random.default_rng(seed)
    n = squares + 1
    x, y = (c.ravel() for c in np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1, n)))
    corner = np.arange(squares)[:, None] * n + np.arange(squares)[None, :]
    quad = np.stack([corner, corner + 1, corner + n + 1, corner + n], axis=-1).reshape(-1, 4) + 1
    lines = []
    for k in range(patches):
        at = np.array([k % 20, k // 20, 0.0]) * 1.2
        z = 0.2 * np.sin(3 * x + k) * np.cos(2 * y)
        size, turn = random.uniform(0.05, 1.0) * largest, random.uniform(0, 2 * np.pi)
        place = random.uniform(0, far, 2) if k % 4 else random.uniform(0, 1, 2)
        c, s = np.cos(turn), np.sin(turn)
        uv = size * np.column_stack([c * x - s * y, s * x + c * y]) + place
        if not (one and k):
            lines.append(f"o patch_{k:03}")
        lines += [f"v {a:.6f} {b:.6f} {d:.6f}" for a, b, d in np.column_stack([x, y, z]) + at]
        lines += [f"vt {a:.6f} {b:.6f}" for a, b in uv]
        first = k * n * n
        lines += [" ".join(["f", *(f"{i}/{i}" for i in row)]) for row in (quad + first).tolist()]
    return "\n".join(lines).encode()
