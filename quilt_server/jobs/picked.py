"""What was picked on objects of a file, as its meshes have it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from quilt_core.errors import QuiltError
from quilt_core.model.scene import MeshObject, Scene
from quilt_core.unwrap.skin import Skin
from quilt_core.unwrap.topology import Mask, Numbers

from ..projects.geometry import GONE, shown_order


def in_meshes(scene: Scene, rows: Iterable[list[int]]) -> Iterator[tuple[MeshObject, list[int]]]:
    """For each thing that was picked [object, triangle as shown, ...] the object, and it with the triangle as its mesh has it, in the same order.

    Raises
    ------
    QuiltError : an object or a triangle that is not there
    """
    orders: dict[int, Numbers] = {}
    for number, shown, *side in rows:
        if number >= len(scene.objects):
            raise QuiltError(GONE)
        o = scene.objects[number]
        order = orders.setdefault(o.mesh, shown_order(scene.meshes[o.mesh]))
        if shown >= len(order):
            raise QuiltError(GONE)
        yield o, [int(order[shown]), *side]


def by_mesh(scene: Scene, rows: list[list[int]] | None) -> dict[int, list[list[int]]]:
    """The same, by mesh."""
    out: dict[int, list[list[int]]] = {}
    for o, row in in_meshes(scene, rows or []):
        out.setdefault(o.mesh, []).append(row)
    return out


def marked(skin: Skin, rows: list[list[int]]) -> Mask:
    """(F,) faces of a surface whose triangles [triangle, ...] were picked."""
    picked = np.zeros(len(skin.mesh.triangles), bool)
    picked[[r[0] for r in rows]] = True
    found: Mask = picked[skin.kept]
    return found
