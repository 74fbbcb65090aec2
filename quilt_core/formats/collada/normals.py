"""The normals of a COLLADA mesh, for writing them into another format. Computing never needs them."""

from __future__ import annotations

from ...model.scene import Floats, Scene
from .document import Document
from .primitives import primitives_of
from .read import Key, gathered


def normals(scene: Scene, mesh: int) -> Floats | None:
    """See `formats.normals`."""
    document: Document = scene.key
    key: Key = scene.meshes[mesh].key
    element = document.ids[key.geometry].one("mesh")
    polygons = scene.meshes[mesh].polygons
    assert element is not None and polygons is not None
    values, rows = gathered(document, primitives_of(document, element), "NORMAL", None, "XYZ", document.where(element))
    return None if (rows < 0).any() else values[rows][polygons.triangles]
