"""Islands of one shape: found, and laid on each other to share their texels."""

from __future__ import annotations

from collections import defaultdict

import numpy as np

from quilt_core.errors import QuiltError
from quilt_core.similarity import composed
from quilt_core.twins import alike, grouped

from ..projects.geometry import from_npz, to_npz
from ..projects.models import Job, Layout
from ..projects.reading import choose, measure, parts_of, regions_of, sheet_numbers
from ..projects.state import settings_of
from .mend import land
from .packing import head_of
from .progress import report_progress


def run_alike(job: Job) -> None:
    """Find all islands of the same shape as the chosen ones; the result names them by file."""
    _, head, before = head_of(job)
    report_progress(job, {"text": "Comparing shapes"})
    chosen = choose(head)
    parts = parts_of(chosen)
    mask = parts.chosen(job.params["islands"])
    first, _ = alike(regions_of(parts, parts.whole(from_npz(before.tables))), bool(job.params["mirrored"]))
    wanted = np.flatnonzero(np.isin(first, np.unique(first[mask])))
    found: dict[str, list[int]] = defaultdict(list)
    names = parts.names()
    for i in wanted:
        file, island = names[i].split(":")
        found[file].append(int(island))
    job.result = {"islands": dict(found), "changed": len(wanted)}


def run_stack(job: Job) -> None:
    """Lay chosen islands of one shape on each other and mark them as twins: one undo step."""
    project, head, before = head_of(job)
    if job.params["islands"] is None:
        raise QuiltError("Select the islands that may share their texels.")
    report_progress(job, {"text": "Comparing shapes"})
    settings = settings_of(head)
    chosen = choose(head)
    parts = parts_of(chosen)
    mask = parts.chosen(job.params["islands"])
    old = from_npz(before.tables)
    rows = parts.whole(old)
    mine = np.flatnonzero(mask)
    first, onto = alike(regions_of(parts, rows)[mine], bool(job.params["mirrored"]))
    on = sheet_numbers(chosen, parts, settings)[mine]
    follows = (first != np.arange(len(mine))) & (on[first] == on)
    job.result = {"changed": int(follows.sum())}
    if not follows.any():
        return
    new = rows.copy()
    new[mine[follows]] = composed(onto[follows], rows[mine[follows]])
    names = parts.names()
    known = {k: n for n, k in enumerate(names)}
    pairs = [(int(mine[first[i]]), int(mine[i])) for i in np.flatnonzero(follows)]
    pairs += [(known[g[0]], known[k]) for g in settings["twins"] for k in g[1:] if g[0] in known and k in known]
    label = grouped(np.array(pairs, np.int64), parts.count)
    groups = [[names[i] for i in np.flatnonzero(label == g)] for g in np.unique(label[label >= 0])]
    settings = settings | {"twins": groups}
    report_progress(job, {"text": "Measuring again"})
    layout = Layout(
        project=project, kind="mend", channel=before.channel, recipe=settings, tables=to_npz(parts.merged(old, parts.pieced(new)))
    )
    measure(layout, chosen, parts, new, settings)
    land(project, head, layout, f"Stack islands of one shape ({len(pairs)})", settings=settings)
