"""A PLY with UVs made anew: a list `texcoord` at its faces, since only there a seam can stand; UVs at the vertices stay as they were."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from plyfile import PlyData, PlyElement, PlyListProperty

from ...model.scene import Scene, UvChannel
from ..revision import corner_rows
from .read import WEDGES
from .write import as_bytes


def revise(scene: Scene, channels: Mapping[int, UvChannel], channel: int = 0) -> dict[str, bytes]:
    """See `formats.revise`."""
    old: PlyData = scene.key
    if 0 not in channels:
        return {"": as_bytes(old)}
    polygons = scene.meshes[0].polygons
    assert polygons is not None
    rows, uvs = corner_rows(scene.meshes[0], channels[0]), channels[0].uvs.astype(np.float32)
    elements = []
    for element in old.elements:
        if element.name != "face":
            elements.append(element)
            continue
        kept = [p for p in element.properties if p.name != WEDGES]
        names = [p.name for p in kept]
        data = np.empty(len(element.data), [(n, element.data.dtype[n]) for n in names] + [(WEDGES, "O")])
        for n in names:
            data[n] = element.data[n]
        for f, (a, b) in enumerate(zip(polygons.faces[:-1].tolist(), polygons.faces[1:].tolist(), strict=True)):
            whole = b > a and (rows[a:b] >= 0).all()
            data[WEDGES][f] = uvs[rows[a:b]].reshape(-1) if whole else np.zeros(0, np.float32)
        made = PlyElement(element.name, [*kept, PlyListProperty(WEDGES, "uchar", "float")], len(data), element.comments)
        made.data = data
        elements.append(made)
    return {"": as_bytes(PlyData(elements, old.text, old.byte_order, old.comments, old.obj_info))}
