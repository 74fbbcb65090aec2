"""The normals of a PLY, for writing them into another format. Computing never needs them."""

from __future__ import annotations

import numpy as np

from ...model.scene import Floats, Scene


def normals(scene: Scene, mesh: int) -> Floats | None:
    """See `formats.normals`."""
    vertices = scene.key["vertex"]
    if not all(n in vertices for n in ("nx", "ny", "nz")):
        return None
    rows = np.column_stack([vertices[n].astype(np.float64) for n in ("nx", "ny", "nz")])
    return rows[scene.meshes[mesh].triangles]
