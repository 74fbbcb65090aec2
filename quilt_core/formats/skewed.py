"""Pictures whose place on their UVs a format cannot say, as when one was turned before it was stretched: they get a UV channel of their own, in which they lie as
they should."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..model.material import Affine, Material, parted, placed_uvs
from .format import Format
from .model import Corners, Model

_LAST = 7  # channels are 0 to 7


def unskewed(model: Model, of: Format) -> list[str]:
    """Give skewed pictures channels of their own, in place; what was done is told, by material. Formats of one channel, or with no turned pictures, get none: see
    `losses`."""
    if of.one_channel or "turned" not in of.holds:
        return []
    given: dict[tuple[int, Affine], int] = {}
    notes, looks = [], list[Material]()
    for look in model.looks:
        textures = dict(look.textures)
        for slot, t in look.textures.items():
            if t.placed is None or parted(np.array(t.placed).reshape(2, 3)) is not None:
                continue
            new = given.setdefault((t.channel, t.placed), max(model.channels, default=0) + 1 + len(given))
            if new > _LAST:
                notes.append(
                    f"'{look.name}': the {t.kind} map is stretched after it was turned, which {of.title} cannot say, and no UV channel is left for it."
                )
                continue
            textures[slot] = replace(t, channel=new, placed=None)
            notes.append(
                f"'{look.name}': the {t.kind} map is stretched after it was turned, which {of.title} cannot say, so UV channel {new} holds it as it lies."
            )
        looks.append(replace(look, textures=textures))
    used = {new: pair for pair, new in given.items() if new <= _LAST}
    readers = {new: {n for n, x in enumerate(looks) if any(t.channel == new for t in x.textures.values())} for new in used}
    model.looks = looks
    model.meshes = [(name, positions, _with(corners, used, readers)) for name, positions, corners in model.meshes]
    return notes


def _with(corners: Corners, used: dict[int, tuple[int, Affine]], readers: dict[int, set[int]]) -> Corners:
    """A mesh with the new channels that its materials read."""
    uvs, look = dict(corners.uvs), np.repeat(corners.look, np.diff(corners.faces))
    for new, (channel, placed) in used.items():
        mine = np.isin(look, list(readers[new]))
        if mine.any() and channel in corners.uvs:
            uvs[new] = np.where(mine[:, None], placed_uvs(corners.uvs[channel], placed), corners.uvs[channel])
    return replace(corners, uvs=uvs)
