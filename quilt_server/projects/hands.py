"""What the page shows while a hand drags points or brushes: computed at once, kept nowhere but in this process. The job that follows does the same again."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats
from quilt_core.unwrap.brush import Brush, dabs_of
from quilt_core.unwrap.points import laid_out, rows_of, weights
from quilt_core.unwrap.seams import brought
from quilt_core.unwrap.topology import Numbers, after

from .models import Snapshot
from .opened import arrays_of
from .picking import Picked, picked_of

_KEPT = 4  # brushes that are held ready


def _corners(p: Picked, h: Numbers) -> list[int]:
    """Corners of triangles as shown, 3 t + k, of corners of faces."""
    return (3 * p.shown[p.skin.kept[h // 3]] + h % 3).tolist()  # type: ignore[no-any-return]


def _places(snapshot: Snapshot, file: int, p: Picked) -> Floats:
    """Where the layout places the islands of a mesh."""
    assert snapshot.layout is not None and p.laying is not None
    rows = arrays_of(snapshot.layout, "transforms")[str(file)]
    return np.asarray(rows[p.first : p.end])


def grabbed(snapshot: Snapshot, file: int, number: int, points: list[list[int]], reach: float) -> dict[str, Any]:
    """All corners [3 t + k, as shown] of an object that follow picked points [triangle, corner], and how much each follows.

    Raises
    ------
    QuiltError : what was picked is not there, or has no UVs
    """
    p = picked_of(snapshot, file, number)
    if p.laying is None or snapshot.layout is None:
        raise QuiltError("This object has no UVs. Unwrap it first.")
    h = np.array([p.half_edge(e) for e in points], np.int64)
    laying = laid_out(p.laying, _places(snapshot, file, p))
    c, rows = rows_of(p.skin, laying, h)
    w = weights(p.skin, laying, c, rows, reach)[c.rows.reshape(-1)]
    follows = np.flatnonzero((w > 0) & ~np.repeat(laying.bare, 3))
    return {"corners": _corners(p, follows), "weights": w[follows].tolist()}


def sewn(snapshot: Snapshot, file: int, number: int, edges: list[list[int]]) -> dict[str, Any]:
    """What sewing picked edges [triangle, side] of an object would bring across: the outline of it where it would come to lie on the sheet, two ends of two
    numbers for each piece of line; and how many islands that are. Where nothing comes across, `why`: it was only looked at, so that is an answer, no error.
    """
    p = picked_of(snapshot, file, number)
    nothing = {"lines": [], "islands": 0}
    if p.laying is None or snapshot.layout is None:
        return nothing | {"why": "This object has no UVs, so it has no seams yet."}
    picked = np.array([p.half_edge(e) for e in edges], np.int64)
    try:
        found, moved = brought(p.skin, p.laying, picked)
    except QuiltError as e:
        return nothing | {"why": str(e)}
    on = laid_out(found, _places(snapshot, file, p))
    s = p.skin.surface
    h = np.flatnonzero(np.repeat(moved, 3) & ((s.twin < 0) | p.laying.seam))
    ends = np.stack([h, after(h)], axis=1)
    return {"lines": on.uv.reshape(-1, 2)[ends].reshape(-1, 4).tolist(), "islands": len(np.unique(p.laying.island[moved]))}


@dataclass
class _Held:
    """A brush that is on an island, and how many dabs it made."""

    brush: Brush
    picked: Picked
    done: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)


_held: OrderedDict[tuple[Any, ...], _Held] = OrderedDict()
_guard = threading.Lock()


def brushed(
    snapshot: Snapshot,
    file: int,
    number: int,
    island: int,
    token: str,
    held: bool,
    points: list[list[int]],
    done: int,
    dabs: list[list[float]],
) -> dict[str, Any]:
    """Go on with a stroke: what moved, as corners [3 t + k, as shown] and their UVs.

    Parameters
    ----------
    token : names the stroke; done : how many of its dabs were made before these

    Returns
    -------
    with `done` now, and `again` where the stroke is not known here any more: then it is to be sent from its beginning
    """
    strokes = dabs_of(dabs)
    key = (snapshot.pk, file, number, island, token)
    with _guard:
        found = _held.get(key)
        if found is None and not done:
            p = picked_of(snapshot, file, number)
            if p.laying is None:
                raise QuiltError("This object has no UVs. Unwrap it first.")
            stay = np.array([p.half_edge(e) for e in points], np.int64)
            found = _held[key] = _Held(Brush(p.skin, p.laying, island - p.first, held, stay), p)
            while len(_held) > _KEPT:
                _held.popitem(last=False)
    if found is None:
        return {"corners": [], "uv": [], "done": 0, "again": True}
    with found.lock:
        if found.done != done:
            return {"corners": [], "uv": [], "done": found.done, "again": True}
        moved = np.zeros(found.brush.count, bool)
        for d in strokes:
            moved[found.brush.dab(d)] = True
        found.done += len(dabs)
        h, uv = found.brush.corners(np.flatnonzero(moved))
        return {"corners": _corners(found.picked, h), "uv": uv.reshape(-1).tolist(), "done": found.done, "again": False}
