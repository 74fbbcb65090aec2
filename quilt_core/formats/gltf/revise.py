"""A glTF with UVs made anew: vertices are parted where a seam runs, with everything that they have, and nowhere else.

Primitives that shared accessors with the changed one keep theirs; it gets its own.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from ...model.scene import Scene, UvChannel
from ..channels import Numbers
from . import accessors
from .container import Document, serialise
from .materials import uv_transform
from .read import outside, triangles_of
from .tangents import tangent_channel

_ARRAY_BUFFER = 34962


def revise(scene: Scene, channels: Mapping[int, UvChannel], channel: int = 0) -> dict[str, bytes]:
    """See `formats.revise`. Channels that are missing below the one that is written get its UVs, since there may be no gaps."""
    source: Document = scene.key
    document = replace(source, json=copy.deepcopy(source.json), buffers=list(source.buffers), uris=list(source.uris))
    for number, new in sorted(channels.items()):
        index, parts = scene.meshes[number].key
        primitives = document.item("meshes", index, "mesh")["primitives"]
        first = 0
        for part in parts:
            primitive = primitives[part.primitive]
            triangles = triangles_of(document, primitive, part.count, f"mesh {index}")
            rows = new.triangles[first : first + len(triangles)].astype(np.int64)
            first += len(triangles)
            _primitive(document, primitive, triangles, rows, new, channel, part.count)
    return serialise(document)


def _primitive(
    document: Document, primitive: dict[str, Any], triangles: Numbers, rows: Numbers, new: UvChannel, channel: int, count: int
) -> None:
    """One primitive: its vertices (count), parted where they have several rows."""
    pairs, vertex = np.unique(np.column_stack([triangles.reshape(-1), rows.reshape(-1)]), axis=0, return_inverse=True)
    # The first row of a vertex keeps its number; others are added behind all that there were.
    extra = np.r_[False, pairs[1:, 0] == pairs[:-1, 0]]
    number = np.where(extra, count + np.cumsum(extra) - 1, pairs[:, 0])
    origin = np.concatenate([np.arange(count), pairs[extra, 0]])
    row = np.full(len(origin), -1)
    row[number] = pairs[:, 1]
    attributes = primitive["attributes"]
    if extra.any():
        for place in (attributes, *primitive.get("targets", [])):
            for name, accessor in list(place.items()):
                place[name] = _gathered(document, accessor, origin, name)
        small = len(origin) <= 65535
        primitive["mode"] = 4
        primitive["indices"] = accessors.append_indices(document, number[vertex.reshape(-1)], small)
    if "TANGENT" in attributes and tangent_channel(document, primitive) == channel:
        del attributes["TANGENT"]  # they belong to other UVs; without them a viewer makes them from these
    for c in range(channel + 1):
        name = f"TEXCOORD_{c}"
        if c < channel and name in attributes:
            continue
        values = outside(new.uvs[np.maximum(row, 0)], uv_transform(document, primitive, c)).astype("<f4")
        values[row < 0] = 0.0
        attributes[name] = accessors.append(document, values, "VEC2")


def _gathered(document: Document, accessor: int, origin: Numbers, name: str) -> int:
    """A new accessor with the elements (k,) of an old one, in the kind that it has."""
    entry = dict(document.item("accessors", accessor, name))
    values = np.ascontiguousarray(accessors.raw(document, accessor, name)[origin])
    body = values.view(np.uint8).reshape(len(values), -1)
    # Elements of a vertex stand on multiples of four bytes (specification 3.6.2.4).
    wide = -(-body.shape[1] // 4) * 4
    padded = np.zeros((len(body), wide), np.uint8)
    padded[:, : body.shape[1]] = body
    view = document.append(padded.tobytes(), _ARRAY_BUFFER)
    if wide != body.shape[1]:
        document.json["bufferViews"][view]["byteStride"] = wide
    for key in ("sparse", "byteOffset"):
        entry.pop(key, None)
    return accessors.add(document, entry | {"bufferView": view, "count": len(values)})
