"""A USD again, with new UVs in the layer that may speak about each mesh."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Vt

from ...model.scene import Floats, Scene
from .files import Layers, opened, saved
from .read import Stand


def write(scene: Scene, uvs: Mapping[int, Floats], channel: int = 0) -> dict[str, bytes]:
    """See `formats.write`. A channel that a mesh has not is named `st` and its number.

    Raises
    ------
    FileError : the layer cannot be written
    """
    layers: Layers = scene.key
    changed: set[str] = set()
    with opened(layers) as (_stage, folder):
        for number, new in sorted(uvs.items()):
            spot: Stand = scene.meshes[number].key
            with Sdf.ChangeBlock():
                author(folder, spot, channel_name(spot.names, channel), new)
            changed.add(spot.layer)
        return saved(folder, layers, changed)


def channel_name(names: list[str], channel: int) -> str:
    """The primvar of a channel."""
    return names[channel] if channel < len(names) else "st" if channel == 0 else f"st{channel}"


def author(folder: Any, spot: Stand, name: str, uvs: Floats) -> None:
    """Write a primvar into a layer: values by row, and the row of every corner."""
    layer = Sdf.Layer.Find(str(folder / spot.layer))
    prim = Sdf.CreatePrimInLayer(layer, spot.path)
    attribute = prim.attributes.get(f"primvars:{name}")
    if attribute is not None and not str(attribute.typeName).startswith(("texCoord2", "float2", "double2", "half2")):
        del prim.properties[f"primvars:{name}"]
        attribute = None
    if attribute is None:
        attribute = Sdf.AttributeSpec(prim, f"primvars:{name}", Sdf.ValueTypeNames.TexCoord2fArray)
    kind = str(attribute.typeName)
    array = _array(kind, uvs)
    for time in layer.ListTimeSamplesForPath(attribute.path):
        layer.EraseTimeSample(attribute.path, time)
    attribute.default = array
    attribute.SetInfo("interpolation", "vertex" if spot.per_point else "faceVarying")
    indices = prim.attributes.get(f"primvars:{name}:indices")
    if spot.per_point:
        if indices is not None:
            indices.default = Sdf.ValueBlock()
        return
    if indices is None:
        indices = Sdf.AttributeSpec(prim, f"primvars:{name}:indices", Sdf.ValueTypeNames.IntArray)
    for time in layer.ListTimeSamplesForPath(indices.path):
        layer.EraseTimeSample(indices.path, time)
    indices.default = Vt.IntArray.FromNumpy(np.ascontiguousarray(spot.rows, np.int32))


def _array(kind: str, uvs: Floats) -> Any:
    if kind.endswith("2d[]") or kind == "double2[]":
        return Vt.Vec2dArray.FromNumpy(np.ascontiguousarray(uvs, np.float64))
    if kind.endswith("2h[]") or kind == "half2[]":
        return Vt.Vec2hArray([Gf.Vec2h(float(u), float(v)) for u, v in uvs])
    return Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(uvs, np.float32))
