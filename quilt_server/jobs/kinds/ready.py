"""Make it ready: what cannot be saved is made anew, mirrored islands are flipped back, twins marked if wanted, everything packed and proven. One undo step."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from django.db import transaction
from pydantic import StrictBool

from quilt_core.errors import NothingToDo, QuiltError
from quilt_core.unwrap.meshes import Options
from quilt_core.unwrap.scenes import beyond_saving, flattened, overlapping

from ...projects.figures import sheet_rows, whole, whole_verdict
from ...projects.measuring import lie_of, rows_of
from ...projects.models import Job, Project, Snapshot
from ...projects.objects import detail_of
from ...projects.proposals import drop
from ...projects.reading import choose, parts_of
from ...projects.state import advance, readings, settings_of, source_files, steps_aside
from ..kind import Asked, Kind, Real
from ..landing import head_of
from ..progress import StopFlag, say
from ..proving import prove_bleed
from ..revising import finish
from ..revision import Revision, opened
from .clean import Clean, run_clean
from .pack import Pack, run_pack
from .repair import Repair, run_repair
from .seams import Seams, run_seams
from .twins import Twins, run_twins
from .unwrap import Unwrap, run_unwrap

_ROUNDS = 2  # of parting and unwrapping again what is left


class Ready(Asked):
    """How much stretch is allowed where UVs are made anew, whether islands that lie on each other become twins, and whether meshes are cleaned first."""

    words: ClassVar = {"stretch": "The allowed stretch is from 1.02 to 4."}
    stretch: Real = 1.25
    material_borders: StrictBool = False
    twins: StrictBool = False
    clean: StrictBool = False

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        Options(self.stretch)
        return self.model_dump()


class Flatten(Asked):
    """How much stretch is allowed of what is laid flat again without other seams."""

    words: ClassVar = {"stretch": "The allowed stretch is from 1.02 to 4."}
    stretch: Real = 1.25

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        Options(self.stretch)
        return self.model_dump()


class _Way:
    """The steps from a bought kit to one that is ready, each made on the one before and none a step of the project; what was done to which object."""

    def __init__(self, job: Job, head: Snapshot, chain: list[Snapshot]) -> None:
        self.job, self.first, self.chain, self.asked = job, head, chain, dict(job.params)
        self.was = _figures(head)
        self.names = [str(n) for n in range(len(self.was))]
        self.done: dict[str, list[str]] = {k: [] for k in self.names}
        self.refused: dict[str, list[dict[str, str]]] = {k: [] for k in self.names}

    def step(self, what: str, run: Any, params: dict[str, Any]) -> bool:
        """Do one step on the project as it is now; whether there was anything to do."""
        before = self.head.pk
        self.job.params, self.job.result = {**params, "base": before}, {}
        try:
            run(self.job)
        except QuiltError as e:
            if type(e) not in (QuiltError, NothingToDo) or what == "pack":
                raise
            return False
        return self.head.pk != before

    def make(self, what: str, run: Any, params: dict[str, Any]) -> None:
        """Do a step that makes UVs anew, and write down to which objects it was done."""
        before = _figures(self.head)
        if self.step(what, run, params):
            now = _figures(self.head)
            self.note(what, {n for n, (a, b) in enumerate(zip(before, now, strict=True)) if a != b})

    def note(self, what: str, places: set[int]) -> None:
        """Write down that a step was done to objects, named by where they stand among all."""
        for n, k in enumerate(self.names):
            if n in places and what not in self.done[k]:
                self.done[k].append(what)

    @property
    def head(self) -> Snapshot:
        """The state that the next step is made on."""
        return self.chain[-1] if self.chain else self.first


def _figures(head: Snapshot) -> list[dict[str, Any]]:
    """Figures of all objects, in the order of the snapshot's files: it stays whatever is made anew."""
    settings, given = settings_of(head), detail_of(head)
    out: list[dict[str, Any]] = []
    for f in (source_files(head)[k] for k in head.files):
        w = Revision(f, int(settings["channel_in"]))
        found = {m: w.figures(m) for m in {o.mesh for o in w.scene.objects}}
        out += [
            {"name": o.name, **found[o.mesh].as_dict(), "left": [] if f"{f.pk}/{n}" in given else beyond_saving(found[o.mesh])}
            for n, o in enumerate(w.scene.objects)
        ]
    return out


def _mirrored(head: Snapshot) -> set[int]:
    """Places of objects with mirrored islands."""
    if head.layout is None or (found := lie_of(head.layout)) is None:
        return set()
    parts = parts_of(choose(head, whole=True))
    flipped = parts.shapes.flipped(rows_of(head.layout)[:, 1]) & (found[0].sheet >= 0)
    counts = [count for _, _, count in parts.places]
    owners, file = np.repeat(parts.owners, counts), np.repeat([f for f, _, _ in parts.places], counts)
    # Owners count through the files by number, places through them as the snapshot has them.
    sizes = {r.file_id: len(r.objects_info) for r in readings(head)}
    shift = {f: sum(sizes[k] for k in head.files[:n]) - sum(v for k, v in sizes.items() if k < f) for n, f in enumerate(head.files)}
    return {int(o) + shift[int(f)] for o, f in zip(owners[flipped], file[flipped], strict=True)}


def run_ready(job: Job) -> None:
    """Do the whole way. It is one step of the project, or none: whatever ends it before leaves the project as it was."""
    head = head_of(job)[1]
    say(job, "Looking at what there is")
    with steps_aside() as chain:
        way = _Way(job, head, chain)
        try:
            packed = _gone(way)
        except BaseException:
            drop([s.pk for s in reversed(chain)])
            raise
    _as_one_step(way)
    _tell(way, packed)


def _gone(way: _Way) -> dict[str, Any]:
    """Do all steps; what the packing says of itself."""
    job = way.job
    asked = way.asked
    if asked["clean"]:
        way.make("clean", run_clean, Clean().model_dump())
    unwrap = Unwrap(stretch=asked["stretch"], material_borders=asked["material_borders"]).model_dump()
    for what, run, params in (("relax", run_flatten, {"stretch": asked["stretch"]}), ("unwrap", run_unwrap, unwrap)):
        way.make(what, run, params)
        for row in job.result.get("objects", []):
            if row.get("why"):
                for n, f in enumerate(way.was):
                    if f["name"] == row["name"]:
                        way.refused[str(n)].append({"what": what, "why": row["why"]})
    _once_more(way, unwrap)
    mirrored = _mirrored(way.head)
    if mirrored and way.step("flip", run_repair, Repair(action="flip").params({})):
        way.note("flip", mirrored)
    if asked["twins"]:
        way.step("twins", run_twins, Twins().model_dump())
    way.step("pack", run_pack, Pack(sheets=[r["id"] for r in sheet_rows(way.head) if r["islands"]]).model_dump())
    told = dict(job.result)
    if way.head.layout is not None:
        prove_bleed(job, way.head, way.head.layout)
    return told


def _once_more(way: _Way, unwrap: dict[str, Any]) -> None:
    """What folds or lies double after all that: its parts are parted, and what cannot be saved then is made anew, for as long as less of it is left."""

    def left() -> int:
        return sum(len(f["left"]) > 0 for f in _figures(way.head))

    before = left()
    for _ in range(_ROUNDS if before else 0):
        if (double := _part(way.head)) is not None:
            way.make("part", run_seams, double)
        way.make("unwrap", run_unwrap, unwrap)
        now = left()
        if not 0 < now < before:
            return
        before = now


def _part(head: Snapshot) -> dict[str, Any] | None:
    """The islands that lie double, as what is to be parted; None for none."""
    islands: dict[str, list[int]] = {}
    for w in opened(head):
        start = 0
        for piece in w.pieces:
            if piece is not None:
                islands.setdefault(str(w.old.pk), []).extend((start + np.flatnonzero(overlapping(piece))).tolist())
                start += piece.islands.count
    found = {k: v for k, v in islands.items() if v}
    return Seams(operation="part", islands=found).params({}) if found else None


def _tell(way: _Way, packed: dict[str, Any]) -> None:
    """Write what was done to which object, and what it came to."""
    job = way.job
    job.params = {**way.asked, "base": way.first.pk}
    now = _figures(way.head)
    rows = sheet_rows(way.head)
    said = whole_verdict(rows)
    keys = [f"{r.file_id}/{n}" for f in way.head.files for r in readings(way.head) if r.file_id == f for n in range(len(r.objects_info))]
    objects = [
        {
            "key": keys[n],
            "name": a["name"],
            "was": a,
            "now": b,
            "done": way.done[str(n)],
            "refused": way.refused[str(n)] if b["left"] else [],
            "left": b["left"],
        }
        for n, (a, b) in enumerate(zip(way.was, now, strict=True))
    ]
    job.result = {
        "changed": sum(1 for o in objects if o["done"]), "objects": objects, "verdict": "" if said is None else said.line,
        "reasons": [] if said is None else said.reasons, "coverage": (whole(way.head, rows) or {}).get("coverage"), "grade": "" if said is None else said.grade, "summary": packed.get("summary", []),
    }  # fmt: skip


def run_flatten(job: Job) -> None:
    """Lay islands flat again that need no other seams for it."""
    project, head, before = head_of(job)
    settings, stop = settings_of(head), StopFlag(job)
    say(job, "Laying flat what can be saved")
    work = []
    for w in opened(head):
        for m, piece in enumerate(w.pieces):
            if (
                piece is not None
                and (made := flattened(w.scene, m, w.channel, piece, job.params["stretch"], w.roots.get(m), stop)) is not None
            ):
                w.made[m] = made
        if w.made:
            work.append(w)
    if not work:
        raise NothingToDo("Nothing here can be saved by laying it flat again.")
    finish(job, project, head, before, work, settings, "Lay flat again", {"name": "flattened", **job.params})


def _as_one_step(way: _Way) -> None:
    """Make the last of the steps the project's next one: undo goes back to where the way began.

    Raises
    ------
    QuiltError : the project moved on meanwhile
    """
    last, steps = way.head, [s.pk for s in reversed(way.chain)]
    with transaction.atomic():
        project = Project.objects.get(pk=way.job.project_id)
        moved = project.head_id != way.first.pk
        if not moved and way.chain:
            way.chain[:] = [
                advance(
                    project, "Make it ready", way.first, last.layout, files=last.files, left_out=last.left_out, settings=last.settings, kept=last.kept
                )
            ]  # fmt: skip
        drop(steps)
    if moved:
        raise QuiltError("The project was changed while it was made ready, so nothing was done. Make it ready again.")


KINDS = (Kind("ready", run_ready, Ready), Kind("flatten", run_flatten, Flatten))
