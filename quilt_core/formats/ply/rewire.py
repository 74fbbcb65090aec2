"""PLY: `TextureFile` comments, and a `texnumber` for every face where there are several. Other kinds than the base colour have no place in it."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping

import numpy as np
from plyfile import PlyData, PlyElement, PlyProperty

from ...model.scene import Scene
from ..wiring import Rewired, Wiring, face_labels
from .write import as_bytes


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`."""
    paths = [m.maps.get("base colour", "") for m in wiring.materials]
    labels = wiring.of_triangle.get(0)
    polygons = scene.meshes[0].polygons
    if labels is None or polygons is None or not any(paths):
        return Rewired(dict(written))
    shown = list(dict.fromkeys(p for p in paths if p))
    # Faces that stay as they were keep their old picture, after the new ones.
    kept = [m.images["TextureFile"] for m in scene.materials]
    faces = face_labels(polygons.face_of, labels, len(polygons.faces) - 1)
    number = np.array([shown.index(p) if p else -1 for p in paths])[faces] if len(paths) else faces
    old = face_labels(polygons.face_of, scene.meshes[0].materials.astype(np.int64), len(faces))
    stay = (faces < 0) | (number < 0)
    number = np.where(stay, np.where(old >= 0, old + len(shown), -1), number)
    if not (stay & (old >= 0)).any():
        kept = []
    ply = PlyData.read(io.BytesIO(written[""]))
    comments = [c for c in ply.comments if not re.match(r"(?i)texturefile\s", c)] + [f"TextureFile {p}" for p in shown + kept]
    elements = [_numbered(e, number) if e.name == "face" and len(shown + kept) > 1 else e for e in ply.elements]
    return Rewired({**written, "": as_bytes(PlyData(elements, ply.text, ply.byte_order, comments, ply.obj_info))})


def _numbered(element: PlyElement, number: np.ndarray) -> PlyElement:
    """The faces with the number of their picture."""
    properties, data = list(element.properties), element.data
    if "texnumber" not in element:
        properties.append(PlyProperty("texnumber", "int"))
        wider = np.empty(len(data), [*data.dtype.descr, ("texnumber", "<i4")])
        for name in data.dtype.names:
            wider[name] = data[name]
        data = wider
    else:
        data = data.copy()
    data["texnumber"] = number
    out = PlyElement(element.name, properties, len(data), element.comments)
    out.data = data
    return out
