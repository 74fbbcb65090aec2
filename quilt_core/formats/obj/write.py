"""An OBJ again, with new UVs or materials: only the lines that must change do."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ...model.scene import Scene
from .read import Key
from .scan import ObjScan


def write(scene: Scene, uvs: Mapping[int, NDArray[np.float64]], channel: int = 0) -> dict[str, bytes]:
    """The file again, with new UVs. See `formats.write`.

    Parameters
    ----------
    scene : as `read` gave it
    uvs : per mesh number, an (W, 2) array in the rows of that mesh's channel 0

    Notes
    -----
    A `vt` that several corners share is kept where all of them want the same place, and parted (an extra
    `vt` line before the first face that needs it) where they do not.
    """
    text, s = scene.key
    wanted = s.vt[np.maximum(s.corner_vt, 0)] if len(s.vt) else np.zeros((len(s.corner_vt), 2))
    changed = np.zeros(len(wanted), bool)
    for number, new in uvs.items():
        key: Key = scene.meshes[number].key
        has = key.rows >= 0
        wanted[key.corners[has]] = new[key.rows[has]]
        changed[key.corners[has]] = True
    used = s.corner_vt >= 0
    first = np.full(len(s.vt), -1, np.int64)
    corners = np.flatnonzero(used)[::-1]
    first[s.corner_vt[corners]] = corners  # the last write wins: the first corner in the file
    value = s.vt.copy()
    value[first >= 0] = wanted[first[first >= 0]]
    parted = used.copy()
    parted[used] = np.any(np.abs(wanted[used] - value[s.corner_vt[used]]) > 1e-12, axis=1)
    moved = (first >= 0) & np.any(value != s.vt, axis=1)
    return {"": text.encode(_patch(text.body, s, value, moved, wanted, parted))}


def with_materials(body: bytes, s: ObjScan, names: Sequence[str | None]) -> bytes:
    """The text with `usemtl` lines, so that every face has the named material; None: the one that it had, `unpainted` where it had none."""
    newline = b"\r\n" if b"\r\n" in body[:10000] else b"\n"
    said = {before: argument for word, argument, before in s.statements if word == "usemtl"}
    edits: list[tuple[int, bytes]] = []
    old = now = None
    for face, wanted in enumerate(names):
        if face in said:
            old = now = said[face]
        wanted = (old or ("unpainted" if now else None)) if wanted is None else wanted
        if wanted != now and wanted is not None:
            edits.append((int(s.face_line[face, 0]), b"usemtl " + wanted.encode() + newline))
            now = wanted
    out, at = [], 0
    for begin, new in edits:
        out += [body[at:begin], new]
        at = begin
    return _without_idle(b"".join([*out, body[at:]]))


def _without_idle(body: bytes) -> bytes:
    """The text without `usemtl` lines that no face comes after: some programs make a material of each."""
    lines = list(re.finditer(rb"^[ \t]*(usemtl|f)[ \t][^\r\n]*(?:\r\n|\n|\r|\Z)", body, re.M))
    out, at = [], 0
    for line, after in zip(lines, [*lines[1:], None], strict=True):
        if line[1] == b"usemtl" and (after is None or after[1] == b"usemtl"):
            out.append(body[at : line.start()])
            at = line.end()
    return b"".join([*out, body[at:]])


def vt_line(uv: NDArray[np.float64]) -> bytes:
    """The line of a texture coordinate."""
    return b"vt %s %s" % (_digits(uv[0]), _digits(uv[1]))


def _digits(x: float) -> bytes:
    short = f"{x:.9f}".rstrip("0").rstrip(".")
    return b"0" if short in ("-0", "") else short.encode()


def _patch(
    body: bytes,
    s: ObjScan,
    value: NDArray[np.float64],
    moved: NDArray[np.bool_],
    wanted: NDArray[np.float64],
    parted: NDArray[np.bool_],
) -> bytes:
    """Splice new lines into the text. Faces are rewritten only when vt numbers change, from the first part on."""
    edits: list[tuple[int, int, bytes]] = []
    for k in np.flatnonzero(moved):
        begin, end = s.vt_line[k]
        old = body[begin:end].split(b"#")[0].split()
        tail = b" " + old[3] if len(old) > 3 else b""
        edits.append((int(begin), int(end), vt_line(value[k]) + tail))
    if parted.any():
        edits += _part(body, s, wanted, parted)
    edits.sort()
    out, at = [], 0
    for begin, end, new in edits:
        out += [body[at:begin], new]
        at = end
    return b"".join([*out, body[at:]])


def _part(body: bytes, s: ObjScan, wanted: NDArray[np.float64], parted: NDArray[np.bool_]) -> list[tuple[int, int, bytes]]:
    """Extra vt lines, and the faces from there on with absolute vt numbers."""
    newline = b"\r\n" if b"\r\n" in body[:10000] else b"\n"
    corner_face = np.repeat(np.arange(len(s.faces) - 1), np.diff(s.faces))
    extra: dict[tuple[int, float, float], int] = {}
    extra_of = np.full(len(parted), -1, np.int64)
    needs: dict[int, list[int]] = {}
    for c in np.flatnonzero(parted):
        k = (int(s.corner_vt[c]), round(float(wanted[c, 0]), 9), round(float(wanted[c, 1]), 9))
        if k not in extra:
            extra[k] = len(extra)
            needs.setdefault(int(corner_face[c]), []).append(int(c))
        extra_of[c] = extra[k]
    faces_needing = sorted(needs)
    # New number of an old vt: its own, plus the extras that stand above it in the file.
    starts = s.face_line[faces_needing, 0]
    above = np.concatenate([[0], np.cumsum([len(needs[f]) for f in faces_needing])])
    new_number = np.arange(1, len(s.vt) + 1) + above[np.searchsorted(starts, s.vt_line[:, 0])]
    extra_number = np.zeros(len(extra), np.int64)
    position = 0
    for f in faces_needing:
        vts_above = int(np.searchsorted(s.vt_line[:, 0], s.face_line[f, 0]))
        for corner in needs[f]:
            position += 1
            extra_number[extra_of[corner]] = vts_above + position
    edits = []
    for face in range(len(s.faces) - 1):
        a, b = int(s.faces[face]), int(s.faces[face + 1])
        begin, end = (int(x) for x in s.face_line[face])
        rows = [
            0 if s.corner_vt[c] < 0 else int(extra_number[extra_of[c]] if extra_of[c] >= 0 else new_number[s.corner_vt[c]])
            for c in range(a, b)
        ]
        new = b"".join(vt_line(wanted[c]) + newline for c in needs.get(face, [])) + face_line(body[begin:end], rows)
        if new != body[begin:end]:
            edits.append((begin, end, new))
    return edits


_CORNER = re.compile(rb"([+-]?\d+)(/[+-]?\d*)?(/[+-]?\d*)?")


def face_line(line: bytes, vt: list[int]) -> bytes:
    """The face line with other vt numbers, counted from 1, 0 for those that stay; v and vn stay as they were written."""
    numbers = iter(vt)

    def corner(m: re.Match[bytes]) -> bytes:
        n = next(numbers)
        if n == 0:
            return m.group(0)
        return m.group(1) + b"/%d" % n + (m.group(3) or b"")

    head, mark, comment = line.partition(b"#")
    return _CORNER.sub(corner, head) + mark + comment
