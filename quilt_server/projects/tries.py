"""Keeping a try: its islands take the places that it gave them, the rest of the layout stays."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from django.db.models import F

from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError

from .measuring import measure
from .models import Layout, Project, Snapshot
from .opened import arrays_of
from .reading import choose, parts_of
from .sheets import sheets
from .state import by_file, settings_of


def next_name(project: Project) -> str:
    """The name of the next try of a project: none comes twice, whatever was forgotten meanwhile."""
    Project.objects.filter(pk=project.pk).update(tried=F("tried") + 1)
    return f"Try {Project.objects.values_list('tried', flat=True).get(pk=project.pk)}"


def kept_layout(project: Project, head: Snapshot, before: Layout, try_: Layout, stop: Callable[[], bool]) -> Layout:
    """The layout of a snapshot with a try in it, measured; not saved yet.

    Raises
    ------
    QuiltError : the try was made with other files or islands or another channel, or its sheet is gone
    """
    settings = settings_of(head)
    transforms, old = arrays_of(try_, "transforms"), arrays_of(before, "transforms")
    if set(transforms) != {str(i) for i in head.files} or try_.channel != settings["channel_in"]:
        raise QuiltError("This try was made with other files, other UVs or another UV channel. Pack again, or go back to it by undo.")
    if try_.sheet not in {s["id"] for s in sheets(settings)}:
        raise QuiltError("The sheet of this try is not there any more. Pack again.")
    if any(len(old[k]) != len(v) for k, v in transforms.items()):
        raise QuiltError("The islands were read anew since this try, so it fits them no more. Pack again.")
    on = by_file(head, settings["sheet_of"], sheets(settings)[0]["id"])
    members = arrays_of(try_, "members") or {k: np.ones(len(v), bool) for k, v in transforms.items()}
    rows = {k: np.where((members[k].astype(bool) & (on[int(k)] == try_.sheet))[:, None], transforms[k], old[k]) for k in transforms}
    layout = Layout(
        project=project, kind="keep", name=try_.name, channel=try_.channel, recipe=try_.recipe, transforms=pack_arrays(rows), sheet=try_.sheet,
        figures={k: v for k, v in try_.figures.items() if k in ("limiting", "seconds", "passes", "seed")},
    )  # fmt: skip
    parts = parts_of(choose(head, whole=True))
    whole = parts.whole(rows)
    # Where the try is what the layout is now, measuring it again costs nothing, and its bleed proof holds.
    same = all(np.array_equal(rows[k], transforms[k]) for k in rows)
    measure(layout, parts, whole, settings, try_ if same else before, stop)
    return layout
