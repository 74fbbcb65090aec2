"""A COLLADA file again, with new UVs in the geometries that got some; every other byte stays."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...model.scene import Floats, Scene
from .document import Document, Element
from .primitives import Channel, Numbers, Primitive, primitives_of, source_text, with_channels, written
from .read import Key, corner_rows

Patches = list[tuple[int, int, str]]


def write(scene: Scene, uvs: Mapping[int, Floats], channel: int = 0) -> dict[str, bytes]:
    """See `formats.write`. A channel that a mesh has not gets a set of its own."""
    document: Document = scene.key
    patches: Patches = []
    for number, new in sorted(uvs.items()):
        mesh = scene.meshes[number]
        key: Key = mesh.key
        source = next(iter(key.rows))  # rows of all channels that are given come from the one that was read
        found = _channel_with(scene, number, len(new), channel, source)
        if channel in key.read and np.array_equal(new, key.read[channel]):
            continue
        patches += author(document, key.geometry, {set_of(key, channel): (new, key.rows[found])}, set())
    return {"": document.patched(patches)}


def set_of(key: Key, channel: int) -> int:
    """The set of a channel, or a free one for a channel that there is not."""
    if channel < len(key.sets):
        return key.sets[channel]
    return max(key.sets, default=-1) + 1 + channel - len(key.sets)


def _channel_with(scene: Scene, mesh: int, rows: int, channel: int, usual: int) -> int:
    """The channel whose rows new UVs are in: the one that is written where it has as many, else the first that does."""
    channels = scene.meshes[mesh].channels
    fitting = [c for c in (channel, *sorted(channels)) if c in channels and len(channels[c].uvs) == rows]
    return fitting[0] if fitting else usual


def author(document: Document, geometry: str, new: Mapping[int, tuple[Floats, Numbers]], gone: set[int]) -> Patches:
    """The changes that give a geometry new texture coordinates.

    Parameters
    ----------
    new : by set, the UVs (W, 2) and the row of every corner (C,), -1 for none
    gone : sets that are taken out

    A source that nothing else reads is replaced where it stands; primitives are written again only as far as their indices change.
    """
    mesh = document.ids[geometry].one("mesh")
    assert mesh is not None
    primitives = primitives_of(document, mesh)
    vertices = mesh.one("vertices")
    rows = {s: corner_rows(r, primitives) for s, (_, r) in new.items()}
    names = {s: _free_id(document, f"{geometry}-uv{s}") for s in new}
    patches: Patches = []
    idle = _idle_sources(document, mesh, primitives, set(new) | gone)
    patches += [(e.begin, e.end, "") for e in idle]
    at = (vertices or primitives[0].element).begin
    patches.append((at, at, "".join(source_text(document, names[s], uv) + "\n" for s, (uv, _) in sorted(new.items()))))
    if vertices is not None:
        shared = [i for i in vertices.all("input") if i.get("semantic") == "TEXCOORD" and int(i.get("set") or 0) in set(new) | gone]
        patches += [(i.begin, i.end, "") for i in shared]
    for n, p in enumerate(primitives):
        channels: dict[int, Channel | None] = {s: Channel(names[s], r[n]) if (r[n] >= 0).all() else None for s, r in rows.items()}
        again, inputs = with_channels(p, channels | dict.fromkeys(gone - set(new)))
        patches.append((p.element.begin, p.element.end, written(document, again, inputs)))
    return patches


def _free_id(document: Document, name: str) -> str:
    out, number = name, 2
    while out in document.ids or f"{out}-array" in document.ids:
        out, number = f"{name}-{number}", number + 1
    return out


def _idle_sources(document: Document, mesh: Element, primitives: list[Primitive], sets: set[int]) -> list[Element]:
    """Sources of a geometry that only texture coordinates of these sets read."""
    inputs = [i for p in primitives for i in (*p.inputs, *p.shared)]
    ours = {i.source for i in inputs if i.semantic == "TEXCOORD" and i.set in sets}
    read = {e.get("source") for e in document.root.walk() if e.tag == "input"}
    others = {i.source for i in inputs if not (i.semantic == "TEXCOORD" and i.set in sets)}
    mine = {id(i.element) for i in inputs if i.semantic == "TEXCOORD" and i.set in sets}
    elsewhere = {e.get("source") for e in document.root.walk() if e.tag == "input" and id(e) not in mine}
    return [s for s in mesh.all("source") if f"#{s.get('id')}" in (ours & read) - others - elsewhere]
