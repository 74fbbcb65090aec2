"""Putting new texture coordinates into a glTF document without disturbing anything else.

Bytes are replaced in place where an accessor is plain float pairs that nobody else reads. Everything else
gets an accessor of its own at the end of the first buffer.
"""

from __future__ import annotations

import copy
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...model.scene import Floats, Scene
from . import accessors, tangents
from .container import Document, serialise
from .materials import uv_transform
from .read import PrimitiveRows, outside

_FLOAT = 5126


@dataclass
class _Want:
    """New values for one primitive's channel: float32 (N, 2) in glTF's own space, and which rows matter."""

    attributes: dict[str, Any]
    name: str
    values: NDArray[np.float32]
    used: NDArray[np.int64]


class _Uses:
    """Who reads what of a document, looked up once before anything is written: new accessors stand at the end, where nobody else reads."""

    def __init__(self, document: Document) -> None:
        # How many attributes and targets of all primitives read an accessor (other uses count double: hands off).
        self.readers: Counter[int] = Counter()
        for mesh in document.list("meshes"):
            for primitive in mesh.get("primitives", []):
                for place in [primitive.get("attributes", {}), *primitive.get("targets", [])]:
                    self.readers.update(v for v in place.values() if isinstance(v, int))
                if isinstance(primitive.get("indices"), int):
                    self.readers[primitive["indices"]] += 2
        rows = []
        for i, accessor in enumerate(document.list("accessors")):
            at = accessors.slot(document, accessor, f"accessor {i}") if "bufferView" in accessor else None
            if at is not None:
                dtype, width, _ = accessors.layout(document, accessor, "")
                rows.append((i, at.buffer, at.start, at.end, at.stride, np.dtype(dtype).itemsize * width))
        self.spans = np.array(rows, np.int64).reshape(-1, 6)

    def alone(self, number: int, mine: accessors.Slot) -> bool:
        """Whether no other accessor reads any of these bytes; those that are interleaved with it and read other bytes of each element may."""
        accessor, buffer, start, end, stride, size = self.spans.T
        meet = (accessor != number) & (buffer == mine.buffer) & (end > mine.start) & (start < mine.end)
        offset = (start - mine.start) % mine.stride
        apart = (stride == mine.stride) & (stride > 8) & (offset >= 8) & (offset + size <= stride)
        return not bool((meet & ~apart).any())


def write_channel(document: Document, scene: Scene, uvs: Mapping[int, Floats], channel: int) -> None:
    """Write `uvs` (mesh number to (W, 2)) into TEXCOORD_`channel` of the document, in place.

    Parameters
    ----------
    uvs : mesh number to (W, 2); channel : number of TEXCOORD

    Returns
    -------
    nothing; the document is changed
    """
    groups: dict[int, list[_Want]] = {}
    for number, new in sorted(uvs.items()):
        index, parts = scene.meshes[number].key
        source = document.item("meshes", index, "mesh")
        for part in parts:
            primitive = source["primitives"][part.primitive]
            for want, accessor in _wants(document, primitive, part, new, channel):
                groups.setdefault(accessor, []).append(want)
    uses = _Uses(document)
    for accessor, wants in sorted(groups.items()):
        if accessor < 0:
            for want in wants:
                _append(document, want, None)
        else:
            _write_shared(document, uses, accessor, wants)


def _wants(document: Document, primitive: dict[str, Any], part: PrimitiveRows, new: Floats, channel: int) -> list[tuple[_Want, int]]:
    attributes = primitive["attributes"]
    rows = new[part.first : part.first + part.count]
    out = []
    for c in range(channel + 1):
        name = f"TEXCOORD_{c}"
        if c < channel and name in attributes:
            continue
        values = outside(rows, uv_transform(document, primitive, c)).astype(np.float32)
        out.append((_Want(attributes, name, values, part.used), int(attributes.get(name, -1))))
    return out


def _write_shared(document: Document, uses: _Uses, accessor: int, wants: list[_Want]) -> None:
    """Primitives that read one accessor: those that agree write into it or share a new one, others part."""
    old = accessors.floats(document, accessor, 2, "TEXCOORD").astype(np.float32)
    sets: list[tuple[NDArray[np.float32], NDArray[np.bool_], list[_Want]]] = []
    for want in wants:
        for values, known, members in sets:
            both = want.used[known[want.used]]
            if np.array_equal(values[both], want.values[both]):
                values[want.used] = want.values[want.used]
                known[want.used] = True
                members.append(want)
                break
        else:
            values, known = old.copy(), np.zeros(len(old), bool)
            values[want.used] = want.values[want.used]
            known[want.used] = True
            sets.append((values, known, [want]))
    readers = uses.readers[accessor]
    everyone_writes = readers == sum(len(m) for _, _, m in sets)
    for i, (values, _, members) in enumerate(sets):
        if np.array_equal(values, old) and everyone_writes and i == 0:
            continue
        if i == 0 and everyone_writes and _overwrite(document, uses, accessor, values):
            continue
        members[0].values = values
        number = _append(document, members[0], accessor)
        for other in members[1:]:
            other.attributes[other.name] = number


def _overwrite(document: Document, uses: _Uses, number: int, values: NDArray[np.float32]) -> bool:
    """Replace the accessor's bytes where they are; False when they are not its alone, or not plain floats."""
    accessor = document.list("accessors")[number]
    at = accessors.slot(document, accessor, f"accessor {number}")
    if at is None or "sparse" in accessor or accessor["componentType"] != _FLOAT or not uses.alone(number, at):
        return False
    body = document.edit(at.buffer)
    rows = np.lib.stride_tricks.as_strided(np.frombuffer(body, np.uint8)[at.start :], (len(values), 8), (at.stride, 1), writeable=True)
    rows[:] = np.ascontiguousarray(values, "<f4").view(np.uint8).reshape(-1, 8)
    del rows  # a buffer that somebody looks at cannot grow
    for key, limit in (("min", values.min(axis=0)), ("max", values.max(axis=0))):
        if key in accessor:
            accessor[key] = [float(x) for x in limit]
    return True


def _append(document: Document, want: _Want, old: int | None) -> int:
    """A new accessor at the end of a buffer; returns its number."""
    name = None if old is None else document.json["accessors"][old].get("name")
    want.attributes[want.name] = accessors.append(document, want.values, "VEC2", name=name)
    return int(want.attributes[want.name])


def write(scene: Scene, uvs: Mapping[int, Floats], channel: int = 0) -> dict[str, bytes]:
    """The document again, with new UVs in a channel.

    Parameters
    ----------
    uvs : per mesh number, (W, 2) in the rows of that mesh's vertices
    channel : the TEXCOORD number that is written; missing ones below it are filled with the same UVs, since
        the specification wants them without gaps

    Returns
    -------
    `{"": main file, path: external buffer, ...}`; buffers that did not change are included
    """
    source: Document = scene.key
    # bytes are immutable: only the JSON needs a copy of its own
    document = replace(source, json=copy.deepcopy(source.json), buffers=list(source.buffers), uris=list(source.uris))
    write_channel(document, scene, uvs, channel)
    tangents.turn(document, scene, uvs, channel)
    return serialise(document)
