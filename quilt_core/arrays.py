"""Named arrays as bytes: packed for a database row, or laid out so that a file of them opens without being read.

Layout: 8 bytes magic, uint32 length of a JSON header, the header (padded with spaces), then the arrays one after the other at multiples of 64
bytes. In a packed blob all that follows the magic is compressed. Little endian.
"""

from __future__ import annotations

import io
import json
import struct
import zlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .errors import QuiltError

_PLAIN, _PACKED = b"QUILTAR1", b"QUILTAZ1"
_ALIGN = 64
_KINDS = {"b", "i", "u", "f"}


def _laid_out(arrays: Mapping[str, NDArray[Any]], meta: Any) -> list[bytes]:
    """The header and the arrays, each padded to the next boundary."""
    whole = {k: np.ascontiguousarray(v) for k, v in arrays.items()}
    at, rows = 0, []
    for name, a in whole.items():
        if a.dtype.kind not in _KINDS:
            raise TypeError(f"{name}: arrays of {a.dtype} are not stored")
        rows.append([name, a.dtype.str, list(a.shape), at])
        at += a.nbytes + (-a.nbytes % _ALIGN)
    header = json.dumps({"meta": meta, "arrays": rows}).encode()
    header += b" " * (-(len(header) + 12) % _ALIGN)
    out = [struct.pack("<I", len(header)), header]
    for a in whole.values():
        out += [a.tobytes(), b"\0" * (-a.nbytes % _ALIGN)]
    return out


def _views(buffer: Any, start: int) -> tuple[Any, dict[str, NDArray[Any]]]:
    """Meta and views into a buffer whose header's length stands at `start`; arrays begin at the end of the header."""
    try:
        (size,) = struct.unpack_from("<I", buffer, start)
        header = json.loads(bytes(buffer[start + 4 : start + 4 + size]))
        begin = start + 4 + size
        out = {}
        for name, kind, shape, at in header["arrays"]:
            count = int(np.prod(shape)) if shape else 1
            out[name] = np.frombuffer(buffer, np.dtype(kind), count, begin + at).reshape(shape)
        return header["meta"], out
    except (ValueError, KeyError, TypeError, struct.error) as e:
        raise QuiltError("What was stored about a file cannot be read any more. Start the application again: it is made anew.") from e


def pack_arrays(arrays: Mapping[str, NDArray[Any]]) -> bytes:
    """Arrays as one compressed blob. Speed counts more than the last bytes: the fastest level of zlib."""
    return _PACKED + zlib.compress(b"".join(_laid_out(arrays, None)), 1)


def unpack_arrays(blob: bytes | memoryview) -> dict[str, NDArray[Any]]:
    """The arrays of a blob; they cannot be written to. NumPy's own archives, which came before, are read too.

    Raises
    ------
    QuiltError : no blob of arrays
    """
    data = bytes(blob)
    if data[:8] == _PACKED:
        return _views(zlib.decompress(memoryview(data)[8:]), 0)[1]
    with np.load(io.BytesIO(data), allow_pickle=False) as f:
        return {k: f[k] for k in f.files}


def file_of_arrays(arrays: Mapping[str, NDArray[Any]], meta: Any) -> bytes:
    """Arrays with something that JSON can say, to be opened by `open_arrays`.

    Parameters
    ----------
    arrays : by name, of any kind and shape without objects
    meta : what JSON can say

    Returns
    -------
    the bytes of the file
    """
    return _PLAIN + b"".join(_laid_out(arrays, meta))


def open_arrays(path: Path) -> tuple[Any, dict[str, NDArray[Any]]]:
    """Meta and arrays of a file; pages are read when they are looked at. The arrays cannot be written to.

    Raises
    ------
    QuiltError : no file of arrays
    OSError : it cannot be opened
    """
    buffer: Any = np.memmap(path, np.uint8, "r")
    if bytes(buffer[:8]) != _PLAIN:
        raise QuiltError(f"{path.name} is no file of arrays.")
    return _views(memoryview(buffer), 8)
