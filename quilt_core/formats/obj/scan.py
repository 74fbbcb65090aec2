"""Byte-level scan of OBJ text: numbers and faces into arrays, everything else left where it is.

The scan never copies a line: what it does not understand (comments, smoothing groups, curves) stays in
the source bytes, and writing back patches those bytes.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np
from numba import njit
from numpy.typing import NDArray

_LF, _CR, _SPACE, _TAB, _SLASH, _HASH = 10, 13, 32, 9, 47, 35
_POW10 = np.array([10.0**k for k in range(23)])

NUMBER = re.compile(rb"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?")


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _count(buf):  # type: ignore[no-untyped-def]
    """Upper bounds of what the text holds: v, vt, f, corners, other statements, vn. One pass over the bytes."""
    v = vt = f = corners = other = vn = 0
    i, n = 0, buf.shape[0]
    while i < n:
        while i < n and (buf[i] == _SPACE or buf[i] == _TAB):
            i += 1
        a = buf[i] if i < n else 10
        b = buf[i + 1] if i + 1 < n else 10
        face = False
        if a == 118:
            if b == 116:
                vt += 1
            elif b == 110:
                vn += 1
            else:
                v += 1
        elif a == 102:
            f += 1
            face = True
        elif a == 111 or a == 103 or a == 117 or a == 109:
            other += 1
        blank = True
        while i < n and buf[i] != _LF and buf[i] != _CR:
            now = buf[i] == _SPACE or buf[i] == _TAB
            if face and blank and not now:
                corners += 1
            blank = now
            i += 1
        i += 1
    return v, vt, f, corners, other, vn


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _number(buf, i, end, pow10):  # type: ignore[no-untyped-def]
    """Decimal number at i: (value, next position, state). State 0: exact, 1: needs the slow way.

    Exact means: at most 2^53 as integer and a power of ten up to 22, where one multiplication or
    division of doubles is correctly rounded (Clinger 1990).
    """
    start = i
    sign = 1.0
    if i < end and (buf[i] == 43 or buf[i] == 45):
        if buf[i] == 45:
            sign = -1.0
        i += 1
    m = np.uint64(0)
    digits = 0
    scale = 0
    seen = False
    while i < end and 48 <= buf[i] <= 57:
        if digits < 19:
            m = m * np.uint64(10) + np.uint64(buf[i] - 48)
            if m > 0:
                digits += 1
        else:
            scale += 1
        seen = True
        i += 1
    if i < end and buf[i] == 46:
        i += 1
        while i < end and 48 <= buf[i] <= 57:
            if digits < 19:
                m = m * np.uint64(10) + np.uint64(buf[i] - 48)
                if m > 0:
                    digits += 1
                scale -= 1
            seen = True
            i += 1
    if seen and i < end and (buf[i] == 69 or buf[i] == 101):
        j = i + 1
        es = 1
        if j < end and (buf[j] == 43 or buf[j] == 45):
            if buf[j] == 45:
                es = -1
            j += 1
        e = 0
        got = False
        while j < end and 48 <= buf[j] <= 57:
            if e < 10000:
                e = e * 10 + int(buf[j] - 48)
            got = True
            j += 1
        if got:
            scale += es * e
            i = j
    clean = i >= end or buf[i] == _SPACE or buf[i] == _TAB
    if not seen or not clean or m > np.uint64(9007199254740992) or scale > 22 or scale < -22:
        i = start
        while i < end and buf[i] != _SPACE and buf[i] != _TAB:
            i += 1
        return 0.0, i, 1
    x = float(m)
    x = x * pow10[scale] if scale >= 0 else x / pow10[-scale]
    return sign * x, i, 0


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _index(buf, i, end):  # type: ignore[no-untyped-def]
    """Whole number at i: (value, next position); value 0 when there is none, 2^62 when it is too long."""
    s = 1
    if i < end and (buf[i] == 45 or buf[i] == 43):
        if buf[i] == 45:
            s = -1
        i += 1
    x = 0
    d = 0
    while i < end and 48 <= buf[i] <= 57:
        x = x * 10 + int(buf[i] - 48)
        d += 1
        if d > 12:
            return 1 << 62, i
        i += 1
    return s * x, i


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _fill(buf, pow10, v, vt, line_vt, f_start, f_line, c_v, c_vt, other, slow, c_vn, line_vn):  # type: ignore[no-untyped-def]
    """Second pass: fill the arrays that `_count` sized.

    Returns (v, vt, faces, corners, others, slow numbers, position of an unreadable corner or -1).
    Relative indices are resolved against what stands above the face; a missing vt is -1.
    """
    nv = nt = nf = nc = no = ns = nn = 0
    i, n = 0, buf.shape[0]
    while i < n:
        while i < n and (buf[i] == _SPACE or buf[i] == _TAB):
            i += 1
        begin = i
        while i < n and buf[i] != _LF and buf[i] != _CR:
            i += 1
        end = i
        i += 1
        if end - begin < 1:
            continue
        a = buf[begin]
        b = buf[begin + 1] if begin + 1 < end else 10
        gap = b == _SPACE or b == _TAB
        if a == 118 and (gap or b == 116):
            j = begin + 1 if gap else begin + 2
            want = 3 if gap else 2
            for k in range(want):
                while j < end and (buf[j] == _SPACE or buf[j] == _TAB):
                    j += 1
                x = 0.0
                state = 0
                at = j
                if j < end:
                    x, j, state = _number(buf, j, end, pow10)
                elif k == 0 or want == 3:
                    state = 1
                if state == 1:
                    slow[ns, 0] = want
                    slow[ns, 1] = nv if gap else nt
                    slow[ns, 2] = k
                    slow[ns, 3] = at
                    ns += 1
                if gap:
                    v[nv, k] = x
                else:
                    vt[nt, k] = x
            if gap:
                nv += 1
            else:
                line_vt[nt, 0] = begin
                line_vt[nt, 1] = end
                nt += 1
        elif a == 118 and b == 110:
            line_vn[nn, 0] = begin
            line_vn[nn, 1] = end
            nn += 1
        elif a == 102 and (gap or b == 10):
            f_start[nf] = nc
            f_line[nf, 0] = begin
            f_line[nf, 1] = end
            j = begin + 1
            while True:
                while j < end and (buf[j] == _SPACE or buf[j] == _TAB):
                    j += 1
                if j >= end or buf[j] == _HASH:
                    break
                at = j
                x, j = _index(buf, j, end)
                y = 0
                z = 0
                if j < end and buf[j] == _SLASH:
                    y, j = _index(buf, j + 1, end)
                    if j < end and buf[j] == _SLASH:
                        z, j = _index(buf, j + 1, end)
                if x == 0 or (j < end and buf[j] != _SPACE and buf[j] != _TAB):
                    return nv, nt, nf, nc, no, ns, at
                c_v[nc] = x - 1 if x > 0 else nv + x
                # A normal that is not there is no reason to refuse a file: computing never needs them.
                c_vn[nc] = -1 if z == 0 else (z - 1 if z > 0 else nn + z)
                c_vt[nc] = -1 if y == 0 else (y - 1 if y > 0 else nt + y)
                if (x < 0 and c_v[nc] < 0) or (y < 0 and c_vt[nc] < 0):
                    return nv, nt, nf, nc, no, ns, at
                nc += 1
            nf += 1
        elif a == 111 or a == 103 or a == 117 or a == 109:
            other[no, 0] = begin
            other[no, 1] = end
            other[no, 2] = nf
            no += 1
    f_start[nf] = nc
    return nv, nt, nf, nc, no, ns, -1


@dataclass
class ObjScan:
    """The arrays of an OBJ text.

    v (V, 3), vt (T, 2); `faces` (F + 1,) offsets into the corners, `corner_v` and `corner_vt` (C,) zero
    based, vt -1 where missing, `corner_vn` too, below 0 or beyond the end where the file is wrong; `face_line` (F, 2) and `vt_line` (T, 2) byte ranges; `statements`: (keyword,
    argument, number of faces before it).
    """

    v: NDArray[np.float64]
    vt: NDArray[np.float64]
    vt_line: NDArray[np.int64]
    faces: NDArray[np.int64]
    face_line: NDArray[np.int64]
    corner_v: NDArray[np.int64]
    corner_vt: NDArray[np.int64]
    statements: list[tuple[str, str, int]]
    corner_vn: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    vn_line: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))
    normals: NDArray[np.float64] | None = None  # made when somebody asks for them


class ScanError(ValueError):
    """What is wrong and at which byte."""

    def __init__(self, what: str, at: int) -> None:
        super().__init__(what)
        self.what, self.at = what, at


def scan(text: bytes) -> ObjScan:
    """Parse OBJ text.

    Raises
    ------
    ScanError : a number or a corner that cannot be read, an index outside the file
    """
    # A continued line becomes one line of the same length, so byte positions stay true.
    joined = re.sub(rb"\\(\r\n|\n|\r)", lambda m: b" " * len(m.group(0)), text) if b"\\" in text else text
    buf = np.frombuffer(joined, np.uint8)
    v_n, vt_n, f_n, c_n, o_n, vn_n = _count(buf)
    v, vt = np.zeros((v_n, 3)), np.zeros((vt_n, 2))
    vt_line = np.zeros((vt_n, 2), np.int64)
    faces, face_line = np.zeros(f_n + 1, np.int64), np.zeros((f_n, 2), np.int64)
    corner_v, corner_vt = np.zeros(c_n, np.int64), np.zeros(c_n, np.int64)
    corner_vn, vn_line = np.zeros(c_n, np.int64), np.zeros((vn_n, 2), np.int64)
    other = np.zeros((o_n, 3), np.int64)
    slow = np.zeros((3 * v_n + 2 * vt_n, 4), np.int64)
    v_n, vt_n, f_n, c_n, o_n, s_n, bad = _fill(
        buf, _POW10, v, vt, vt_line, faces, face_line, corner_v, corner_vt, other, slow, corner_vn, vn_line
    )  # fmt: skip
    if bad >= 0:
        raise ScanError(f"'{_token(joined, bad)}' is not a corner of a face", bad)
    for want, row, column, at in slow[:s_n]:
        (v if want == 3 else vt)[row, column] = _slow_number(joined, int(at))
    result = ObjScan(
        v[:v_n], vt[:vt_n], vt_line[:vt_n], faces[: f_n + 1], face_line[:f_n], corner_v[:c_n], corner_vt[:c_n], [], corner_vn[:c_n], vn_line
    )
    _check_indices(result, joined)
    for begin, end, before in other[:o_n]:
        word, _, rest = joined[begin:end].decode("utf-8", "replace").partition(" ")
        result.statements.append((word.strip(), rest.strip(), int(before)))
    return result


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _triples(buf, pow10, line, skip, out):  # type: ignore[no-untyped-def]
    """Three numbers of each line (N, 2) after its first `skip` bytes into out (N, 3); NaN where one is not of the plain kind."""
    for k in range(line.shape[0]):
        j, end = line[k, 0] + skip, line[k, 1]
        for c in range(3):
            while j < end and (buf[j] == _SPACE or buf[j] == _TAB):
                j += 1
            out[k, c] = np.nan
            if j < end:
                x, j, state = _number(buf, j, end, pow10)
                if state == 0:
                    out[k, c] = x


def normal_rows(text: bytes, s: ObjScan) -> NDArray[np.float64]:
    """The normals (N, 3) of a scanned text; NaN where one cannot be read."""
    out = np.empty((len(s.vn_line), 3))
    _triples(np.frombuffer(text, np.uint8), _POW10, s.vn_line, 2, out)
    for k in np.flatnonzero(np.isnan(out).any(axis=1)):
        words = text[s.vn_line[k, 0] + 2 : s.vn_line[k, 1]].split()[:3]
        try:
            out[k] = [float(w) for w in words]
        except ValueError:
            continue
    return out


def _token(text: bytes, at: int) -> str:
    return text[at : at + 24].split()[0].decode("utf-8", "replace") if text[at : at + 24].split() else ""


def _slow_number(text: bytes, at: int) -> float:
    end = at
    while end < len(text) and text[end] not in b" \t\r\n":
        end += 1
    found = NUMBER.match(text[at:end])
    if not found:
        raise ScanError(f"'{_token(text[at:end], 0)}' is not a number", at)
    value = float(found.group(0))
    if not np.isfinite(value):
        raise ScanError(f"'{_token(text[at:end], 0)}' is too large for a coordinate", at)
    return value


def _check_indices(s: ObjScan, text: bytes) -> None:
    for name, index, count in (("vertex", s.corner_v, len(s.v)), ("UV", s.corner_vt, len(s.vt))):
        wrong = np.flatnonzero(index >= count)
        if len(wrong):
            face = int(np.searchsorted(s.faces, wrong[0], "right")) - 1
            raise ScanError(f"a face asks for {name} {int(index[wrong[0]]) + 1}, and there are {count}", int(s.face_line[face, 0]))
