"""Several ways to unwrap the same, from few seams to little stretch, each as a state to look at before one is taken."""

from __future__ import annotations

from typing import Any

import numpy as np

from quilt_core.arrange.sheet import pack_sheet
from quilt_core.errors import Cancelled, QuiltError
from quilt_core.pack import Recipe
from quilt_core.unwrap.scenes import largest_placing
from quilt_core.uv.density import world_areas

from ...projects.doing import doing
from ...projects.models import Job
from ...projects.proposals import drop, forget_proposals, propose
from ...projects.sheets import of_sheet, sheets
from ...projects.state import settings_of
from ..kind import Kind
from ..landing import head_of
from ..progress import StopFlag, say, steps
from ..revising import prepared
from ..revision import Revision
from .unwrap import Unwrap, label_of, unwrapped

WAYS = {1.25: "some of both", 1.6: "few seams", 1.1: "little stretch"}  # the middle one first: it is the one most often taken
_SAME = 0.005  # shares and seams that differ by less are alike
_SECONDS = 1.5  # of packing, to tell what could be covered


def run_propose(job: Job) -> None:
    """Unwrap in several ways; none is the project's next step until it is taken. One that another beats in everything is no choice, and is left out. A stop
    keeps those that there are."""
    project, head, before = head_of(job)
    forget_proposals(project)
    settings, stop = settings_of(head), StopFlag(job)
    rows: list[dict[str, Any]] = []
    for stretch, name in steps(job, WAYS.items(), stops=False):

        def tell(text: str, name: str = name) -> None:
            say(job, f"{name}: {text}", proposals=rows)

        tell("Looking at the UVs that there are")
        params = {**job.params, "stretch": stretch}
        try:
            made, refused = unwrapped(job, head, params, tell)
            step = prepared(job, project, head, before, made, dict(settings), {"name": "unwrap", **params})
            row = {
                "name": name,
                "stretch": stretch,
                "objects": step.told + refused,
                **_figures(made),
                "coverage": _coverage(made, settings, stop),
            }
            with doing("unwrap", params):
                row["snapshot"] = propose(project, head, step.layout, label_of(made), **step.changes).pk
        except Cancelled:
            if not rows:
                raise
            break
        rows.append(row)
    best = [r for k, r in enumerate(rows) if not any(_beaten(r, o) for o in rows) and not any(_alike(r, o) for o in rows[:k])]
    drop([r["snapshot"] for r in rows if r not in best])
    job.result = {"base": head.pk, "proposals": sorted(best, key=lambda r: -r["stretch"])}


def _beaten(row: dict[str, Any], other: dict[str, Any]) -> bool:
    """Whether another proposal has fewer metres of seam and no more stretch, or less stretch for no more seam."""
    seam, flat = other["seam_m"] - row["seam_m"], other["under_1_1"] - row["under_1_1"]
    return bool((seam < -_SAME * row["seam_m"] and flat > -_SAME) or (flat > _SAME and seam <= 0))


def _alike(row: dict[str, Any], other: dict[str, Any]) -> bool:
    """Whether two proposals are no choice: neither the seams nor the stretch differ."""
    return abs(row["seam_m"] - other["seam_m"]) <= _SAME * other["seam_m"] and abs(row["under_1_1"] - other["under_1_1"]) <= _SAME


def _figures(made: list[Revision]) -> dict[str, Any]:
    """Figures of all objects with new UVs together: sums, and shares by area."""
    every, area = [], []
    for w in made:
        for m in w.made:
            every.append(w.now(m))
            area.append(float(world_areas(w.scene.meshes[m], largest_placing(w.scene, m)).sum()))
    share = np.array(area) / max(sum(area), 1e-300)
    return {
        "islands": sum(f.islands for f in every), "seam_m": round(sum(f.seam_m for f in every), 5),
        "under_1_1": float(share @ [f.under_1_1 for f in every]), "under_1_5": float(share @ [f.under_1_5 for f in every]),
        "worst": round(max(f.worst for f in every), 3),
    }  # fmt: skip


def _coverage(made: list[Revision], settings: dict[str, Any], stop: StopFlag) -> float | None:
    """What the objects with new UVs would cover, packed alone for a moment by the first sheet's recipe; None where that is not to be told."""
    flat = of_sheet(settings, sheets(settings)[0]["id"])
    pieces = [w.new_pieces[m] for w in made for m in w.made]
    recipe = Recipe(
        map_px=int(flat["map_px"]),
        padding_px=float(flat["padding_px"]),
        margin_px=float(flat["margin_px"]),
        rotate=flat["rotate"],
        seconds=_SECONDS,
    )
    try:
        return round(float(pack_sheet([p for p in pieces if p is not None], recipe, stop=stop).result.best.coverage), 3)
    except Cancelled:
        raise
    except QuiltError:
        return None


KINDS = (Kind("propose", run_propose, Unwrap),)
