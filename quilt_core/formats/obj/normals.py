"""The normals of an OBJ, for writing them into another format. Computing never needs them."""

from __future__ import annotations

from ...model.scene import Floats, Scene
from .scan import normal_rows


def normals(scene: Scene, mesh: int) -> Floats | None:
    """See `formats.normals`. Counts as the specification does: from 1, or back from the last one before the face."""
    text, scanned = scene.key
    if not len(scanned.vn_line):
        return None
    values = scanned.normals
    if values is None:
        values = scanned.normals = normal_rows(text.body, scanned)
    polygons = scene.meshes[mesh].polygons
    assert polygons is not None
    number = scanned.corner_vn[scene.meshes[mesh].key.corners]
    if (number < 0).any() or (number >= len(values)).any():
        return None
    return values[number][polygons.triangles]  # type: ignore[no-any-return]
