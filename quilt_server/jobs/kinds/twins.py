"""Marking twins, and taking the mark off."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import StrictBool

from quilt_core.measure.lie import twin_pairs
from quilt_core.model.scene import Floats
from quilt_core.uv.twins import grouped

from ...projects.measuring import lie_of, measure
from ...projects.models import Job, Layout
from ...projects.opened import arrays_of
from ...projects.reading import Parts, choose, parts_of
from ...projects.state import settings_of
from ..kind import Asked, Islands, Kind
from ..landing import head_of, land
from ..progress import StopFlag, say


class Twins(Asked):
    """The islands (None for all), and whether the mark is set or taken off."""

    islands: Islands = None
    on: StrictBool = True


def run_twins(job: Job) -> None:
    """Mark islands that lie exactly on each other as twins, or take the mark off; among the chosen islands, or all."""
    project, head, before = head_of(job)
    settings = settings_of(head)
    say(job, "Looking for twins")
    parts = parts_of(choose(head, whole=True))
    mask, names = parts.named(job.params["islands"]), parts.names()
    touched = {names[i] for i in np.flatnonzero(mask)}
    groups = [[k for k in g if k not in touched] for g in settings["twins"]]
    groups = [g for g in groups if len(g) > 1]
    rows = parts.whole(arrays_of(before, "transforms"))
    if job.params["on"]:
        pairs = _twin_pairs(before, parts, rows, mask)
        known = [parts.numbers(g) for g in groups]
        old = [(int(g[0]), int(k)) for g in known for k in g[1:] if g[0] >= 0 and k >= 0]
        label = grouped(np.concatenate([pairs, np.array(old, np.int64).reshape(-1, 2)]), parts.count)
        groups = [[names[i] for i in np.flatnonzero(label == g)] for g in np.unique(label[label >= 0])]
        groups = [g for g in groups if len(g) > 1]
    count = sum(len(g) for g in groups)
    was = sum(len(g) for g in settings["twins"])
    job.result = {"changed": abs(count - was)}
    if groups == settings["twins"]:
        return
    new = settings | {"twins": groups}
    layout = Layout(project=project, kind="mend", channel=before.channel, recipe=new, transforms=bytes(before.transforms))
    measure(layout, parts, rows, new, before, StopFlag(job))
    land(project, head, layout, "Mark twins" if job.params["on"] else "Unmark twins", settings=new)


def _twin_pairs(before: Layout, parts: Parts, rows: Floats, mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Pairs (k, 2) of islands that cover the same texels, one of them at least among `mask` (n,)."""
    found = lie_of(before)
    if found is None or found[0].count != parts.count:
        return np.zeros((0, 2), np.int64)
    # The short lists of a heap do not hold every pair, so the islands that have twins are compared again.
    which = np.flatnonzero(found[0].twins > 0)
    pairs = twin_pairs(parts.shapes, found[0], rows, which)
    return pairs[mask[pairs].any(axis=1)]


KINDS = (Kind("twins", run_twins, Twins),)
