"""A PLY again, with new UVs where the old ones stood."""

from __future__ import annotations

import io
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray
from plyfile import PlyData, PlyElement

from ...model.scene import Floats, Scene
from .read import WEDGES, Key


def write(scene: Scene, uvs: Mapping[int, Floats], channel: int = 0) -> dict[str, bytes]:
    """The file again, with new UVs where the old ones stood. See `formats.write`."""
    old: PlyData = scene.key
    elements = []
    for element in old.elements:
        out = element
        if 0 in uvs and scene.meshes[0].channels:
            key: Key = scene.meshes[0].key
            if element.name == "vertex" and key.pair is not None:
                out = _with_pair(element, key.pair, uvs[0])
            elif element.name == "face" and key.pair is None:
                out = _with_wedges(element, key.rows, uvs[0], scene)
        elements.append(out)
    return {"": as_bytes(PlyData(elements, old.text, old.byte_order, old.comments, old.obj_info))}


def as_bytes(ply: PlyData) -> bytes:
    """The bytes of a PLY."""
    out = io.BytesIO()
    ply.write(out)
    return out.getvalue()


def _element(old: PlyElement, data: NDArray[np.void]) -> PlyElement:
    out = PlyElement(old.name, old.properties, len(data), old.comments)
    out.data = data
    return out


def _with_pair(element: PlyElement, pair: tuple[str, str], uvs: Floats) -> PlyElement:
    data = element.data.copy()
    for k, name in enumerate(pair):
        data[name] = uvs[:, k]
    return _element(element, data)


def _with_wedges(element: PlyElement, rows: NDArray[np.int64], uvs: Floats, scene: Scene) -> PlyElement:
    polygons = scene.meshes[0].polygons
    assert polygons is not None
    data = element.data.copy()
    kind = next(p for p in element.properties if p.name == WEDGES).val_dtype
    for f, (a, b) in enumerate(zip(polygons.faces[:-1], polygons.faces[1:], strict=True)):
        if a < b and rows[a] >= 0:
            data[WEDGES][f] = uvs[rows[a:b]].reshape(-1).astype(kind)
    return _element(element, data)
