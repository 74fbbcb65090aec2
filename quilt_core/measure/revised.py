"""How the islands of a layout lie after some of them became others: what is known of those that stayed is not measured again."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats
from .lie import Lie, Stop, blank, lists, measured, updated
from .shapes import IslandShapes, Whole


def after_revision(
    before: tuple[IslandShapes, Lie, Floats], now: tuple[IslandShapes, Floats, Whole], same: Whole, stop: Stop = lambda: False
) -> Lie:  # fmt: skip
    """What `measured` says of a layout, from what is known of one with other islands.

    Parameters
    ----------
    before : the islands as they were, how they lay, and their rows (m, 5)
    now : the islands, their rows (n, 5), and the sheet of each (n,), -1 for those that are left out
    same : (m,) the newer number of every older island that is exactly as it was, -1 for the others

    Raises
    ------
    Cancelled : `stop` said so
    """
    (old_shapes, old, old_rows), (shapes, rows, sheet) = before, now
    stays = np.flatnonzero(same >= 0)
    if old.cut[0] or old.count != old_shapes.count or len(stays) < old.count // 2:
        return measured(shapes, rows, sheet, stop)
    # Those that are gone leave, the others get their newer numbers, and the new ones come in.
    without = updated(old_shapes, old, old_rows, old_rows, np.where(same >= 0, old.sheet, -1), stop)
    known = _renumbered(without, shapes.count, same)
    if known is None:
        return measured(shapes, rows, sheet, stop)
    lay = rows.copy()
    lay[same[stays]] = old_rows[stays]
    return updated(shapes, replace(known, box=shapes.boxes(lay)), lay, rows, sheet, stop)


def _renumbered(lie: Lie, count: int, same: Whole) -> Lie | None:
    """The same with other numbers: `same` (m,) of `count`, -1 for islands that nothing is known of any more. None where the lists would have to be longer
    than they are."""
    old, new = lists(lie.count), lists(count)
    stays = np.flatnonzero(same >= 0)
    short = [(lie.overlaps[stays] > old[0]).any() and new[0] > old[0], (lie.near_with[stays, -1:] >= 0).any() and new[1] > old[1]]
    if old[2] != new[2] or any(short):
        return None
    sheet = np.full(count, -1, np.int64)
    sheet[same[stays]] = lie.sheet[stays]
    out = blank(sheet, np.full((count, 4), np.nan))
    for f in ("overlaps", "twins"):
        getattr(out, f)[same[stays]] = getattr(lie, f)[stays]
    for name, value, sign in (("over", "over_area", -1), ("near", "near_gap", 1)):
        _move_lists(out, lie, (f"{name}_with", value, f"{name}_at"), stays, same, sign)
    return out


def _move_lists(out: Lie, lie: Lie, names: tuple[str, str, str], stays: Whole, same: Whole, sign: int) -> None:
    """Put the lists of the islands that stay into `out`, in the order that newer numbers have: by value, those of one value by number."""
    partner, value, at = (getattr(lie, n)[stays] for n in names)
    number = np.where(partner >= 0, same[np.maximum(partner, 0)], -1)
    key: NDArray[Any] = np.where(number >= 0, sign * value, np.inf)
    order = np.lexsort((number, key), axis=1)
    width = min(partner.shape[1], getattr(out, names[0]).shape[1])
    for name, found in zip(names, (number, value, at), strict=True):
        turned = np.take_along_axis(found, order if found.ndim == 2 else order[:, :, None], axis=1)[:, :width]
        getattr(out, name)[same[stays], :width] = turned
