"""glTF accessors: typed, strided, normalized, sparse views of buffers (specification, section 3.6.2)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .container import Document

_FLOAT, _USHORT, _UINT, _ARRAY_BUFFER, _INDEX_BUFFER = 5126, 5123, 5125, 34962, 34963

_TYPES: dict[int, Any] = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
_WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
_MOST = 50_000_000  # elements of an accessor without stored data: a guard against a bomb


@dataclass(frozen=True)
class Slot:
    """Where an accessor's elements lie: buffer, first byte, stride, end byte (exclusive)."""

    buffer: int
    start: int
    stride: int
    end: int


def _whole(document: Document, value: Any, name: str, where: str) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or value < 0:
        raise document.fail(f"'{name}' is {value!r}, not a whole number", where)
    return value


def slot(document: Document, accessor: dict[str, Any], where: str, count: int | None = None) -> Slot | None:
    """The bytes of an accessor, checked against its view and buffer; None when it stores none."""
    if "bufferView" not in accessor:
        return None
    dtype, width, n = layout(document, accessor, where)
    n = n if count is None else count
    size = np.dtype(dtype).itemsize * width
    view = document.item("bufferViews", accessor["bufferView"], where)
    number = view.get("buffer")
    document.item("buffers", number, where)
    assert isinstance(number, int)
    if "EXT_meshopt_compression" in (view.get("extensions") or {}):
        raise document.fail("it needs EXT_meshopt_compression", where, "Export it without compression.")
    stride = _whole(document, view.get("byteStride", size), "byteStride", where) or size
    first = _whole(document, view.get("byteOffset", 0), "byteOffset", where)
    begin = first + _whole(document, accessor.get("byteOffset", 0), "byteOffset", where)
    length = _whole(document, view.get("byteLength", 0), "byteLength", where)
    end = begin + (n - 1) * stride + size if n else begin
    if stride < size or end > first + length or end > len(document.buffers[number]):
        raise document.fail("it reaches past the end of its data", where, "Export the file again.")
    return Slot(number, begin, stride, end)


def layout(document: Document, accessor: dict[str, Any], where: str) -> tuple[Any, int, int]:
    """(NumPy type, numbers per element, elements)."""
    kind, shape = accessor.get("componentType"), accessor.get("type")
    if not isinstance(kind, int) or not isinstance(shape, str) or kind not in _TYPES or shape not in _WIDTH:
        raise document.fail(f"its type {shape!r} of {kind!r} is not one of glTF 2.0", where)
    return _TYPES[kind], _WIDTH[shape], _whole(document, accessor.get("count"), "count", where)


def _strided(document: Document, at: Slot, dtype: Any, width: int, n: int) -> NDArray[Any]:
    item = np.dtype(dtype).itemsize
    data = np.frombuffer(document.buffers[at.buffer], np.uint8, at.end - at.start, at.start)
    if n == 0:
        return np.zeros((0, width), dtype)
    rows = np.lib.stride_tricks.as_strided(data, (n, width * item), (at.stride, 1))
    return np.ascontiguousarray(rows).view(np.dtype(dtype).newbyteorder("<")).reshape(n, width)


def raw(document: Document, index: Any, where: str) -> NDArray[Any]:
    """Elements as stored, (N, width), with sparse replacements applied.

    Parameters
    ----------
    index : number of an accessor, as the file has it; where : for errors

    Returns
    -------
    (N, width) of the type that is stored
    """
    accessor = document.item("accessors", index, where)
    where = f"accessor {index}"
    dtype, width, n = layout(document, accessor, where)
    at = slot(document, accessor, where)
    if at is None and n > _MOST:
        raise document.fail(f"{n} elements without data", where)
    values = np.zeros((n, width), dtype) if at is None else _strided(document, at, dtype, width, n)
    sparse = accessor.get("sparse")
    if isinstance(sparse, dict):
        values = values.copy()
        count = _whole(document, sparse.get("count"), "sparse.count", where)
        index_info, value_info = dict(sparse.get("indices") or {}), dict(sparse.get("values") or {})
        index_info.update(type="SCALAR", count=count)
        value_info.update(type=accessor["type"], componentType=accessor["componentType"], count=count)
        i_at, v_at = slot(document, index_info, where + " (sparse)"), slot(document, value_info, where + " (sparse)")
        if i_at is None or v_at is None:
            raise document.fail("its sparse part has no data", where)
        rows = _strided(document, i_at, layout(document, index_info, where)[0], 1, count)[:, 0].astype(np.int64)
        if len(rows) and (rows.max() >= n):
            raise document.fail(f"its sparse part replaces element {int(rows.max())} of {n}", where)
        values[rows] = _strided(document, v_at, dtype, width, count)
    return values


def floats(document: Document, index: Any, width: int, where: str) -> NDArray[np.float64]:
    """Elements as float64, integers normalized where the accessor says so.

    Raises
    ------
    FileError : another width than asked for; a value that is not finite
    """
    accessor = document.item("accessors", index, where)
    values = raw(document, index, where)
    if values.shape[1] != width:
        raise document.fail(f"it has {values.shape[1]} numbers an element where {width} are needed", f"accessor {index}")
    out = values.astype(np.float64)
    if accessor.get("normalized") is True and values.dtype.kind in "iu":
        # Specification 3.6.2.2 (and 3.11 on animations): unsigned c / max, signed max(c / max, -1).
        out = np.maximum(out / np.iinfo(values.dtype).max, -1.0)
    bad = ~np.isfinite(out).all(axis=1)
    if bad.any():
        raise document.fail(f"element {int(np.argmax(bad))} is not a finite number", f"accessor {index}")
    return out


def indices(document: Document, index: Any, vertices: int, where: str) -> NDArray[np.int64]:
    """Vertex numbers of a primitive, each checked against the number of vertices.

    Parameters
    ----------
    index : number of an accessor; vertices : how many there are; where : for errors

    Returns
    -------
    (N,) int64
    """
    values = raw(document, index, where)
    if values.shape[1] != 1 or values.dtype.kind != "u":
        raise document.fail("indices must be unsigned whole numbers", f"accessor {index}")
    out = values[:, 0].astype(np.int64)
    if len(out) and out.max() >= vertices:
        raise document.fail(f"asks for vertex {int(out.max())}, and there are {vertices}", f"accessor {index}")
    return out


def add(document: Document, entry: dict[str, Any]) -> int:
    """The number of a new accessor."""
    entries = document.json.setdefault("accessors", [])
    entries.append(entry)
    return len(entries) - 1


def append(document: Document, values: NDArray[np.floating[Any]], shape: str, limits: bool = False, name: str | None = None) -> int:
    """The number of a new accessor of floats for vertices.

    Parameters
    ----------
    values : (V, n); shape : "VEC2" and the like; limits : with the least and the greatest, as positions need them
    """
    data = np.ascontiguousarray(values, "<f4")
    entry = {"bufferView": document.append(data.tobytes(), _ARRAY_BUFFER), "componentType": _FLOAT, "count": len(data), "type": shape}
    if limits:
        entry |= {"min": data.min(axis=0).tolist(), "max": data.max(axis=0).tolist()}
    return add(document, entry if name is None else entry | {"name": name})


def append_indices(document: Document, numbers: NDArray[np.integer[Any]], small: bool = False) -> int:
    """The number of a new accessor of vertex numbers, of two bytes each where they are `small`."""
    kind, dtype = (_USHORT, "<u2") if small else (_UINT, "<u4")
    view = document.append(np.ascontiguousarray(numbers, dtype).tobytes(), _INDEX_BUFFER)
    return add(document, {"bufferView": view, "componentType": kind, "count": int(numbers.size), "type": "SCALAR"})
