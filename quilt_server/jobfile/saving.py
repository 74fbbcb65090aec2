"""A project as a job: what it decides, and what was done to its UVs and layout in order."""

from __future__ import annotations

import glob
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from quilt_core import formats
from quilt_core.errors import QuiltError

from ..jobs.kinds.pack import Variant
from ..projects.figures import sheet_rows
from ..projects.models import Job, Layout, Project, Snapshot, SourceFile
from ..projects.sheets import FIRST, IN_RECIPE, of_sheet, sheets
from ..projects.sources import as_it_first_came
from ..projects.state import RECIPE, all_work, settings_of, source_files
from .model import (
    UNITS,
    Bunch,
    Check,
    Delivery,
    Input,
    JobFile,
    Link,
    NamedRecipe,
    Out,
    Recipe,
    Rule,
    Sheet,
    TestBake,
    Together,
    Twins,
    Unit,
    UnitOf,
    Who,
)
from .steps import MAKES_UVS, again, named, numbered
from .text import parsed, plain
from .who import People

_RULES = (("weights", "weight"), ("rotations", "rotate"), ("sheet_of", "sheet"), ("tile_of", "tile"))


@dataclass
class Saved:
    """The job, and in words what of the project does not stand in it."""

    job: JobFile
    notes: list[str] = field(default_factory=list)


def job_of(project: Project) -> Saved:
    """What a project decides, as a job.

    Raises
    ------
    QuiltError : there is nothing in it
    """
    head = project.head
    if head is None or not head.files:
        raise QuiltError("There is nothing in this project yet. Bring in a mesh first.")
    settings, people = settings_of(head), People(head)
    steps, notes = _steps(project, head, settings, people)
    own = {k: settings[k] for k in ("map_px", *IN_RECIPE)}
    job = JobFile(
        name=project.name, input=_input(head, settings), recipe=Recipe(**own),
        recipes={name: NamedRecipe(**r) for name, r in settings["recipes"].items()}, sheets=_sheets(settings), rules=_rules(head, settings, people),
        twins=[Twins(members=_members(g, people)) for g in settings["twins"]],
        bunches=[Bunch(name=b["name"], strict=b["strict"], members=_members(b["members"], people)) for b in settings["bunches"]],
        links=[Link(members=_members(x["members"], people), onto=x["onto"]) for x in settings["links"]],
        together=Together(objects=settings["bunch_objects"], apart_px=settings["apart_px"]),
        check=Check(band=settings["band"], density_least=settings["density_least"], density_greatest=settings["density_greatest"]),
        out=Out(channel=settings["channel_out"], names=settings["channel_names"]), delivery=_delivery(project, settings), bake=_bake(project, settings, people),
    )  # fmt: skip
    packed = any(s["do"] in ("pack", "ready") for s in steps)
    for n in reversed(range(len(steps))):
        try:
            parsed({"job": 1, "steps": [steps[n]]}, project.name)
        except QuiltError:  # a saved project that was opened here may hold anything
            notes.append(f"'{steps[n]['do']}' was done with values that make no step; it is not in the job.")
            del steps[n]
    job = parsed({**plain(job), "steps": steps, "pack": not packed and not steps}, project.name)
    if not packed and not steps:
        notes.append("Nothing was packed yet: the job packs all sheets.")
    job.input.seen = _seen(job, head)
    return Saved(job, notes)


def _input(head: Snapshot, settings: Mapping[str, Any]) -> Input:
    """The files in the order in which they came."""
    files = sorted(((as_it_first_came(f).pk, f) for f in source_files(head).values()), key=lambda x: x[0])
    said = Counter(f.unit_m for _, f in files if not _says_unit(f))
    usual = said.most_common(1)[0][0] if said else 1.0
    other = [f for _, f in files if f.unit_m != formats.unit_for(f.name, usual)]
    return Input(
        files=[glob.escape(f.name) for _, f in files], unit=_unit(usual), channel=settings["channel_in"],
        units=[UnitOf(files=[glob.escape(f.name)], unit=_unit(f.unit_m)) for f in other],
    )  # fmt: skip


def _says_unit(file: SourceFile) -> bool:
    return formats.unit_for(file.name, 0.5) == 1.0


def _unit(metres: float) -> Unit:
    for name, value in UNITS.items():
        if value == metres:
            return name  # type: ignore[return-value]
    return metres


def _sheets(settings: Mapping[str, Any]) -> list[Sheet]:
    return [
        Sheet(**{k: v for k, v in s.items() if k in FIRST} | {"id": None if s["id"] == n + 1 else s["id"]})
        for n, s in enumerate(settings["sheets"])
    ]


def _members(keys: list[str], people: People) -> list[Who]:
    return people.called(keys)


def _rules(head: Snapshot, settings: Mapping[str, Any], people: People) -> list[Rule]:
    """The rules on objects and islands, those of one value together."""
    names = {s["id"]: s["name"] for s in sheets(dict(settings))}
    out = []
    for setting, what in _RULES:
        of: dict[Any, list[str]] = {}
        for key, value in settings[setting].items():
            of.setdefault(names[value] if what == "sheet" else value, []).append(key)
        out += [Rule(**who.model_dump(), **{what: value}) for value, keys in of.items() for who in people.called(keys)]
    out += [Rule(**who.model_dump(), held=True) for who in people.called(settings["held"])]
    return out + [Rule(**who.model_dump(), left_out=True) for who in people.called(head.left_out)]


def _steps(project: Project, head: Snapshot, settings: dict[str, Any], people: People) -> tuple[list[dict[str, Any]], list[str]]:
    rows = sheet_rows(head)
    names = {s["id"]: s["name"] for s in sheets(settings)}
    work = all_work(head)
    found, notes = again(work, names, [r["id"] for r in rows if r["kept"] and r["islands"]], bool(settings["held"]))
    if any(f.revision for f in source_files(head).values()) and not any(w["do"] in MAKES_UVS or settings["texel_grid"] for w in work):
        notes.append("UVs were made here by an older version, which did not keep how: the job takes them as they come in the files.")
    if settings["shelved"]:
        notes.append(f"What was laid out in UV channel {', '.join(sorted(settings['shelved']))} is not in the job.")
    if settings["pictures"]:
        notes.append("Pictures under tiles are not in the job.")
    for r in rows:
        if r["kept"] and r["stale"] and not any(w["do"] == "keep" and r["name"] in w["sheets"] for w in found):
            notes.append(f"{r['name']} is stale ({', '.join(r['stale'])}): the job packs it as the settings are now.")
    steps = []
    for w in found:
        try:
            steps += _kept(w, head, settings) if w["do"] == "keep" else [named(w, people)]
        except QuiltError as e:
            notes.append(f"{e} The step is not in the job.")
    return steps, notes


def _kept(step: dict[str, Any], head: Snapshot, settings: dict[str, Any]) -> list[dict[str, Any]]:
    """The packing that gives the try which was chosen for each sheet: with what it was made with where its recipe has other values."""
    out = []
    for s in (s for s in sheets(settings) if s["name"] in step["sheets"]):
        try_ = Layout.objects.filter(pk=head.kept.get(str(s["id"]), 0)).first()
        flat = of_sheet(settings, s["id"])
        made = flat if try_ is None or not try_.recipe else of_sheet(RECIPE | try_.recipe, s["id"])
        differ = {k: made[k] for k in Variant.model_fields if k in made and made[k] != flat[k] and made[k] is not None}
        out.append({"do": "pack", "sheets": [s["name"]], **({"variants": [differ]} if differ else {})})
    return out


def _delivery(project: Project, settings: dict[str, Any]) -> Delivery:
    """As it was delivered last."""
    last = Job.objects.filter(project=project, kind="deliver", state="done").order_by("-pk").first()
    if last is None:
        return Delivery()
    order = dict(last.params.get("order", {}))
    names = {s["id"]: s["name"] for s in sheets(settings)}
    order["sheet"] = names.get(order.get("sheet"))
    return Delivery(**{k: v for k, v in order.items() if k in Delivery.model_fields})


def _bake(project: Project, settings: dict[str, Any], people: People) -> TestBake | None:
    """As it was baked last."""
    last = Job.objects.filter(project=project, kind="bake", state="done").order_by("-pk").first()
    if last is None:
        return None
    names, objects = {s["id"]: s["name"] for s in sheets(settings)}, {o.key: o.name for o in people.objects}
    p = {k: v for k, v in last.params.items() if k in TestBake.model_fields}
    p["sheet"] = names.get(p.get("sheet"))
    p["pairs"] = {objects[a]: objects[b] for a, b in (p.get("pairs") or {}).items() if a in objects and b in objects}
    return TestBake(**p)


def _seen(job: JobFile, head: Snapshot) -> dict[str, str]:
    """What the files were of which something is told by number."""
    told = {f for s in job.steps for f in numbered(s)}
    groups: list[list[Who]] = [g.members for g in job.twins] + [g.members for g in job.bunches] + [g.members for g in job.links]
    patterns = [r for r in (*job.rules, *(w for members in groups for w in members)) if r.islands is not None]
    told |= {f.name for f in source_files(head).values() for r in patterns if r.files is None or glob.escape(f.name) in r.files}
    return {f.name: f.original_id for f in source_files(head).values() if f.name in told}
