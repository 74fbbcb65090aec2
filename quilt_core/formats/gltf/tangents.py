"""Stored tangents that follow their islands: turned and mirrored as the UVs are that they point along.

Source: glTF 2.0, 3.7.2.1 (the bitangent is cross(normal, tangent) times the tangent's fourth number).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...model.scene import Floats, Scene
from ...uv.turning import linear_maps
from . import accessors
from .container import Document
from .materials import channel_of, textures_of, uv_transform
from .read import outside, triangles_of

_ODD = 0.05  # of a direction's length, on average over the area: more is no turn


def tangent_channel(document: Document, primitive: dict[str, Any]) -> int:
    """The TEXCOORD that the tangents of a primitive belong to: that of its normal map, or the first."""
    if "material" not in primitive:
        return 0
    infos = dict(textures_of(document.item("materials", primitive["material"], "primitive")))
    return channel_of(infos["normalTexture"]) if "normalTexture" in infos else 0


def raw(uv: Floats, matrix: Floats | None) -> Floats:
    """UVs (V, 2) of a scene as the file has them, v upward."""
    out = outside(uv, matrix)
    return np.column_stack([out[:, 0], 1.0 - out[:, 1]])


def turn(document: Document, scene: Scene, uvs: Mapping[int, Floats], channel: int) -> None:
    """Let the tangents of a document that was just given new UVs follow them.

    Parameters
    ----------
    scene : as it was read; uvs : per mesh number (W, 2); channel : the TEXCOORD that was written
    """
    source: Document = scene.key
    for number, new in uvs.items():
        if not scene.meshes[number].tangents or channel not in scene.meshes[number].channels:
            continue
        index, parts = scene.meshes[number].key
        old = scene.meshes[number].channels[channel].uvs
        for part in parts:
            given = source.item("meshes", index, "mesh")["primitives"][part.primitive]
            if "TANGENT" not in given["attributes"] or tangent_channel(source, given) != channel:
                continue
            primitive, matrix = document.item("meshes", index, "mesh")["primitives"][part.primitive], uv_transform(source, given, channel)
            rows = slice(part.first, part.first + part.count)
            triangles = triangles_of(source, given, part.count, f"mesh {index}")
            follow(document, primitive, given["attributes"], raw(old[rows], matrix), raw(new[rows], matrix), triangles)


def follow(document: Document, primitive: dict[str, Any], given: dict[str, Any], old: Floats, new: Floats, triangles: np.ndarray) -> bool:
    """Give a primitive the tangents of the `given` one as they are in new UVs; takes them out where these are not the old ones turned.

    Parameters
    ----------
    given : attributes with TANGENT, which belong to the old UVs; old, new : (V, 2), v upward; triangles : (T, 3)

    Returns
    -------
    whether it has tangents
    """
    attributes = primitive["attributes"]
    number = given["TANGENT"]
    values = accessors.floats(document, number, 4, "TANGENT")
    turned = None
    if "NORMAL" in attributes and len(values) == len(old) == len(new):
        places = accessors.floats(document, attributes["POSITION"], 3, "POSITION")
        turned = _turned(values, accessors.floats(document, attributes["NORMAL"], 3, "NORMAL"), places, old, new, triangles)
    if turned is None:
        attributes.pop("TANGENT", None)
        return False
    if not np.array_equal(turned, values):
        attributes["TANGENT"] = accessors.append(document, turned, "VEC4")
    return True


def _turned(tangents: Floats, normals: Floats, places: Floats, old: Floats, new: Floats, triangles: np.ndarray) -> Floats | None:
    """Tangents (V, 4) in new UVs, None where the new UVs are not the old ones turned, island by island."""
    maps = linear_maps(new[triangles], old[triangles])
    of = np.tile([1.0, 0.0, 0.0, 1.0], (len(tangents), 1))
    of[triangles[::-1].reshape(-1)] = np.repeat(maps[::-1], 3, axis=0)
    if _torn(maps, of, new, triangles):
        return None
    across = np.cross(normals, tangents[:, :3]) * tangents[:, 3:]
    a, b, c, d = of.T
    up = _sign(across, places, old, triangles)
    out = tangents.copy()
    out[:, :3] = a[:, None] * tangents[:, :3] + (b * up)[:, None] * across
    length = np.linalg.norm(out[:, :3], axis=1, keepdims=True)
    out[:, :3] = np.where(length > 1e-12, out[:, :3] / np.maximum(length, 1e-30), tangents[:, :3])
    out[:, 3] *= np.where(a * d - b * c < 0, -1.0, 1.0)
    same = np.isclose(of, [1.0, 0.0, 0.0, 1.0], rtol=0, atol=1e-6).all(axis=1)
    out[same] = tangents[same]
    return out


def _torn(maps: Floats, of: Floats, new: Floats, triangles: np.ndarray) -> bool:
    """Whether triangles turned otherwise than their neighbours: then no tangent at a vertex fits all of its faces."""
    e = new[triangles]
    (a, c), (b, d) = (e[:, 1] - e[:, 0]).T, (e[:, 2] - e[:, 0]).T
    area = np.abs(a * d - b * c)
    off = np.abs(of[triangles] - maps[:, None]).max(axis=(1, 2))
    return float((area * off).sum()) > _ODD * float(area.sum())


def _sign(across: Floats, places: Floats, old: Floats, triangles: np.ndarray) -> float:
    """1 where bitangents point to growing v (upward) on the whole, else -1: files of both kinds are in use."""
    e, p = old[triangles], places[triangles]
    (a, c), (b, d) = (e[:, 1] - e[:, 0]).T, (e[:, 2] - e[:, 0]).T
    det = a * d - b * c
    with np.errstate(divide="ignore", invalid="ignore"):
        up = ((p[:, 2] - p[:, 0]) * a[:, None] - (p[:, 1] - p[:, 0]) * b[:, None]) / det[:, None]
    along = (up * across[triangles].mean(axis=1)).sum(axis=1)
    return -1.0 if float(np.nan_to_num(np.sign(along)).sum()) < 0 else 1.0
