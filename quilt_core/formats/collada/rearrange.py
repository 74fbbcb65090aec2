"""Texture coordinate sets of a COLLADA file arranged anew, and its materials read by their new numbers."""

from __future__ import annotations

from collections.abc import Mapping
from xml.sax.saxutils import quoteattr

from ...model.scene import Floats, Scene
from ..channels import LAYOUT, Arrangement
from .document import Document
from .primitives import Numbers
from .read import Key
from .write import Patches, author


def rearrange(scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> dict[str, bytes]:
    """See `formats.rearrange`. Sets are numbered anew from 0."""
    document: Document = scene.key
    patches: Patches = []
    for number, mesh in enumerate(scene.meshes):
        key: Key = mesh.key
        if not key.sets:
            continue
        new: dict[int, tuple[Floats, Numbers]] = {}
        for set_, source in enumerate(how.sources):
            if source == LAYOUT and number in uvs:
                same = [c for c in sorted(mesh.channels) if len(mesh.channels[c].uvs) == len(uvs[number])]
                new[set_] = uvs[number], key.rows[how.old if how.old in same else same[0]]
            elif (old := how.old if source == LAYOUT else source) in mesh.channels:
                new[set_] = mesh.channels[old].uvs, key.rows[old]
        patches += author(document, key.geometry, new, set(key.sets))
    patches += _readers(document, scene, how)
    return {"": document.patched(patches)}


def _readers(document: Document, scene: Scene, how: Arrangement) -> Patches:
    """What binds a material's texture coordinates to a set, with the set's new number."""
    sets = {m.key.geometry: m.key.sets for m in scene.meshes}
    out: Patches = []
    for instance in (e for e in document.root.walk() if e.tag in ("instance_geometry", "instance_controller")):
        order = sets.get(instance.get("url").lstrip("#"), next(iter(sets.values()), ()))
        for e in (x for x in instance.walk() if x.tag == "bind_vertex_input" and x.get("input_semantic") == "TEXCOORD"):
            old = int(e.get("input_set") or 0)
            new = how.new_of(order.index(old)) if old in order else None
            attributes = e.attributes | {"input_set": str(new or 0)}
            text = "".join(f" {k}={quoteattr(v)}" for k, v in attributes.items())
            out.append((e.begin, e.end, f"<{document.prefix}bind_vertex_input{text}/>"))
    return out
