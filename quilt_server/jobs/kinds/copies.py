"""The UVs of one object for others of its shape, however these were moved, turned, scaled, mirrored or numbered."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar

import numpy as np
from pydantic import StrictStr

from quilt_core.errors import QuiltError
from quilt_core.unwrap.copies import copied, same_shape
from quilt_core.unwrap.scenes import beyond_saving, skin_in
from quilt_core.unwrap.skin import Skin, revised
from quilt_core.words import counted

from ...projects.models import Job, SourceFile
from ...projects.state import settings_of
from ..kind import Asked, Kind
from ..landing import head_of
from ..progress import StopFlag, report_progress
from ..revising import Revision, finish

_Place = tuple[Revision, int]  # a file and the number of a mesh in it


class Copies(Asked):
    """Objects by key. One: it gives its UVs to all others of its shape. Several: the best of them gives its to the others."""

    words: ClassVar = {"objects": "Objects are chosen by their keys."}
    objects: list[StrictStr] = []

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if not self.objects:
            raise QuiltError("Select the object whose UVs are good first.")
        return self.model_dump()


def _chosen(work: list[Revision], keys: set[str]) -> list[_Place]:
    """The meshes of the chosen objects, each once."""
    found = [(w, o.mesh) for w in work for n, o in enumerate(w.scene.objects) if f"{w.old.pk}/{n}" in keys]
    return list({(id(w), m): (w, m) for w, m in found}.values())


def _source(chosen: list[_Place]) -> _Place:
    """The one that gives its UVs: of those that can be saved the least stretched.

    Raises
    ------
    QuiltError : none of them has UVs that are good
    """
    good = [(w, m) for w, m in chosen if w.pieces[m] is not None and not beyond_saving(w.figures(m))]
    if not good:
        raise QuiltError("None of the selected objects has UVs that are good. Mend one of them first.")
    return max(good, key=lambda x: x[0].figures(x[1]).under_1_1)


def _name(place: _Place) -> str:
    w, m = place
    return next(o.name for o in w.scene.objects if o.mesh == m)


def _targets(work: list[Revision], chosen: list[_Place], source: _Place) -> Iterator[_Place]:
    """Who gets them."""
    everyone = [(w, m) for w in work for m in sorted({o.mesh for o in w.scene.objects})]
    for w, m in chosen if len(chosen) > 1 else everyone:
        if w is not source[0] or m != source[1]:
            yield w, m


def run_copies(job: Job) -> None:
    """Give the UVs: one undo step; islands lie in places of their own."""
    project, head, before = head_of(job)
    settings, stop = settings_of(head), StopFlag(job)
    work = [Revision(f, int(settings["channel_in"]), f.pk in settings["welded"]) for f in SourceFile.objects.filter(pk__in=head.files)]
    chosen = _chosen(work, set(job.params["objects"]))
    if not chosen:
        raise QuiltError("What was selected is not there any more. Select it anew.")
    source = _source(chosen)
    of, laying = source[0].laying(source[1])
    refused: list[str] = []
    count = 0
    for w, m in _targets(work, chosen, source):
        stop.raise_if()
        report_progress(job, {"text": f"Comparing {_name((w, m))}"})
        skin = _skin(w, m)
        same = None if skin is None else same_shape(of.surface, skin.surface)
        if skin is None or same is None:
            refused.append(f"{_name((w, m))} is not of the shape of {_name(source)}, or its triangles are others.")
            continue
        made = revised(skin, copied(laying, skin, same), np.ones(len(skin.kept), bool))
        w.made[m], w.anew[m] = made, np.unique(made.island[made.island >= 0]).astype(np.int64)
        count += sum(o.mesh == m for o in w.scene.objects)
    changed = [w for w in work if w.made]
    if not changed:
        raise QuiltError(refused[0] if len(chosen) > 1 and refused else f"No other object has the shape of {_name(source)}.")
    label = f"UVs of {_name(source)} for {counted(count, 'copy', 'copies')}"
    told = finish(job, project, head, before, changed, settings, label, {"name": "copies", "source": _name(source)})
    job.result = {"changed": count, "objects": told, "refused": refused if len(chosen) > 1 else []}


def _skin(w: Revision, mesh: int) -> Skin | None:
    """The surface of a mesh, None where it has none."""
    try:
        return skin_in(w.scene, mesh)
    except QuiltError:
        return None


KINDS = (Kind("copies", run_copies, Copies),)
