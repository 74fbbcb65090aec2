"""A COLLADA file with UVs made anew: a set of texture coordinates with indices of its own."""

from __future__ import annotations

from collections.abc import Mapping

from ...model.scene import Scene, UvChannel
from ..revision import corner_rows
from .document import Document
from .read import Key
from .write import Patches, author, set_of


def revise(scene: Scene, channels: Mapping[int, UvChannel], channel: int = 0) -> dict[str, bytes]:
    """See `formats.revise`. Sets are channels in their order, so those that are missing below the one that is written get its UVs."""
    document: Document = scene.key
    patches: Patches = []
    for number, new in sorted(channels.items()):
        key: Key = scene.meshes[number].key
        made = (new.uvs, corner_rows(scene.meshes[number], new))
        wanted = [c for c in range(channel) if c not in scene.meshes[number].channels] + [channel]
        patches += author(document, key.geometry, {set_of(key, c): made for c in wanted}, set())
    return {"": document.patched(patches)}
