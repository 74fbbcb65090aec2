"""The zip: every file with its new UVs, the template, the report."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import replace
from typing import Any

import numpy as np
from django.db import transaction

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.scene import Floats
from quilt_core.sheet import IDENTITY, analyse, transform_rows

from ..projects.geometry import from_npz
from ..projects.models import Job, Original, Project
from ..projects.reading import Chosen, choose, figures_of, parts_of, picture, sheet_numbers, twin_groups
from ..projects.sheets import grid, of_sheet, sheets
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
            again.append(_write(archive, c, tables[str(c.file.pk)], _channels(c, settings)))
        report_progress(job, {"text": "Proving what was written", "part": 0.9})
        figures = _figures(project, settings, chosen, again)
        archive.writestr("report.json", json.dumps(figures, indent=2))
        _templates(archive, again, settings, figures)
    with transaction.atomic():
        job.output = out.getvalue()
        job.result = {"bytes": len(job.output), "figures": figures}


def file_name(text: str) -> str:
    """A name as a part of a file name."""
    return "".join(c if c.isalnum() or c in "-_ " else "_" for c in text).strip() or "sheet"


def _templates(archive: zipfile.ZipFile, again: list[Chosen], settings: dict[str, Any], figures: dict[str, Any]) -> None:
    """The template of every tile in use, each at its own resolution."""
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on = sheet_numbers(again, parts, settings)
    every = sheets(settings)
    count = 0
    for s in every:
        tiles = grid(of_sheet(settings, s["id"]))
        used = [t["tile"] for t in figures["sheets"][s["name"]]["tiles"] if t["islands"]]
        for tile in used:
            count += 1
            if count > MOST_TILES:
                return
            name = f"template.{tile}.png" if len(every) == 1 else f"{file_name(s['name'])}.template.{tile}.png"
            archive.writestr(name, picture(parts, rows, on == s["id"], tiles.tile_px.get(tile, tiles.px), None, tile))


def _channels(c: Chosen, settings: dict[str, Any]) -> dict[int, int]:
    """The UV channel that each mesh of a file is written to: that of the sheet that its islands lie on.

    Raises
    ------
    QuiltError : one mesh lies on sheets that write different channels
    """
    usual = int(settings["channel_out"])
    channel = {s["id"]: usual if s["channel"] is None else int(s["channel"]) for s in sheets(settings)}
    parts = parts_of([c])
    on = parts.pieced(sheet_numbers([c], parts, settings))
    out: dict[int, int] = {}
    for (m, piece), numbers in zip([(m, p) for m, p in enumerate(c.pieces) if p is not None], on, strict=True):
        found = {channel[int(s)] for s in numbers}
        if len(found) > 1:
            raise QuiltError(
                f"{piece.objects[0].name} lies on sheets that write different UV channels. Put it on one, or give both one channel."
            )
        out[m] = found.pop() if found else usual
    return out


def _written(c: Chosen, uvs: dict[int, Floats], channel: dict[int, int]) -> dict[str, bytes]:
    """The file with its new UVs; where meshes are written to different channels, one channel after the other."""
    scene, out = c.scene, {}
    beside = {path: bytes(Original.objects.get(pk=sha).data) for path, sha in c.file.companions.items()}
    for number in sorted(set(channel.values())) or [0]:
        out = formats.write(scene, {m: uv for m, uv in uvs.items() if channel[m] == number}, number)
        beside |= {k: v for k, v in out.items() if k}
        if len(set(channel.values())) > 1:
            scene = formats.read(out[""], c.file.name, c.file.unit_m, beside)
    return {**{k: v for k, v in beside.items() if k in out}, **out}


def _write(archive: zipfile.ZipFile, c: Chosen, table: Floats, channel: dict[int, int]) -> Chosen:
    """Put a file with its new UVs and companions into the zip; returns it as read back from what was written."""
    file, starts = c.file, c.starts()
    folder = file.name.rsplit("/", 1)[0] + "/" if "/" in file.name else ""
    uvs = {
        m: transform_rows(p.uvs, p.islands.of_row, table[starts[m] : starts[m] + p.islands.count])
        for m, p in enumerate(c.pieces)
        if p is not None
    }
    written = _written(c, uvs, channel)
    names = {folder + (k or file.name.rsplit("/", 1)[-1]): v for k, v in written.items()}
    for path, sha in file.companions.items():
        names.setdefault(folder + path, bytes(Original.objects.get(pk=sha).data))
    for name, body in names.items():
        if name not in archive.namelist():
            archive.writestr(name, body)
    scene = formats.read(names[file.name], file.name, file.unit_m, {k[len(folder) :]: v for k, v in names.items()})
    # The islands are those that were packed; twins that share an edge would else be one island in what was written.
    given = [None if p is None else p.islands.of_triangle for p in c.pieces]
    read = {number: analyse(scene, number, False, given) for number in set(channel.values())}
    pieces = [read[channel[m]][m] if m in channel else None for m in range(len(c.pieces))]
    return replace(c, scene=scene, pieces=pieces)


def _figures(project: Project, settings: dict[str, Any], chosen: list[Chosen], again: list[Chosen]) -> dict[str, Any]:
    """The report, measured on what was written."""
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on, twins = sheet_numbers(again, parts, settings), twin_groups(parts, settings)
    by_sheet = {s["name"]: figures_of(parts, rows, on == s["id"], of_sheet(settings, s["id"]), twins)[0] for s in sheets(settings)}
    used = [f for f in by_sheet.values() if f["islands"]]
    for f in by_sheet.values():
        f["ok"] = not (f["overlap"]["pairs"] or f["overlap"]["self"] or f["outside"])
    one = used[0] if len(used) == 1 else {}
    return {
        "project": project.name, **{k: v for k, v in one.items() if k != "tiles"},
        "islands": sum(f["islands"] for f in used), "ok": all(f["ok"] for f in used),
        "overlap_pairs": sum(f["overlap"]["pairs"] for f in used), "density_px_per_m": one.get("density"), "sheets": by_sheet,
        "settings": settings, "left_as_it_was": [f"{c.file.name}: {o.name}" for c in chosen for o in c.scene.objects if c.pieces[o.mesh] is None],
    }  # fmt: skip
