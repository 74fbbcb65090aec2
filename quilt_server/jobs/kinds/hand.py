"""Points and the brush: an island shaped by hand, each drag or stroke one undo step with new UVs."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import BaseModel, StrictBool, StrictStr

from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats
from quilt_core.unwrap import points
from quilt_core.unwrap.brush import Brush, dabs_of
from quilt_core.unwrap.seams import half_edges
from quilt_core.unwrap.skin import Laying, Skin, revised
from quilt_core.unwrap.topology import Mask

from ...projects.models import Job
from ...projects.opened import arrays_of
from ...projects.state import settings_of
from ..kind import Asked, FileNumber, Kind, Number, Real
from ..landing import head_of
from ..picked import by_mesh
from ..progress import StopFlag, say
from ..revising import finish
from ..revision import Revision, opened

LABELS = {"move": "Move points", "line": "Line points up", "weld": "Weld points", "part": "Part points", "brush": "Brush"}


class Stroke(BaseModel):
    """Dabs [u, v, radius, strength] on an island of a file, in its own UVs; `held`: its outline stays."""

    file: Number
    island: Number
    held: StrictBool = False
    dabs: list[list[Real]] = []


class Hand(Asked):
    """The operation; points [object, triangle as shown, corner] by file, which for the brush are those that stay.

    by : how far points move on the sheet, with what is near, within `reach`; how : the line; near : from how far points are welded
    refuse : nothing is done where something would fold or overlap itself that does not now
    """

    words: ClassVar = {"points": "Points are picked as object, triangle and corner.", "by": "A move has two numbers."}
    operation: StrictStr = ""
    points: dict[FileNumber, list[list[Number]]] | None = None
    by: list[Real] = [0.0, 0.0]
    reach: Real = 0.0
    how: StrictStr = "row"
    near: Real = 0.01
    refuse: StrictBool = True
    strokes: list[Stroke] = []

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if self.operation not in LABELS:
            raise QuiltError(f"'{self.operation}' is nothing that a hand does: {', '.join(LABELS)}.")
        if any(len(r) != 3 for rows in (self.points or {}).values() for r in rows):
            raise QuiltError(self.words["points"])
        if len(self.by) != 2 or any(abs(x) > 1e4 for x in self.by) or not 0 <= self.reach <= 1e4 or not 0 <= self.near <= 1e4:
            raise QuiltError("A move has two numbers, and reaches from 0 on.")
        if self.how not in points.LINES:
            raise QuiltError(f"'{self.how}' is no line: {', '.join(points.LINES)}.")
        if self.operation == "brush":
            dabs_of([d for s in self.strokes for d in s.dabs])
            if not any(s.dabs for s in self.strokes):
                raise QuiltError("Brush over an island first.")
        elif not any((self.points or {}).values()):
            raise QuiltError("Pick points first.")
        return self.model_dump()


def _on_points(p: dict[str, Any], skin: Skin, laying: Laying, corners: list[list[int]], places: Floats) -> tuple[Laying, Mask]:
    h = half_edges(skin, [(t, k) for t, k in corners])
    on = points.laid_out(laying, places)
    if p["operation"] == "move":
        out, touched = points.moved(skin, on, h, np.array(p["by"]), p["reach"], p["refuse"])
    elif p["operation"] == "line":
        out, touched = points.lined(skin, on, h, p["how"], p["refuse"])
    elif p["operation"] == "weld":
        out, touched = points.welded(skin, on, h, p["near"], p["refuse"])
    else:
        out, touched = points.parted(skin, on, h)
    return points.taken_back(skin, out, laying, touched, places), touched


def _shaped(job: Job, w: Revision, rows: Floats) -> int:
    """Do it to a file's meshes; to how many."""
    p = job.params
    picked = by_mesh(w.scene, (p["points"] or {}).get(str(w.old.pk)))
    if p["operation"] == "brush":
        return _brushed(job, w, picked)
    for m, corners in picked.items():
        skin, laying = w.laying(m)
        out, touched = _on_points(p, skin, laying, corners, w.rows(m, rows))
        w.made[m] = revised(skin, out, touched)
    return len(picked)


def _brushed(job: Job, w: Revision, held: dict[int, list[list[int]]]) -> int:
    """All strokes on a file, one after the other."""
    layings: dict[int, tuple[Skin, Laying, Mask]] = {}
    count = 0
    for stroke in job.params["strokes"]:
        if stroke["file"] != w.old.pk or not stroke["dabs"]:
            continue
        StopFlag(job).raise_if()
        found = [(m, mine) for m, _, _, mine in w.layings(np.array([stroke["island"]], np.int64))]
        if not found:
            raise QuiltError("This island is not there any more. Take the brush to it anew.")
        m, mine = found[0]
        skin, laying, touched = layings.get(m) or (*w.laying(m), np.zeros(0, bool))
        stay = half_edges(skin, [(t, k) for t, k in held.get(m, [])])
        brush = Brush(skin, laying, int(mine[0]), stroke["held"], stay)
        for d in dabs_of(stroke["dabs"]):
            brush.dab(d)
        brush.settled()
        touched = touched if len(touched) else np.zeros(len(skin.kept), bool)
        if brush.touched.any():
            touched = touched | (laying.island == mine[0])
            count += 1
        layings[m] = (skin, brush.laying(), touched)
    for m, (skin, laying, touched) in layings.items():
        if touched.any():
            w.made[m] = revised(skin, laying, touched)
    return count


def run_hand(job: Job) -> None:
    """Do to points or islands what the hand did: one undo step."""
    project, head, before = head_of(job)
    settings, p = settings_of(head), job.params
    say(job, LABELS[p["operation"]])
    transforms = arrays_of(before, "transforms")
    asked = {int(f) for f in (p["points"] or {})} | {s["file"] for s in p["strokes"]}
    work, count = list[Revision](), 0
    for w in opened(head, lambda f: f.pk in asked):
        count += _shaped(job, w, transforms[str(w.old.pk)])
        work.append(w)
    work = [w for w in work if w.made]
    if not work:
        raise QuiltError("Nothing moved: what is under the hand lies as it should, or stays where it is held.")
    kept = {k: p[k] for k in ("operation", "by", "reach", "how", "near")}
    told = finish(job, project, head, before, work, settings, LABELS[p["operation"]], {"name": "hand", **kept})
    job.result = {"changed": count, "objects": told}


KINDS = (Kind("hand", run_hand, Hand),)
