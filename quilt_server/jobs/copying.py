"""UVs of one mesh for others of its shape: asked for, and as often as one of several that are linked is changed."""

from __future__ import annotations

from typing import Any

import numpy as np

from quilt_core.errors import QuiltError
from quilt_core.unwrap.copies import Copied, copied
from quilt_core.unwrap.match import matched
from quilt_core.unwrap.scenes import skin_in
from quilt_core.unwrap.skin import Laying, Skin, laying_of

from ..projects.models import Job, Snapshot
from .progress import steps
from .revision import Revision, opened

Place = tuple[Revision, int]  # a file and the number of a mesh in it


def name_of(place: Place) -> str:
    """The name of the first object that shows a mesh."""
    w, m = place
    return next((o.name for o in w.scene.objects if o.mesh == m), w.scene.meshes[m].name)


def skin_or_none(place: Place) -> Skin | None:
    """The surface of a mesh, None where it has none."""
    try:
        return skin_in(place[0].scene, place[1])
    except QuiltError:
        return None


def laying_now(place: Place) -> tuple[Skin, Laying]:
    """How a mesh lies after what was done to it."""
    w, m = place
    if m not in w.made:
        return w.laying(m)
    made, skin = w.made[m], skin_in(w.scene, m)
    return skin, laying_of(skin, made.channel, made.island, made.root)


def give(source: Place, lies: tuple[Skin, Laying], target: Place, onto: bool, first: bool) -> Copied | str:
    """Give a mesh the UVs of another; or why it cannot have them.

    Parameters
    ----------
    onto : its islands lie on the other's; else in places of their own, new ones where it gets them for the `first` time
    """
    w, m = target
    skin = skin_or_none(target)
    done = None if skin is None else copied(*lies, skin, matched(lies[0], skin), onto)
    if skin is None or done is None:
        return f"{name_of(target)} is not of the shape of {name_of(source)}."
    made = done.revised(skin)
    w.made[m] = made
    w.given.add(m)
    new, at = np.unique(made.island[skin.kept], return_index=True)
    new, of = new[new >= 0], done.laying.island[at[new >= 0]]
    w.anew.pop(m, None)
    w.onto.pop(m, None)
    if onto:
        w.onto[m] = (source[0], source[1], of)
    elif first:
        w.anew[m] = new.astype(np.int64)
    return done


def follow_links(job: Job, head: Snapshot, settings: dict[str, Any], work: list[Revision]) -> list[Revision]:
    """The files whose UVs change, with those of objects that are linked with what was changed: they get the same UVs."""
    of = {w.old.pk: w for w in work}
    for link in settings["links"]:
        places = _places(link["members"], of, head)
        changed = [p for p in places if p[1] in p[0].made and p[1] not in p[0].given]
        if not changed:
            continue
        source = changed[0]
        lies = laying_now(source)
        others = [t for t in places if t[0] is not source[0] or t[1] != source[1]]
        for target in steps(job, others, lambda t, source=source: f"{name_of(t)} follows {name_of(source)}"):  # type: ignore[misc]
            # What became of another shape meanwhile stays as it is.
            give(source, lies, target, link["onto"], False)
    return [w for w in of.values() if w.made or w.also or w.without]


def _places(keys: list[str], of: dict[int, Revision], head: Snapshot) -> list[Place]:
    """The meshes of objects, each once; opens the files that are not open yet."""
    out: dict[tuple[int, int], Place] = {}
    for key in keys:
        file, _, number = key.partition("/")
        if int(file) not in of:
            of.update((w.old.pk, w) for w in opened(head, lambda f, file=file: f.pk == int(file)))  # type: ignore[misc]
        if int(file) not in of:
            continue
        w = of[int(file)]
        if int(number) < len(w.scene.objects):
            m = w.scene.objects[int(number)].mesh
            out.setdefault((int(file), m), (w, m))
    return list(out.values())
