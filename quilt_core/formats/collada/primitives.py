"""The faces of a COLLADA mesh: its primitives with their inputs and index tables, and how one is written again with other inputs or faces.

A corner is an entry of `<p>`: a row of as many indices as there are offsets. Primitives of strips and fans become triangles when they are written.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from xml.sax.saxutils import quoteattr

import numpy as np
from numpy.typing import NDArray

from ...model.scene import Floats
from .document import Document, Element

Numbers = NDArray[np.int64]
KINDS = ("triangles", "polylist", "polygons", "tristrips", "trifans")
MOST_OFFSET = 64


@dataclass(frozen=True)
class Input:
    """What one index of a corner chooses from: `element` is the <input>, or the one of <vertices> that it stands for."""

    semantic: str
    source: str
    offset: int
    set: int
    element: Element


@dataclass(frozen=True)
class Primitive:
    """A set of faces of one material.

    table : (C, S) indices of the corners; faces : (F + 1,) offsets of the faces into them
    shared : inputs that stand in <vertices>
    """

    element: Element
    symbol: str
    inputs: tuple[Input, ...]
    shared: tuple[Input, ...]
    table: Numbers
    faces: Numbers

    def find(self, semantic: str, set_: int | None = None) -> Input | None:
        """The input of a meaning, and of a set where one is named."""
        for i in (*self.inputs, *self.shared):
            if i.semantic == semantic and (set_ is None or i.set == set_):
                return i
        return None

    @property
    def sets(self) -> list[int]:
        """The sets of its texture coordinates."""
        return sorted({i.set for i in (*self.inputs, *self.shared) if i.semantic == "TEXCOORD"})


def primitives_of(document: Document, mesh: Element) -> list[Primitive]:
    """The primitives of a <mesh> that have faces.

    Raises
    ------
    FileError : inputs or indices that do not fit together
    """
    vertices = mesh.one("vertices")
    shared = [] if vertices is None else vertices.all("input")
    return [p for p in (_primitive(document, e, shared) for e in mesh.all(*KINDS)) if p is not None and len(p.faces) > 1]


def _number(document: Document, e: Element, name: str, usual: int = 0) -> int:
    text = e.get(name)
    if text and not text.strip().isdecimal():
        raise document.fail(f"'{name}' of <{e.tag}> is no number", document.where(e))
    return int(text) if text else usual


def _primitive(document: Document, e: Element, vertices: list[Element]) -> Primitive | None:
    inputs, shared = [], []
    for i in e.all("input"):
        offset, set_ = _number(document, i, "offset"), _number(document, i, "set")
        if offset > MOST_OFFSET:
            raise document.fail(f"an offset of {offset} is more than is taken", document.where(i))
        inputs.append(Input(i.get("semantic"), i.get("source"), offset, set_, i))
        if i.get("semantic") == "VERTEX":
            shared += [Input(v.get("semantic"), v.get("source"), offset, _number(document, v, "set"), v) for v in vertices]
    if not inputs:
        return None
    stride = max(i.offset for i in inputs) + 1
    tables = []
    for p in [*e.all("p"), *(x for ph in e.all("ph") for x in ph.all("p"))]:
        numbers = np.asarray(document.numbers(p, int), np.int64)
        if len(numbers) % stride:
            raise document.fail(f"it has {len(numbers)} indices, which are no rows of {stride}", document.where(p))
        tables.append(numbers.reshape(-1, stride))
    table, faces = _faces(document, e, tables, stride)
    return Primitive(e, e.get("material"), tuple(inputs), tuple(shared), table, faces)


def _faces(document: Document, e: Element, tables: list[Numbers], stride: int) -> tuple[Numbers, Numbers]:
    empty = np.zeros((0, stride), np.int64)
    if e.tag in ("tristrips", "trifans"):
        table = np.concatenate([empty, *(_unrolled(t, e.tag) for t in tables)])
        return table, np.arange(0, len(table) + 1, 3)
    table = np.concatenate([empty, *tables])
    if e.tag == "polygons":
        return table, np.concatenate([[0], np.cumsum([len(t) for t in tables])]).astype(np.int64)
    if e.tag == "triangles":
        whole = len(table) // 3 * 3
        return table[:whole], np.arange(0, whole + 1, 3)
    counts = np.asarray(document.numbers(e.one("vcount"), int), np.int64)
    if (counts < 0).any() or counts.sum() != len(table):
        raise document.fail(f"its faces have {counts.sum()} corners and its indices {len(table)}", document.where(e))
    return table, np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)


def _unrolled(table: Numbers, kind: str) -> Numbers:
    """The corners of a strip's or a fan's triangles; every second one of a strip turns the other way."""
    n = max(0, len(table) - 2)
    at = np.arange(n)
    if kind == "trifans":
        rows = np.stack([np.zeros(n, np.int64), at + 1, at + 2], axis=1)
    else:
        rows = np.stack([at + at % 2, at + 1 - at % 2, at + 2], axis=1)
    return table[rows.reshape(-1)]


@dataclass(frozen=True)
class Channel:
    """A channel to be written: the id of its source, and for every corner of the primitive its row there (C,)."""

    source: str
    rows: Numbers


def with_channels(p: Primitive, channels: Mapping[int, Channel | None]) -> tuple[Primitive, list[str]]:
    """A primitive with other texture coordinates in some sets, None for none, and its new inputs as attributes.

    An index that several inputs share stays theirs; the new one then gets an offset of its own.
    """
    kept = [i for i in p.inputs if not (i.semantic == "TEXCOORD" and i.set in channels)]
    table, inputs, new = p.table, list(kept), []
    free = sorted({i.offset for i in p.inputs} - {i.offset for i in kept})
    for set_, channel in sorted(channels.items()):
        if channel is None:
            continue
        offset = free.pop(0) if free else table.shape[1]
        if offset == table.shape[1]:
            table = np.column_stack([table, channel.rows])
        else:
            table = table.copy()
            table[:, offset] = channel.rows
        new.append(f'semantic="TEXCOORD" source="#{channel.source}" offset="{offset}" set="{set_}"')
        inputs.append(Input("TEXCOORD", f"#{channel.source}", offset, set_, p.element))
    # A reader takes the greatest offset for the width of a row.
    table = table[:, : max(i.offset for i in inputs) + 1]
    return replace(p, inputs=tuple(inputs), table=table), new


def written(document: Document, p: Primitive, new: Sequence[str], which: Numbers | None = None, symbol: str | None = None) -> str:
    """The element of a primitive again: its kept inputs as they stand, `new` ones, and its faces, or those of `which` (k,) with another material."""
    q, body = document.prefix, document.body
    kept = {id(i.element) for i in p.inputs}
    attributes = {k: v for k, v in p.element.attributes.items() if not k.startswith("xmlns")}
    faces, table = p.faces, p.table
    if which is not None:
        sizes = np.diff(faces)[which]
        table = table[np.repeat(faces[which] - np.concatenate([[0], np.cumsum(sizes)[:-1]]), sizes) + np.arange(sizes.sum())]
        faces = np.concatenate([[0], np.cumsum(sizes)])
    tag = "triangles" if p.element.tag in ("tristrips", "trifans") else p.element.tag
    attributes["count"] = str(len(faces) - 1)
    if symbol is not None:
        attributes["material"] = symbol
    out = [f"<{q}{tag}{''.join(f' {k}={quoteattr(v)}' for k, v in attributes.items())}>"]
    out += [_raw(body, i) for i in p.element.all("input") if id(i) in kept]
    out += [f"<{q}input {n}/>" for n in new]
    if tag == "polylist":
        out.append(f"<{q}vcount>{_joined(np.diff(faces))}</{q}vcount>")
    if tag == "polygons":
        out += [f"<{q}p>{_joined(table[a:b])}</{q}p>" for a, b in pairwise(faces.tolist())]
    else:
        out.append(f"<{q}p>{_joined(table)}</{q}p>")
    out += [_raw(body, c) for c in p.element.children if c.tag not in ("input", "vcount", "p", "ph")]
    return "\n".join([*out, f"</{q}{tag}>"])


def _raw(body: bytes, e: Element) -> str:
    return body[e.begin : e.end].decode("utf-8", "replace")


def _joined(values: Numbers) -> str:
    return " ".join(map(str, values.reshape(-1).tolist()))


def source_text(document: Document, name: str, values: Floats, params: str = "ST") -> str:
    """A <source> of rows of floats under an id.

    Parameters
    ----------
    name : id of the source; values : (W, k) rows; params : a letter for each of the k columns

    Returns
    -------
    XML text
    """
    q = document.prefix
    numbers = " ".join(f"{x:.9g}" for x in values.reshape(-1).tolist())
    columns = "".join(f'<{q}param name="{c}" type="float"/>' for c in params)
    return (
        f'<{q}source id="{name}"><{q}float_array id="{name}-array" count="{values.size}">{numbers}</{q}float_array>'
        f'<{q}technique_common><{q}accessor source="#{name}-array" count="{len(values)}" stride="{values.shape[1]}">{columns}'
        f"</{q}accessor></{q}technique_common></{q}source>"
    )


def source_values(document: Document, e: Element | None, names: str) -> Floats | None:
    """The columns of a <source> that its accessor calls by these names, or its first ones; None where there is no such source.

    Parameters
    ----------
    e : a <source>; names : a letter for each column that is wanted

    Returns
    -------
    (W, len(names)) float64

    Raises
    ------
    FileError : an accessor that reaches beyond its numbers
    """
    accessor = None if e is None else e.one("technique_common", "accessor")
    if e is None or accessor is None:
        return None
    array = document.target(accessor.get("source")) or e.one("float_array")
    numbers = np.asarray(document.numbers(array, float), np.float64)
    stride, offset, count = (_number(document, accessor, k, u) for k, u in (("stride", 1), ("offset", 0), ("count", 0)))
    params = [x.get("name") for x in accessor.all("param")]
    columns = [params.index(c) for c in names if c in params]
    if len(columns) != len(names):
        columns = list(range(len(names)))
    if not count:
        return np.zeros((0, len(names)))
    if stride < 1 or max(columns) >= stride or offset + (count - 1) * stride + max(columns) >= len(numbers):
        raise document.fail(
            f"a source promises {count} rows of {stride} and has {len(numbers)} numbers", document.where(e), "Copy the file again."
        )
    rows = offset + np.arange(count)[:, None] * stride + np.array(columns)
    return numbers[rows]
