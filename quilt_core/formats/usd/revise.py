"""A USD with UVs made anew: the primvar of a channel with indices of its own, in the layer that may speak about each mesh."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from pxr import Sdf

from ...model.scene import Scene, UvChannel
from ..revision import corner_rows
from .files import Layers, opened, saved
from .read import Stand
from .write import author, channel_name


def revise(scene: Scene, channels: Mapping[int, UvChannel], channel: int = 0) -> dict[str, bytes]:
    """See `formats.revise`. Primvars are channels in their order, so those that are missing below the one that is written get its UVs."""
    layers: Layers = scene.key
    changed: set[str] = set()
    with opened(layers) as (_stage, folder):
        for number, new in sorted(channels.items()):
            stand: Stand = scene.meshes[number].key
            rows = np.empty(len(stand.turn), np.int64)
            rows[stand.turn] = np.maximum(corner_rows(scene.meshes[number], new), 0)
            with Sdf.ChangeBlock():
                for c in [c for c in range(channel) if c not in scene.meshes[number].channels] + [channel]:
                    author(folder, replace(stand, rows=rows, per_point=False), channel_name(stand.names, c), new.uvs)
            changed.add(stand.layer)
        return saved(folder, layers, changed)
