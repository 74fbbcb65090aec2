"""The normals that a file has, for writing them into another format. Computing never needs them."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..scene import Floats, Scene
from . import gltf_accessors as accessors
from .objscan import normal_rows


def normals(scene: Scene, mesh: int) -> Floats | None:
    """Normals (T, 3, 3) at the corners of the triangles of a mesh, in its own space; None where the file has none that fit."""
    kind: Any = {"gltf": _gltf, "obj": _obj, "ply": _ply, "usd": _usd}[scene.format]
    found: Floats | None = kind(scene, mesh)
    if found is None or not np.isfinite(found).all():
        return None
    return found


def turned_normals(given: Floats, world: Floats) -> Floats | None:
    """Unit normals (..., 3) of an object in the world: they go with the inverse of its placing (4, 4). Zero where one has no length; None where the
    placing flattens the object."""
    turn = world[:3, :3]
    if abs(np.linalg.det(turn)) < 1e-30:
        return None
    out = given @ np.linalg.inv(turn)
    length = np.linalg.norm(out, axis=-1, keepdims=True)
    return np.where(length > 1e-12, out / np.maximum(length, 1e-12), 0.0)


def _gltf(scene: Scene, mesh: int) -> Floats | None:
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


def _ply(scene: Scene, mesh: int) -> Floats | None:
    vertices = scene.key["vertex"]
    if not all(n in vertices for n in ("nx", "ny", "nz")):
        return None
    rows = np.column_stack([vertices[n].astype(np.float64) for n in ("nx", "ny", "nz")])
    return rows[scene.meshes[mesh].triangles]


def _obj(scene: Scene, mesh: int) -> Floats | None:
    """Counts as the specification does: from 1, or back from the last one before the face."""
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


def _usd(scene: Scene, mesh: int) -> Floats | None:
    return scene.meshes[mesh].key.normals
