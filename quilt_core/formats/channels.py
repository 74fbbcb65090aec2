"""UV channels of what is written: copied, moved, named and left out, with the layout in the one that is wanted.

An arrangement lists for every channel of the new file where its UVs come from: the number of an old channel, or `LAYOUT`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats, Material, Scene, UvChannel

Numbers = NDArray[np.int64]
LAYOUT = -1


@dataclass(frozen=True)
class Arrangement:
    """`sources`: for each new channel an old one's number, or LAYOUT; `names` for formats that name channels, empty for the usual ones; `old`:
    the channel whose UVs a mesh without a new layout keeps in place of it."""

    sources: tuple[int, ...]
    names: tuple[str, ...] = ()
    old: int = 0

    @property
    def layout(self) -> int:
        """The new channel that the layout is in."""
        return self.sources.index(LAYOUT)

    def new_of(self, channel: int) -> int | None:
        """The first new channel that an old one goes into."""
        return self.sources.index(channel) if channel in self.sources else None

    def name(self, channel: int) -> str:
        """The name that was asked for, or empty."""
        return self.names[channel] if channel < len(self.names) else ""


def rearranged(scene: Scene, uvs: Mapping[int, Floats], source: Mapping[int, int], how: Arrangement) -> Scene:
    """The scene with its channels as they are arranged, to be written in another format.

    Parameters
    ----------
    uvs : for each mesh its new layout, in the rows of its channel `source`
    """
    meshes = []
    for n, mesh in enumerate(scene.meshes):
        found = {}
        for new, old in enumerate(how.sources):
            if old == LAYOUT and n in uvs:
                found[new] = UvChannel(uvs[n], mesh.channels[source[n]].triangles)
            elif (kept := mesh.channels.get(how.old if old == LAYOUT else old)) is not None:
                found[new] = kept
        meshes.append(replace(mesh, channels=found))
    return replace(scene, meshes=meshes, materials=[_read_anew(m, how) for m in scene.materials])


def _read_anew(material: Material, how: Arrangement) -> Material:
    return replace(material, textures={slot: replace(t, channel=how.new_of(t.channel) or 0) for slot, t in material.textures.items()})


def lost(scene: Scene, how: Arrangement) -> list[str]:
    """What is told of materials whose pictures are read by a channel that is left out."""
    names = [m.name for m in scene.materials if any(how.new_of(t.channel) is None for t in m.textures.values())]
    return [f"{scene.file}: the pictures of '{name}' were read by a UV channel that is left out." for name in names]
