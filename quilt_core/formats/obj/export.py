"""OBJ with an MTL library. Objects stand where they are in the world, in metres."""

from __future__ import annotations

import numpy as np

from ..model import Corners, Model, distinct, in_world, turned
from ..wiring import safe_name
from .mtl import lines_of


def export(model: Model, name: str, ending: str) -> dict[str, bytes]:
    """See `formats.export`."""
    library = f"{safe_name(name)}.mtl"
    lines = ["# metres, y up", *([f"mtllib {library}"] if model.looks else [])]
    first = {"v": 1, "vt": 1, "vn": 1}
    for item in model.items:
        corners = model.meshes[item.mesh][2]
        positions, normal, over = in_world(model, item)
        lines.append(f"o {item.path.replace('/', '.')}")
        lines += [f"v {x:.9g} {y:.9g} {z:.9g}" for x, y, z in positions.tolist()]
        columns = [corners.position + first["v"]]
        first["v"] += len(positions)
        for word, values in (("vt", corners.laid), ("vn", normal)):
            number = np.zeros(len(corners.position), np.int64)
            if values is not None:
                at, row = distinct(values)
                lines += [word + "".join(f" {x:.9g}" for x in v) for v in np.nan_to_num(values[at]).tolist()]
                number = np.where(np.isfinite(values).all(axis=1), row + first[word], 0)
                first[word] += len(at)
            columns.append(number)
        order = turned(corners) if over else np.arange(len(corners.position))
        lines += _faces(model, corners, [c[order].tolist() for c in columns])
    out = {f"{name}.obj": ("\n".join(lines) + "\n").encode(), **model.shown}
    if model.looks:
        out[library] = "\n".join(line for look in model.looks for line in (f"newmtl {look.name}", *lines_of(look), "")).encode()
    return out


def _faces(model: Model, corners: Corners, columns: list[list[int]]) -> list[str]:
    """The lines of the faces; 0 in a column is none."""
    texts = [f"{v}/{t or ''}/{n}" if n else f"{v}/{t}" if t else str(v) for v, t, n in zip(*columns, strict=True)]
    lines, now = [], None
    for f, look in enumerate(corners.look.tolist()):
        if look != now:
            lines.append(f"usemtl {model.looks[look].name if look >= 0 else 'unpainted'}")
            now = look
        lines.append("f " + " ".join(texts[corners.faces[f] : corners.faces[f + 1]]))
    return lines
