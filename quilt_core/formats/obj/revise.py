"""An OBJ with UVs made anew: its `vt` lines are written again as one block, and the faces name them by new numbers; all other lines stay."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...model.scene import Scene, UvChannel
from ..revision import corner_rows
from .write import face_line, vt_line


def revise(scene: Scene, channels: Mapping[int, UvChannel], channel: int = 0) -> dict[str, bytes]:
    """See `formats.revise`."""
    text, s = scene.key
    body: bytes = text.body
    newline = b"\r\n" if b"\r\n" in body[:10000] else b"\n"
    # Rows that were two stay two, whatever their values: they may be sides of a seam that nothing has moved apart yet.
    values = [s.vt]
    row = np.where(s.corner_vt >= 0, s.corner_vt, -1).astype(np.int64)
    count = len(s.vt)
    for number, new in channels.items():
        mesh = scene.meshes[number]
        rows = corner_rows(mesh, new)
        row[mesh.key.corners] = np.where(rows >= 0, rows + count, -1)
        values.append(new.uvs)
        count += len(new.uvs)
    has = row >= 0
    used, at_used = np.unique(row[has], return_inverse=True)
    table = np.round(np.concatenate(values)[used], 9) + 0.0
    vt = np.zeros(len(row), np.int64)
    vt[has] = at_used.reshape(-1) + 1
    block = newline.join(vt_line(uv) for uv in table) + newline
    edits = [(int(a), int(b) + len(newline) * (body[b : b + len(newline)] == newline), b"") for a, b in s.vt_line.tolist()]
    for face, (begin, end) in enumerate(s.face_line.tolist()):
        head = block if face == 0 else b""
        edits.append((begin, end, head + face_line(body[begin:end], vt[s.faces[face] : s.faces[face + 1]].tolist())))
    out, at = [], 0
    for begin, end, new_text in sorted(edits):
        out += [body[at:begin], new_text]
        at = end
    return {"": text.encode(b"".join([*out, body[at:]]))}
