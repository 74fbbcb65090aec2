"""The normals of a USD, for writing them into another format. Computing never needs them."""

from __future__ import annotations

from ...model.scene import Floats, Scene


def normals(scene: Scene, mesh: int) -> Floats | None:
    """See `formats.normals`."""
    return scene.meshes[mesh].key.normals
