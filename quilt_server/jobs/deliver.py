"""The zip: every file with its new UVs, the template, the report."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import replace
from typing import Any

from django.db import transaction

from quilt_core import formats, report
from quilt_core.errors import QuiltError
from quilt_core.faults.layout import prove
from quilt_core.scene import Floats
from quilt_core.sheet import analyse, transform_rows

from ..projects.geometry import from_npz
from ..projects.models import Job, Original, Project, Snapshot
from ..projects.reading import Chosen, choose, picture, sheet_of
from ..projects.state import settings_of
from .progress import report_progress

MOST_TILES = 20  # templates in one zip


def run_deliver(job: Job) -> None:
    """Write the zip and prove what was written."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.layout is None:
        raise QuiltError("There is nothing to deliver yet. Bring in a mesh first.")
    settings = settings_of(head)
    tables = from_npz(head.layout.tables)
    chosen = choose(head)
    out = io.BytesIO()
    again: list[Chosen] = []
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for n, c in enumerate(chosen):
            report_progress(job, {"text": f"Writing {c.file.name}", "part": n / len(chosen)})
            again.append(_write(archive, c, tables[str(c.file.pk)], int(settings["channel_out"])))
        report_progress(job, {"text": "Proving what was written", "part": 0.9})
        figures, tiles = _figures(project, head, chosen, again)
        archive.writestr("report.json", json.dumps(figures, indent=2))
        sheet = sheet_of(chosen)
        for tile in tiles[:MOST_TILES]:
            archive.writestr(f"template.{tile}.png", picture(sheet, sheet.split(tables), int(settings["map_px"]), None, tile))
    with transaction.atomic():
        job.output = out.getvalue()
        job.result = {"bytes": len(job.output), "figures": figures}


def _write(archive: zipfile.ZipFile, c: Chosen, table: Floats, channel: int) -> Chosen:
    """Put a file with its new UVs and companions into the zip; returns it as read back from what was written."""
    file, starts = c.file, c.starts()
    folder = file.name.rsplit("/", 1)[0] + "/" if "/" in file.name else ""
    uvs = {
        m: transform_rows(p.uvs, p.islands.of_row, table[starts[m] : starts[m] + p.islands.count])
        for m, p in enumerate(c.pieces)
        if p is not None
    }
    written = formats.write(c.scene, uvs, channel)
    names = {folder + (k or file.name.rsplit("/", 1)[-1]): v for k, v in written.items()}
    for path, sha in file.companions.items():
        names.setdefault(folder + path, bytes(Original.objects.get(pk=sha).data))
    for name, body in names.items():
        if name not in archive.namelist():
            archive.writestr(name, body)
    scene = formats.read(names[file.name], file.name, file.unit_m, {k[len(folder) :]: v for k, v in names.items()})
    pieces = [p if w is not None else None for p, w in zip(analyse(scene, channel), c.pieces, strict=True)]
    return replace(c, scene=scene, pieces=pieces)


def _figures(project: Project, head: Snapshot, chosen: list[Chosen], again: list[Chosen]) -> tuple[dict[str, Any], list[int]]:
    """The report, and the tiles in use."""
    map_px = int(settings_of(head)["map_px"])
    pieces = [p for c in again for p in c.pieces if p is not None]
    proof = prove(pieces, None, map_px)
    spread = report.overall_density(pieces, None, map_px)
    figures = {
        "project": project.name, "map_px": map_px, **report.proof_figures(proof), "islands": proof.islands,
        "coverage": round(sum(c for c, _ in proof.coverage.values()), 6), "ok": proof.ok,
        "overlap_pairs": proof.overlap_pairs, "density_px_per_m": None if spread is None else spread.median, "settings": settings_of(head),
        "left_as_it_was": [f"{c.file.name}: {o.name}" for c in chosen for o in c.scene.objects if c.pieces[o.mesh] is None],
    }  # fmt: skip
    return figures, sorted(proof.coverage) or [1001]
