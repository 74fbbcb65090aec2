"""Islands of one shape: found, and laid on each other to share their texels."""

from __future__ import annotations

from collections import defaultdict

import numpy as np
from pydantic import StrictBool

from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.uv.twins import alike, grouped, stacked

from ...projects.measuring import measure
from ...projects.models import Job, Layout
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of, regions_of, sheet_numbers
from ...projects.state import settings_of
from ..kind import Asked, Islands, Kind
from ..landing import head_of, land
from ..progress import StopFlag, say


class Shapes(Asked):
    """The islands that others are compared with, and whether mirrored ones count as alike."""

    islands: Islands = None
    mirrored: StrictBool = False


class Stack(Shapes):
    """The islands that are laid on each other; `any_size`: also those whose surfaces differ in size."""

    any_size: StrictBool = False


def run_alike(job: Job) -> None:
    """Find all islands of the same shape as the chosen ones; the result names them by file."""
    _, head, before = head_of(job)
    say(job, "Comparing shapes")
    chosen = choose(head, whole=True)
    parts = parts_of(chosen)
    mask = parts.named(job.params["islands"])
    here = np.flatnonzero(parts.named(None))
    found_first, _ = alike(regions_of(parts, parts.whole(arrays_of(before, "transforms")), here), bool(job.params["mirrored"]))
    wanted = here[np.isin(found_first, np.unique(found_first[mask[here]]))]
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
    say(job, "Comparing shapes")
    settings = settings_of(head)
    chosen = choose(head, whole=True)
    parts = parts_of(chosen)
    mask = parts.named(job.params["islands"])
    old = arrays_of(before, "transforms")
    rows = parts.whole(old)
    on, new, lead = sheet_numbers(chosen, parts, settings), rows, np.arange(len(rows))
    for sheet in np.unique(on[mask]):
        here = np.flatnonzero(mask & (on == sheet))
        new, of = stacked(parts.pieces, new, here, bool(job.params["mirrored"]), bool(job.params["any_size"]))
        lead[here] = of[here]
    follows = np.flatnonzero(lead != np.arange(len(lead)))
    job.result = {"changed": len(follows)}
    if not len(follows):
        return
    names = parts.names()
    pairs = [(int(lead[i]), int(i)) for i in follows]
    for group in map(parts.numbers, settings["twins"]):
        pairs += [(int(group[0]), int(k)) for k in group[1:] if group[0] >= 0 and k >= 0]
    label = grouped(np.array(pairs, np.int64), parts.count)
    groups = [[names[i] for i in np.flatnonzero(label == g)] for g in np.unique(label[label >= 0])]
    settings = settings | {"twins": groups}
    say(job, "Measuring again")
    layout = Layout(
        project=project, kind="mend", channel=before.channel, recipe=settings, transforms=pack_arrays(parts.merged(old, parts.pieced(new)))
    )
    measure(layout, parts, new, settings, before, StopFlag(job))
    land(project, head, layout, f"Stack islands of one shape ({len(pairs)})", settings=settings)


KINDS = (Kind("alike", run_alike, Shapes), Kind("stack", run_stack, Stack))
