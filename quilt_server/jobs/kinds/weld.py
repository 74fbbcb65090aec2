"""Joining islands that only duplicate vertices keep apart."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.uv.analysis import MeshIslands, analyse

from ...projects.keys import rekeyed
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Reading, Snapshot
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sources import make_reading
from ...projects.state import settings_of
from ..kind import Kind
from ..landing import land
from ..progress import StopFlag, say, steps


def run_weld(job: Job) -> None:
    """Join islands that only duplicate vertices keep apart, in all files; the files' own vertices stay as they are."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.pk != job.params["base"] or head.layout is None:
        raise QuiltError("The project changed since this was asked for. Do it again.")
    settings, old = settings_of(head), arrays_of(head.layout, "transforms")
    transforms, welded, joined = dict(old), list(settings["welded"]), 0
    found = choose(Snapshot(files=head.files, settings=settings), whole=True)
    apart = [c for c in found if c.file.pk not in welded]
    for c in steps(job, apart, lambda c: f"Joining islands of {c.file.name}", (0.0, 0.8)):
        pieces = analyse(c.scene, int(settings["channel_in"]), True)
        numbers = _numbers(c.pieces, pieces)
        if len(numbers) == len(np.unique(numbers)):
            continue
        joined += len(numbers) - len(np.unique(numbers))
        reading = Reading.objects.filter(file=c.file, channel=c.reading.channel, welded=True).first()
        if reading is None:
            reading = make_reading(c.file, c.scene, c.reading.channel, True)
            reading.save()
        welded.append(c.file.pk)
        # Of islands that become one the first decides where it lies: their UVs fit together as they were read.
        similarities = np.empty((int(numbers.max()) + 1, 5))
        similarities[numbers[::-1]] = old[str(c.file.pk)][::-1]
        transforms[str(c.file.pk)] = similarities
        settings = renumbered(settings, c.file.pk, numbers)
    job.result = {"changed": joined}
    if not joined:
        return
    settings |= {"welded": welded}
    say(job, "Measuring again")
    snapshot = Snapshot(files=head.files, left_out=head.left_out, settings=settings)
    parts = parts_of(choose(snapshot, whole=True))
    layout = Layout(project=project, kind="mend", channel=head.layout.channel, transforms=pack_arrays(transforms), recipe=settings)
    measure(layout, parts, parts.whole(transforms), settings, stop=StopFlag(job))
    land(project, head, layout, f"Join {joined} split islands", settings=settings)


def _numbers(old: list[MeshIslands | None], new: list[MeshIslands | None]) -> NDArray[np.int64]:
    """New number of every island of a file, old numbers counted through its meshes."""
    out: list[NDArray[np.int64]] = []
    start = 0
    for a, b in zip(old, new, strict=True):
        if a is None or b is None:
            continue
        number = np.empty(a.islands.count, np.int64)
        has = a.islands.of_triangle >= 0
        number[a.islands.of_triangle[has]] = b.islands.of_triangle[has]
        out.append(number + start)
        start += b.islands.count
    return np.concatenate(out) if out else np.zeros(0, np.int64)


def renumbered(settings: dict[str, Any], file: int, numbers: NDArray[np.int64]) -> dict[str, Any]:
    """Settings whose keys of single islands of a file follow new numbers (n,); -1 for islands that are gone."""

    def keys(k: str) -> list[str]:
        head, colon, island = k.partition(":")
        if not colon or head != str(file):
            return [k]
        new = int(numbers[int(island)]) if int(island) < len(numbers) else -1
        return [] if new < 0 else [f"{head}:{new}"]

    return rekeyed(settings, keys)


KINDS = (Kind("weld", run_weld),)
