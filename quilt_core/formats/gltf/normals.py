"""The normals of a glTF, for writing them into another format. Computing never needs them."""

from __future__ import annotations

import numpy as np

from ...model.scene import Floats, Scene
from . import accessors


def normals(scene: Scene, mesh: int) -> Floats | None:
    """See `formats.normals`."""
    index, parts = scene.meshes[mesh].key
    primitives = scene.key.item("meshes", index, "mesh")["primitives"]
    rows = np.zeros((len(scene.meshes[mesh].positions), 3))
    for part in parts:
        accessor = primitives[part.primitive].get("attributes", {}).get("NORMAL")
        if accessor is None:
            return None
        values = accessors.floats(scene.key, accessor, 3, "NORMAL")
        if len(values) != part.count:
            return None
        rows[part.first : part.first + part.count] = values
    return rows[scene.meshes[mesh].triangles]
