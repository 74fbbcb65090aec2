"""What was picked on objects of a file, as its meshes have it."""

from __future__ import annotations

from quilt_core.errors import QuiltError
from quilt_core.unwrap.topology import Numbers

from ..projects.geometry import shown_order
from .revision import Revision


def by_mesh(w: Revision, rows: list[list[int]] | None) -> dict[int, list[list[int]]]:
    """What was picked on objects of a file, by mesh, with triangles as the mesh has them.

    Raises
    ------
    QuiltError : an object or a triangle that is not there
    """
    out: dict[int, list[list[int]]] = {}
    orders: dict[int, Numbers] = {}
    for number, shown, *side in rows or []:
        if number >= len(w.scene.objects):
            raise QuiltError("What was picked is not there any more. Pick it anew.")
        m = w.scene.objects[number].mesh
        order = orders.setdefault(m, shown_order(w.scene.meshes[m]))
        if shown >= len(order):
            raise QuiltError("What was picked is not there any more. Pick it anew.")
        out.setdefault(m, []).append([int(order[shown]), *side])
    return out
