"""Which islands of a mesh become which, when its UVs are made anew: what rules and places follow."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..model.scene import Scene
from ..uv.analysis import MeshIslands, analyse
from .skin import Revised
from .topology import Numbers


@dataclass(frozen=True)
class Followed:
    """same (n,) newer number of every older island that is as it was, -1 for others; parts : older number to the newer ones that hold its faces, for
    those; heir (k,) for every newer island the older one whose place it has: that in whose UVs it lies, else the one that most of it was; -1 for none."""

    same: Numbers
    parts: dict[int, list[int]]
    heir: Numbers


def followed(was: MeshIslands | None, now: MeshIslands | None, frame: Numbers | None = None) -> Followed:
    """What became of the islands of a mesh.

    Parameters
    ----------
    was, now : the islands of the same triangles before and after; None for a mesh without any
    frame : see `Revised`
    """
    before, after = (0 if p is None else p.islands.count for p in (was, now))
    same, heir = np.full(before, -1, np.int64), np.full(after, -1, np.int64)
    parts: dict[int, list[int]] = {}
    if was is None or now is None:
        return Followed(same, parts, heir)
    a, b = (np.asarray(p.islands.of_triangle, np.int64) for p in (was, now))
    both = (a >= 0) & (b >= 0)
    key, count = np.unique(a[both] * after + b[both], return_counts=True)
    size, again = np.bincount(a[a >= 0], minlength=before), np.bincount(b[b >= 0], minlength=after)
    for k in np.argsort(count, kind="stable").tolist():
        old, new = int(key[k]) // after, int(key[k]) % after
        heir[new] = old  # the one with most comes last
        if count[k] == size[old] == again[new] and _lies_alike(was, now, old):
            same[old] = new
        else:
            parts.setdefault(old, []).append(new)
    if frame is not None and len(frame) == after:
        heir = np.where(frame >= 0, frame, heir)
    return Followed(same, {k: sorted(v) for k, v in parts.items()}, heir)


def _lies_alike(was: MeshIslands, now: MeshIslands, island: int) -> bool:
    """Whether the triangles of an island have the UVs that they had."""
    mine = was.islands.of_triangle == island
    old, new = (p.uvs[p.mesh.channels[p.channel].triangles[mine]] for p in (was, now))
    return bool(np.abs(old - new).max(initial=0.0) <= 1e-9 + 1e-6 * np.abs(old).max(initial=0.0))


def islands_after(scene: Scene, mesh: int, channel: int, made: Revised) -> MeshIslands | None:
    """The islands of a mesh whose channel of the scene has been made anew."""
    objects = [o for o in scene.objects if o.mesh == mesh]
    one = Scene(scene.file, scene.format, [scene.meshes[mesh]], [type(o)(o.name, o.path, 0, o.world) for o in objects], [])
    found = analyse(one, channel, [made.island])[0]
    return None if found is None else MeshIslands(
        found.mesh, channel, found.islands, found.outlines, objects, found.object_areas, found.uvs
    )  # fmt: skip
