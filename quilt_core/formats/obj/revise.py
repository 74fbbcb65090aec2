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
    wanted = np.full((len(s.corner_v), 2), np.nan)
    old = s.corner_vt >= 0
    wanted[old] = s.vt[s.corner_vt[old]]
    for number, new in channels.items():
        mesh = scene.meshes[number]
        rows = corner_rows(mesh, new)
        wanted[mesh.key.corners] = np.where((rows >= 0)[:, None], new.uvs[np.maximum(rows, 0)], np.nan)
    has = np.isfinite(wanted).all(axis=1)
    table, row = np.unique(np.round(wanted[has], 9) + 0.0, axis=0, return_inverse=True)
    vt = np.zeros(len(wanted), np.int64)
    vt[has] = row.reshape(-1) + 1
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
