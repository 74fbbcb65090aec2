"""The bleed proof of all sheets; the result is kept with the layout."""

from __future__ import annotations

from django.db import transaction

from ...projects.models import Job, Layout
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of, sheet_numbers, twin_groups
from ...projects.sheets import of_sheet, sheets
from ...projects.state import settings_of
from ..kind import Kind
from ..landing import head_of
from ..progress import steps
from ..proving import bleed_of


def run_bleed(job: Job) -> None:
    """Prove all sheets; the result is kept with the layout."""
    _, head, before = head_of(job)
    settings = settings_of(head)
    chosen = choose(head)
    parts = parts_of(chosen)
    rows = parts.whole(arrays_of(before, "transforms"))
    on, twins = sheet_numbers(chosen, parts, settings), twin_groups(parts, settings)
    found = {}
    used = [s for s in sheets(settings) if (on == s["id"]).any()]
    for s in steps(job, used, lambda s: f"Painting and shrinking {s['name']}"):
        found[str(s["id"])] = bleed_of(parts, rows, on == s["id"], of_sheet(settings, s["id"]), twins)
    job.result = {"sheets": found}
    with transaction.atomic():
        layout = Layout.objects.select_for_update().get(pk=before.pk)
        layout.figures = layout.figures | {"bleed": found}
        layout.save(update_fields=["figures"])


KINDS = (Kind("bleed", run_bleed),)
