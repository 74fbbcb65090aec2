"""Rows that never change, opened once in a process: arrays of layouts."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock
from typing import Any

from numpy.typing import NDArray

from quilt_core.arrays import unpack_arrays

from .models import Layout

_MOST = 256 << 20  # bytes of arrays that are kept open
_open: OrderedDict[tuple[str, int, str], dict[str, NDArray[Any]]] = OrderedDict()
_size = 0
_lock = Lock()


def arrays_of(row: Layout, name: str) -> dict[str, NDArray[Any]]:
    """The arrays in a field of a row that never changes; empty where it holds none. They are shared: whoever changes one copies it first."""
    global _size
    # Numbers of rows come again in the databases of tests, so the moment of a layout's making is part of its name.
    key = (str(row.created), row.pk or 0, name)
    with _lock:
        if row.pk and key in _open:
            _open.move_to_end(key)
            return _open[key]
    blob = bytes(getattr(row, name))
    found = unpack_arrays(blob) if blob else {}
    for a in found.values():
        a.flags.writeable = False
    if row.pk:
        with _lock:
            _open[key] = found
            _size += _bytes(found)
            while _size > _MOST and len(_open) > 1:
                _size -= _bytes(_open.popitem(last=False)[1])
    return found


def _bytes(arrays: dict[str, NDArray[Any]]) -> int:
    return sum(a.nbytes for a in arrays.values())
