"""New UVs for objects that have none or cannot be saved, or for chosen ones; everything else in their files stays."""

from __future__ import annotations

from dataclasses import fields
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import StrictBool, StrictStr

from quilt_core.errors import NothingToDo, QuiltError
from quilt_core.unwrap.meshes import Options, unwrap_faces
from quilt_core.unwrap.scenes import beyond_saving, renewed
from quilt_core.unwrap.trial import Tell

from ...projects.models import Job, Snapshot, SourceFile
from ...projects.objects import detail_of
from ...projects.state import settings_of
from ..kind import Asked, Islands, Kind, Real
from ..landing import head_of
from ..progress import StopFlag, say, steps
from ..revising import finish
from ..revision import Revision, opened


class Unwrap(Asked):
    """The objects by key, or islands (neither: all objects that cannot be saved), and how they are cut. `bare`: of chosen objects that have UVs in part, also the
    faces that have none, as in a channel that is only for some of them."""

    words: ClassVar = {"objects": "Objects are chosen by their keys.", "stretch": "The allowed stretch is from 1.02 to 4."}
    objects: list[StrictStr] | None = None
    islands: Islands = None
    stretch: Real = 1.25
    hard_edges: Real | None = None
    material_borders: StrictBool = False
    keep_seams: StrictBool = False
    keep_flat: StrictBool = True
    alike: StrictBool = True
    close_holes: StrictBool = False
    bare: StrictBool = True

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        _options(self.model_dump())
        return self.model_dump()


def _options(params: dict[str, Any]) -> Options:
    return Options(**{f.name: params[f.name] for f in fields(Options)})


def run_unwrap(job: Job) -> None:
    """Unwrap the chosen objects, or islands: one undo step. What was good keeps its islands, its layout and its rules."""
    project, head, before = head_of(job)
    settings = settings_of(head)
    say(job, "Looking at the UVs that there are")
    made, refused = unwrapped(job, head, job.params, lambda text: say(job, text))
    told = finish(job, project, head, before, made, settings, label_of(made), {"name": "unwrap", **job.params}) + refused
    job.result = {"changed": objects_of(made), "objects": told}


def objects_of(made: list[Revision]) -> int:
    """How many objects get new UVs."""
    return sum(1 for w in made for o in w.scene.objects if o.mesh in w.made)


def label_of(made: list[Revision]) -> str:
    """What the step is called."""
    count = objects_of(made)
    return f"Unwrap {count} {'object' if count == 1 else 'objects'}"


def unwrapped(job: Job, head: Snapshot, params: dict[str, Any], tell: Tell) -> tuple[list[Revision], list[dict[str, Any]]]:
    """The files with new UVs for what `params` of this kind ask for, and what could have none.

    Raises
    ------
    QuiltError : there is nothing to do; Cancelled : it was stopped
    """
    stop = StopFlag(job)
    options = _options(params)
    work, refused = [], []
    given = set(detail_of(head))
    for w in steps(job, list(opened(head, lambda f: _concerns(params, f))), share=(0.0, 0.9)):
        refused.append(_unwrapped(job, params, w, options, stop, tell, given))
        work.append(w)
    made = [w for w in work if w.made]
    if not made:
        why = [text for r in refused for text in r.values()]
        if why:
            raise QuiltError(why[0])
        raise NothingToDo("Nothing here is beyond saving. Select objects to unwrap them all the same.")
    return made, [row for w, r in zip(work, refused, strict=True) for row in w.refused(r)]


def _unwrapped(
    job: Job, params: dict[str, Any], w: Revision, options: Options, stop: StopFlag, tell: Tell, given: set[str]
) -> dict[int, str]:
    """Give chosen meshes of a file new UVs; why some could have none. `given`: keys of objects that need none unless they are chosen by name."""
    keys, islands = params["objects"], params["islands"]

    if islands is not None:
        return _some(w, np.array(islands.get(str(w.old.pk), []), np.int64), options, stop, tell)
    if keys is None:
        needless = {o.mesh for n, o in enumerate(w.scene.objects) if f"{w.old.pk}/{n}" in given}
        meshes = [m for m in range(len(w.scene.meshes)) if m not in needless and beyond_saving(w.figures(m))]
    else:
        meshes = sorted({o.mesh for n, o in enumerate(w.scene.objects) if f"{w.old.pk}/{n}" in set(keys)})
    # What is good in an object that was not asked for by name stays.
    refused: dict[int, str] = {}
    for m in steps(job, meshes):
        piece = w.pieces[m]
        if keys is not None and not params["bare"] and piece is not None:
            start = w.first_island(m)
            _some(w, start + np.arange(piece.islands.count), options, stop, tell)
            continue
        made, why = renewed(w.scene, [m], w.channel, options, stop, tell, w.pieces if keys is None else None, w.roots)
        refused |= why
        if m in made:
            w.made[m], w.anew[m] = made[m].revised, made[m].anew
    return refused


def _some(w: Revision, islands: NDArray[np.int64], options: Options, stop: StopFlag, tell: Tell) -> dict[int, str]:
    """Give chosen islands (k,) of a file new UVs."""
    for m, skin, laying, mine in w.layings(islands):
        u = unwrap_faces(skin, laying, np.isin(laying.island, mine), options, w.scene.meshes[m].channels[w.channel], stop, tell)
        w.made[m], w.anew[m] = u.revised, u.anew
    return {}


def _concerns(params: dict[str, Any], file: SourceFile) -> bool:
    if params["islands"] is not None:
        return bool(params["islands"].get(str(file.pk)))
    return params["objects"] is None or any(k.startswith(f"{file.pk}/") for k in params["objects"])


KINDS = (Kind("unwrap", run_unwrap, Unwrap),)
