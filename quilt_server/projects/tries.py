"""Keeping a try: its islands take the places that it gave them, the rest of the layout stays."""

from __future__ import annotations

import numpy as np

from quilt_core.errors import QuiltError

from .faults import findings_of
from .geometry import from_npz, to_npz
from .models import Layout, Project, Snapshot
from .sheets import sheets
from .state import advance, by_file, laid, settings_of


def keep_try(project: Project, head: Snapshot, layout: Layout) -> None:
    """Make a try the layout of its sheet: one undo step.

    Raises
    ------
    QuiltError : it was made with other files, objects or another channel, or its sheet is gone
    """
    settings = settings_of(head)
    kept = head.kept | {str(layout.sheet): layout.pk}
    tables = from_npz(layout.tables)
    if set(tables) != {str(i) for i in head.files} or layout.channel != settings["channel_in"]:
        raise QuiltError("This try was made with other files or another UV channel. Pack again.")
    if layout.sheet not in {s["id"] for s in sheets(settings)}:
        raise QuiltError("The sheet of this try is not there any more. Pack again.")
    if len(sheets(settings)) == 1 or head.layout is None:
        advance(project, f"Keep {layout.name}", head, layout, kept=kept)
        return
    old = from_npz(head.layout.tables)
    if any(len(old[k]) != len(v) for k, v in tables.items()):
        raise QuiltError("The islands were read anew since this try. Pack again.")
    first = sheets(settings)[0]["id"]
    on = by_file(head, settings["sheet_of"], first)
    members = from_npz(layout.members) if layout.members else {k: np.ones(len(v), bool) for k, v in tables.items()}
    mine = {k: members[k].astype(bool) & (np.array(on[int(k)]) == layout.sheet) for k in tables}
    rows = {k: np.where(mine[k][:, None], tables[k], old[k]) for k in tables}
    here, there = findings_of(head.layout), findings_of(layout)
    if here is None or there is None or head.layout.pieces != layout.pieces:
        raise QuiltError("This try was made with other objects left out. Choose the same objects, or pack again.")
    marks = np.array(laid(layout, {int(k): list(v) for k, v in mine.items()}), bool)
    number = str(layout.sheet)
    merged = Layout(
        project=project, kind="keep", name=layout.name, channel=layout.channel, recipe=layout.recipe, tables=to_npz(rows), pieces=layout.pieces,
        figures=head.layout.figures | {"sheets": head.layout.figures["sheets"] | {number: layout.figures["sheets"][number]}},
        findings=to_npz(here.replaced(there, marks).arrays()), sheet=layout.sheet,  # type: ignore[arg-type]
    )  # fmt: skip
    merged.save()
    advance(project, f"Keep {layout.name}", head, merged, kept=kept)
