"""What of the meshes could be cleaned: counted and shown, nothing is changed."""

from __future__ import annotations

from typing import Any

import numpy as np
from pydantic import StrictStr

from quilt_core.formats.clean import KINDS as CLEANED
from quilt_core.formats.clean import found
from quilt_core.formats.model import corners_of
from quilt_core.model.scene import Mesh

from ...projects.geometry import shown_places
from ...projects.models import Job, SourceFile
from ...projects.sources import kept_scene
from ..kind import Asked, Kind
from ..landing import head_of
from ..progress import steps

_SHOWN = 3000  # triangles that are named


class Dirt(Asked):
    """The objects by key that are looked at; None for all."""

    objects: list[StrictStr] | None = None


def _row(mesh: Mesh) -> dict[str, Any]:
    """What was found: a count of each kind, and the triangles as shown that it is about."""
    c = corners_of(mesh, None, np.zeros(len(mesh.triangles), np.int64))
    f = found(mesh.positions, c)
    shown = shown_places(mesh)
    faces = {k: shown[np.flatnonzero(f.faces(k, c)[c.face_of])][:_SHOWN].tolist() for k in (*CLEANED, "loose") if k != "merged"}
    return {"counts": {k: n for k, n in f.counts.items() if n}, "faces": faces, "borders": f.borders, "parts": f.parts}


def run_dirt(job: Job) -> None:
    """Look at every mesh once; objects that place the same one have the same."""
    _, head, _ = head_of(job)
    keys = job.params["objects"]
    rows = []
    for file in steps(job, SourceFile.objects.filter(pk__in=head.files).order_by("pk")):
        scene = kept_scene(file)
        seen: set[int] = set()
        asked = [(n, o) for n, o in enumerate(scene.objects) if keys is None or f"{file.pk}/{n}" in keys]
        for n, o in steps(job, asked, lambda a: f"Looking at {a[1].name}"):
            if o.mesh in seen:
                continue
            seen.add(o.mesh)
            rows.append({"key": f"{file.pk}/{n}", "name": o.name, **_row(scene.meshes[o.mesh])})
    job.result = {"base": head.pk, "rows": rows, "changed": sum(bool(r["counts"]) for r in rows)}


KINDS = (Kind("dirt", run_dirt, Dirt),)
