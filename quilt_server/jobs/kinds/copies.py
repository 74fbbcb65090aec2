"""Objects of one shape: found, and the UVs of one of them given to the others, on the same texels or beside, once or for as long as they are linked."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import StrictBool, StrictStr

from quilt_core.errors import QuiltError
from quilt_core.unwrap.copies import same_shape
from quilt_core.unwrap.scenes import beyond_saving
from quilt_core.words import counted

from ...projects.models import Job
from ...projects.sheets import sheets
from ...projects.state import settings_of
from ..copying import Place, give, name_of, skin_or_none
from ..kind import Asked, Kind
from ..landing import head_of
from ..progress import steps
from ..revising import finish
from ..revision import Revision, opened


class Copies(Asked):
    """Objects by key. One: it gives its UVs to all others of its shape. Several: the best of them gives its to the others.

    onto : they share its texels as twins; else each gets places of its own
    linked : a later change of one is made to all
    """

    words: ClassVar = {"objects": "Objects are chosen by their keys."}
    objects: list[StrictStr] = []
    onto: StrictBool = False
    linked: StrictBool = False

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if not self.objects:
            raise QuiltError("Select the object whose UVs are good first.")
        return self.model_dump()


def _chosen(work: list[Revision], keys: set[str]) -> list[Place]:
    """The meshes of the chosen objects, each once."""
    found = [(w, o.mesh) for w in work for n, o in enumerate(w.scene.objects) if f"{w.old.pk}/{n}" in keys]
    return list({(id(w), m): (w, m) for w, m in found}.values())


def _everyone(work: list[Revision]) -> list[Place]:
    return [(w, m) for w in work for m in sorted({o.mesh for o in w.scene.objects})]


def _keys(place: Place) -> list[str]:
    """The keys of the objects that show a mesh."""
    w, m = place
    return [f"{w.old.pk}/{n}" for n, o in enumerate(w.scene.objects) if o.mesh == m]


def _source(chosen: list[Place]) -> Place:
    """The one that gives its UVs: of those with the fewest faults the least stretched.

    Raises
    ------
    QuiltError : none of them has UVs
    """
    laid = [(w, m) for w, m in chosen if w.pieces[m] is not None]
    if not laid:
        raise QuiltError("None of the selected objects has UVs. Unwrap one of them first.")

    def worth(place: Place) -> tuple[int, float]:
        f = place[0].figures(place[1])
        return -(f.folded + f.bare + f.overlapping), f.under_1_1

    return max(laid, key=worth)


def _own_faults(source: Place, linked: bool) -> list[str]:
    """What is wrong with the UVs that are given, in words: makers' own layouts have a fold here and there."""
    found = beyond_saving(source[0].figures(source[1]))
    follow = "the copies follow" if linked else "give its UVs again"
    return [f"{name_of(source)} has faults of its own ({', '.join(found)}): mend it, and {follow}."] if found else []


def _targets(job: Job, work: list[Revision], chosen: list[Place], source: Place) -> list[Place]:
    """Who gets them: the other chosen ones, or all of its shape."""
    if len(chosen) > 1:
        return [p for p in chosen if p[0] is not source[0] or p[1] != source[1]]
    of = skin_or_none(source)
    out = []
    others = [] if of is None else [p for p in _everyone(work) if p[0] is not source[0] or p[1] != source[1]]
    for p in steps(job, others, lambda p: f"Comparing {name_of(p)}", (0.0, 0.4)):
        skin = skin_or_none(p)
        if of is not None and skin is not None and same_shape(of, skin) is not None:
            out.append(p)
    return out


def run_copies(job: Job) -> None:
    """Give the UVs: one undo step."""
    project, head, before = head_of(job)
    settings, p = settings_of(head), job.params
    work = list(opened(head))
    chosen = _chosen(work, set(p["objects"]))
    if not chosen:
        raise QuiltError("What was selected is not there any more. Select it anew.")
    source = _source(chosen)
    lies = source[0].laying(source[1])
    refused, told, given = list[str](), _own_faults(source, p["linked"]), list[Place]()
    for target in steps(job, _targets(job, work, chosen, source), lambda t: f"UVs for {name_of(t)}", (0.4, 0.9)):
        done = give(source, lies, target, p["onto"], True)
        if isinstance(done, str):
            refused.append(done)
            continue
        given.append(target)
        told += [f"{name_of(target)}: {words}." for words in [done.words()] if words]
    if not given:
        raise QuiltError(refused[0] if len(chosen) > 1 and refused else f"No other object has the shape of {name_of(source)}.")
    count = sum(len(_keys(t)) for t in given)
    settings = _settings(settings, source, given, p["onto"], p["linked"])
    label = f"UVs of {name_of(source)} for {counted(count, 'copy', 'copies')}{', linked' if p['linked'] else ''}"
    rows = finish(job, project, head, before, [w for w in work if w.made], settings, label, {"name": "copies", "source": name_of(source)})
    job.result = {"changed": count, "objects": rows, "refused": refused, "told": told}


def _settings(settings: dict[str, Any], source: Place, given: list[Place], onto: bool, linked: bool) -> dict[str, Any]:
    """The settings with what is linked, and with all on one sheet that share texels."""
    mine, others = _keys(source), [k for t in given for k in _keys(t)]
    out = dict(settings)
    if onto:
        on = settings["sheet_of"].get(mine[0], sheets(settings)[0]["id"])
        out["sheet_of"] = settings["sheet_of"] | {k: on for k in others}
    # A link that one of them was in goes on with those that are left.
    links = [x | {"members": [k for k in x["members"] if k not in {*mine, *others}]} for x in settings["links"]]
    known: list[str] = next((x["members"] for x in settings["links"] if mine[0] in x["members"]), []) if linked else []
    links = [x for x in links if len(x["members"]) > 1 and not set(x["members"]) <= set(known)]
    if linked:
        links.append({"members": list(dict.fromkeys([*mine, *others, *known])), "onto": onto})
    return out | {"links": links}


def run_shapes(job: Job) -> None:
    """Find the objects that are of one shape, and how far they are from being the same; nothing is changed."""
    work = list(opened(head_of(job)[1]))
    heads: list[tuple[Place, Any, list[str], float]] = []
    for place in steps(job, list(_everyone(work)), lambda p: f"Comparing {name_of(p)}"):
        skin = skin_or_none(place)
        if skin is None:
            continue
        for n, (head, of, keys, away) in enumerate(heads):
            same = same_shape(of, skin)
            if same is not None:
                metres = same.away * float(np.linalg.norm(np.ptp(of.surface.points, axis=0)))
                heads[n] = (head, of, keys + _keys(place), max(away, metres))
                break
        else:
            heads.append((place, skin, _keys(place), 0.0))
    found = sorted((h for h in heads if len(h[2]) > 1), key=lambda h: -len(h[2]))
    groups = [{"name": name_of(place), "objects": keys, "away_m": away} for place, _, keys, away in found]
    job.result = {"base": job.params["base"], "groups": groups, "changed": sum(len(h[2]) for h in found)}


KINDS = (Kind("copies", run_copies, Copies), Kind("shapes", run_shapes))
