"""Binary PLY: all objects as one mesh in metres, a vertex for each distinct place, UV and normal."""

from __future__ import annotations

import numpy as np
from plyfile import PlyData, PlyElement

from ...model.colours import to_srgb
from ..model import Model, distinct, in_world, turned
from .read import COLOURS
from .write import as_bytes


def export(model: Model, name: str, ending: str) -> dict[str, bytes]:
    """See `formats.export`."""
    vertices, lists, looks, first = [], [], [], 0
    for item in model.items:
        corners = model.meshes[item.mesh][2]
        positions, normal, over = in_world(model, item)
        order = turned(corners) if over else np.arange(len(corners.position))
        uv = corners.laid if corners.laid is not None else np.zeros((len(corners.position), 2))
        at, row = distinct(corners.position, uv, normal, corners.colour)
        flat = _flat_normals(positions, corners.position, corners.triangles) if normal is None else normal
        flat = -flat if over and normal is None else flat
        colour = np.ones((len(at), 4)) if corners.colour is None else corners.colour[at]
        vertices.append(np.column_stack([positions[corners.position[at]], flat[at], np.nan_to_num(uv[at]), colour]))
        ids = (row + first)[order].astype(np.int32)
        lists += np.split(ids, corners.faces[1:-1])
        looks.append(corners.look)
        first += len(at)
    paths = list(dict.fromkeys(look.maps["base colour"].path for look in model.looks if "base colour" in look.maps))
    number = np.array([paths.index(x.maps["base colour"].path) if "base colour" in x.maps else -1 for x in model.looks] + [-1])
    table = np.concatenate(vertices).astype(np.float32)
    names = ("x", "y", "z", "nx", "ny", "nz", "s", "t")
    coloured = any(corners.colour is not None for _, _, corners in model.meshes)
    rows = np.zeros(len(table), [(n, "<f4") for n in names] + [(n, "u1") for n in COLOURS if coloured])
    for k, column in enumerate(names):
        rows[column] = table[:, k]
    for k, column in enumerate(COLOURS if coloured else ()):
        # Stored as pictures are (common practice, no source).
        stored = table[:, 8 + k] if column == "alpha" else to_srgb(table[:, 8 + k])
        rows[column] = np.round(np.clip(stored, 0, 1) * 255)
    faces = np.zeros(len(lists), [("vertex_indices", "O"), ("texnumber", "<i4")])
    for f, ids in enumerate(lists):
        faces["vertex_indices"][f] = ids
    faces["texnumber"] = number[np.concatenate(looks)]
    body = PlyData(
        [PlyElement.describe(rows, "vertex"), PlyElement.describe(faces, "face", len_types={"vertex_indices": "u4"})],
        comments=["metres, y up", *(f"TextureFile {p}" for p in paths)],
    )
    shown = {p: b for p, b in model.shown.items() if p in paths}
    return {f"{name}.ply": as_bytes(body), **shown}


def _flat_normals(positions: np.ndarray, position: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Normals (C, 3) of corners from their triangles, where the file has none."""
    a, b, c = (positions[position[triangles[:, k]]] for k in range(3))
    n = np.cross(b - a, c - a)
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)
    out = np.zeros((len(position), 3))
    out[triangles] = n[:, None, :]
    return out
