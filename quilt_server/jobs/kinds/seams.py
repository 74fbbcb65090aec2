"""Seams and islands by hand: each operation on chosen edges, faces or islands is one undo step with new UVs."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import StrictBool, StrictStr

from quilt_core.errors import QuiltError
from quilt_core.unwrap import hands
from quilt_core.unwrap.across import MOST_PARTS
from quilt_core.unwrap.ledger import SeamRun, worth
from quilt_core.unwrap.pieces import WAYS
from quilt_core.unwrap.project import WAYS as PROJECTIONS
from quilt_core.unwrap.seams import half_edges
from quilt_core.unwrap.skin import Laying, Skin, revised

from ...projects.geometry import shown_places
from ...projects.models import Job
from ...projects.state import settings_of
from ..kind import Asked, FileNumber, Islands, Kind, Number, Real
from ..landing import head_of
from ..picked import by_mesh, marked
from ..progress import StopFlag, say, steps
from ..revising import finish
from ..revision import Revision, opened

LABELS = {
    "cut": "Cut", "across": "Cut across", "sew": "Sew", "sew_free": "Sew what costs nothing", "relax": "Lay flat again", "part": "Part what lies double", "square": "Make strips rectangles",
    "project": "Project",
}  # fmt: skip
_LAYS_FLAT = ("cut", "across", "sew", "sew_free", "relax")
MOST_PICKED = 500_000


class Seams(Asked):
    """The operation, and what it is done to: edges [object, triangle as shown, side], faces [object, triangle as shown], or islands, by file. Points [object,
    triangle as shown, corner] stay where their islands are laid flat."""

    words: ClassVar = {
        "edges": "Edges are picked as object, triangle and side.",
        "faces": "Faces are picked as object and triangle.",
        "points": "Points are picked as object, triangle and corner.",
    }
    operation: StrictStr = ""
    edges: dict[FileNumber, list[list[Number]]] | None = None
    faces: dict[FileNumber, list[list[Number]]] | None = None
    points: dict[FileNumber, list[list[Number]]] | None = None
    islands: Islands = None
    relax: StrictBool = True
    way: StrictStr = "both"
    held: StrictBool = False
    view: list[Real] | None = None
    parts: Number = 2

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if self.operation not in LABELS:
            raise QuiltError(f"'{self.operation}' is no operation: {', '.join(LABELS)}.")
        for what, size in (("edges", 3), ("faces", 2), ("points", 3)):
            rows = [r for v in (getattr(self, what) or {}).values() for r in v]
            if any(len(r) != size for r in rows) or len(rows) > MOST_PICKED:
                raise QuiltError(self.words[what])
        known = PROJECTIONS if self.operation == "project" else WAYS
        if self.way not in known:
            raise QuiltError(f"'{self.way}' is not a way of doing this: {', '.join(known)}.")
        if not 2 <= self.parts <= MOST_PARTS:
            raise QuiltError(f"An island is cut into 2 to {MOST_PARTS} parts.")
        if self.view is not None and len(self.view) != 3:
            raise QuiltError("A direction has three numbers.")
        if not (self.edges or self.faces or self.islands):
            raise QuiltError("Pick edges, faces or islands first.")
        return self.model_dump()


class SeamWorth(Asked):
    """The objects by key whose seams are looked at; None for all."""

    objects: list[StrictStr] | None = None


def _changed(job: Job, w: Revision, stop: StopFlag) -> tuple[int, list[str]]:
    """Do the operation to a file's meshes; how often it was done, and what was refused."""
    p, file = job.params, str(w.old.pk)
    edges, faces, points = (by_mesh(w.scene, (p[k] or {}).get(file)) for k in ("edges", "faces", "points"))
    islands = np.array((p["islands"] or {}).get(file, []), np.int64)
    of_mesh = {m: mine for m, _, _, mine in w.layings(islands)} if len(islands) else {}
    count = 0
    refused: list[str] = []
    for m in steps(job, sorted({*edges, *faces, *of_mesh})):
        skin, laying = w.laying(m) if p["operation"] != "project" else w.laying_or_bare(m)
        picked = marked(skin, faces[m]) if m in faces else None
        if picked is not None and p["operation"] in ("relax", "square", "part", "sew_free", "across"):
            found = np.unique(laying.island[picked])
            of_mesh[m] = np.union1d(of_mesh.get(m, np.zeros(0, np.int64)), found[found >= 0])
        asked = hands.Asked(
            p["operation"], half_edges(skin, [(t, k) for t, k in edges.get(m, [])]), of_mesh.get(m, np.zeros(0, np.int64)), picked,
            p["relax"], p["way"], p["held"], None if p["view"] is None else np.array(p["view"], float), p["parts"],
            half_edges(skin, [(t, k) for t, k in points.get(m, [])]),
        )  # fmt: skip
        try:
            done = hands.do(skin, laying, asked, stop, lambda text: say(job, text))
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
            refused.append(str(e))
            continue
        refused += done.refused
        if done.touched.any():
            count += done.count
            made = revised(skin, done.laying, done.touched)
            w.made[m] = made
            if done.anew.any():
                w.anew[m] = np.unique(made.island[skin.kept[done.anew]]).astype(np.int64)
    return count, refused


def run_seams(job: Job) -> None:
    """Cut, sew, flatten, part, square or project what was picked: one undo step."""
    project, head, before = head_of(job)
    settings, stop, p = settings_of(head), StopFlag(job), job.params
    say(job, LABELS[p["operation"]])
    asked = {int(f) for k in ("edges", "faces", "islands") for f in (p[k] or {})}
    count, work = 0, list[Revision]()
    refused: list[str] = []
    for w in steps(job, list(opened(head, lambda f: f.pk in asked)), share=(0.0, 0.9)):
        n, why = _changed(job, w, stop)
        count, refused = count + n, refused + why
        work.append(w)
    work = [w for w in work if w.made]
    if not work:
        raise QuiltError(refused[0] if refused else "There was nothing to do here: everything is as it would be afterwards.")
    label = f"{LABELS[p['operation']]} ({count})" if count > 1 else LABELS[p["operation"]]
    kept = {k: p[k] for k in ("operation", "relax", "way", "held", "parts")}
    told = finish(
        job, project, head, before, work, settings, label, {"name": "seams", **kept}, apart=p["relax"] and p["operation"] in _LAYS_FLAT
    )
    job.result = {"changed": count, "objects": told, "refused": refused}


def run_worth(job: Job) -> None:
    """Measure what every seam is worth; nothing is changed."""
    _, head, _ = head_of(job)
    stop = StopFlag(job)
    keys = None if job.params["objects"] is None else set(job.params["objects"])
    rows: list[tuple[SeamRun, dict[str, Any]]] = []
    found = list(opened(head, lambda f: keys is None or any(k.startswith(f"{f.pk}/") for k in keys)))
    for w in steps(job, found):
        first: dict[int, int] = {}  # object of every mesh
        for n, o in enumerate(w.scene.objects):
            if (keys is None or f"{w.old.pk}/{n}" in keys) and w.pieces[o.mesh] is not None:
                first.setdefault(o.mesh, n)
        for m, n in steps(job, first.items()):
            skin, laying = w.laying(m)
            name = w.scene.objects[n].name
            runs = worth(skin, laying, stop, lambda text, name=name: say(job, f"{name}: {text}"))  # type: ignore[misc]
            rows += [(r, _row(w, n, skin, laying, r)) for r in runs]
    job.result = {"base": head.pk, "seams": [row for _, row in sorted(rows, key=lambda r: r[0].rank)]}


def _row(w: Revision, number: int, skin: Skin, laying: Laying, r: SeamRun) -> dict[str, Any]:
    start = w.first_island(w.scene.objects[number].mesh)

    def known(x: float) -> float | None:
        return float(x) if np.isfinite(x) else None

    shown = shown_places(skin.mesh)
    return {
        "file": w.old.pk, "object": number, "name": w.scene.objects[number].name, "islands": [start + i for i in r.islands],
        "edges": np.column_stack([shown[skin.kept[r.edges // 3]], r.edges % 3]).tolist(), "length": r.length, "open": r.open,
        "before": known(r.stretch[0]), "after": known(r.stretch[1]), "grown": known(r.grown), "why": r.why, "free": r.free,
    }  # fmt: skip


KINDS = (Kind("seams", run_seams, Seams), Kind("seam_worth", run_worth, SeamWorth))
