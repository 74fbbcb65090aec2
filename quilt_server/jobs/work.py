"""The kinds of job: bring files in, pack, deliver. Each runs in a process of its own and writes its result in one transaction."""

from __future__ import annotations

import hashlib
import io
import json
import time
import zipfile
from pathlib import PurePosixPath
from typing import Any

import numpy as np
from django.conf import settings
from django.db import transaction

from quilt_core import formats, report
from quilt_core.deliver import template
from quilt_core.errors import FileError, QuiltError
from quilt_core.faults.layout import prove
from quilt_core.pack import Packing, Recipe
from quilt_core.scene import Floats, Scene
from quilt_core.sheet import IDENTITY, MeshIslands, analyse, pack_sheet, transform_regions, transform_rows

from ..projects.geometry import area_table, build, from_npz, island_starts, to_npz
from ..projects.models import Job, Layout, Original, Project, Snapshot, SourceFile
from ..projects.state import advance, recipe_settings

CHANNEL = 0


def read_source(file: SourceFile) -> Scene:
    """The scene of a stored file, from its original bytes."""
    bodies = {o.sha: bytes(o.data) for o in Original.objects.filter(sha__in=set(file.companions.values()))}
    resources = {path: bodies[sha] for path, sha in file.companions.items()}
    return formats.read(bytes(file.original.data), file.name, file.unit_m, resources)


def keep(data: bytes) -> str:
    """Store bytes once; returns their hash."""
    sha = hashlib.sha256(data).hexdigest()
    Original.objects.get_or_create(sha=sha, defaults={"data": data})
    return sha


def clean_path(path: str) -> str:
    """A relative path without tricks, for use as a name only.

    Raises
    ------
    QuiltError : an absolute path, or one that climbs out
    """
    parts = [p for p in path.replace("\\", "/").split("/") if p not in ("", ".")]
    if not parts or ".." in parts or path.startswith("/") or any(ord(c) < 32 for c in path) or len(path) > 400:
        raise QuiltError(f"'{path[:60]}' is not a file name that can be taken.")
    return str(PurePosixPath(*parts))


def unzip(name: str, data: bytes) -> dict[str, bytes]:
    """The files of a zip, within the limits of the settings."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = [e for e in archive.infolist() if not e.is_dir() and not e.filename.startswith("__MACOSX")]
        if len(entries) > settings.QUILT_UPLOAD_FILES or sum(e.file_size for e in entries) > settings.QUILT_UPLOAD_BYTES:
            raise FileError(name, "it holds more than is taken at once", "", "Bring its files in several parts.")
        return {clean_path(e.filename): archive.read(e) for e in entries}
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError, OSError, EOFError, ValueError) as e:
        raise FileError(name, "this zip cannot be opened", "", "Make it again without a password.") from e


def run_import(job: Job) -> None:
    """Read all meshes among the uploaded files. Either all of them join the project, or none."""
    stored = Original.objects.in_bulk([f["sha"] for f in job.params["files"]])
    bodies: dict[str, bytes] = {}
    for f in job.params["files"]:
        data = bytes(stored[f["sha"]].data)
        bodies.update(unzip(f["path"], data) if f["path"].lower().endswith(".zip") else {clean_path(f["path"]): data})
    meshes = [p for p in bodies if formats.is_mesh(p)]
    if not meshes:
        raise QuiltError("There is no mesh among these files. Meshes are .obj, .glb or .gltf.")
    rows = []
    for number, path in enumerate(sorted(meshes)):
        report_progress(job, {"text": f"Reading {path}", "part": number / len(meshes)})
        rows.append(_read_one(job, path, bodies))
    with transaction.atomic():
        project = Project.objects.get(pk=job.project_id)
        for row in rows:
            row.save()
        ids = [r.pk for r in rows]
        job.result = {"files": ids, "objects": sum(len(r.objects_info) for r in rows)}
        head = project.head
        old = from_npz(head.layout.tables) if head and head.layout else {}
        tables = old | {str(r.pk): np.tile(IDENTITY, (r.objects_info[0]["file_islands"], 1)) for r in rows}
        files = (head.files if head else []) + ids
        layout = Layout(project=project, kind="import", tables=to_npz(tables), recipe={})
        snapshot = Snapshot(files=files, left_out=head.left_out if head else [], settings=head.settings if head else recipe_settings())
        figures_and_picture(layout, [SourceFile.objects.get(pk=i) for i in files], tables, snapshot)
        layout.save()
        label = f"Bring in {rows[0].name}" if len(rows) == 1 else f"Bring in {len(rows)} files"
        advance(project, label, snapshot, layout)


def _read_one(job: Job, path: str, bodies: dict[str, bytes]) -> SourceFile:
    folder = path.rsplit("/", 1)[0] + "/" if "/" in path else ""
    beside = {p[len(folder) :]: b for p, b in bodies.items() if p.startswith(folder) and p != path}
    unit = float(job.params.get("unit_m", 1.0))
    scene = formats.read(bodies[path], path, unit, beside)
    pieces = analyse(scene, CHANNEL)
    starts = island_starts(pieces)
    found = {formats.find_resource(r, beside) for r in scene.references}
    # An OBJ names its pictures in the MTL; what it could not see then is kept too.
    companions = {p: keep(beside[p]) for p in found if p}
    info = []
    for o in scene.objects:
        mesh = scene.meshes[o.mesh]
        names = sorted({scene.materials[m].name for m in np.unique(mesh.materials) if 0 <= m < len(scene.materials)})
        info.append(
            {
                "name": o.name, "path": o.path, "triangles": len(mesh.triangles), "channels": sorted(mesh.channels),
                "materials": names, "islands": [starts[o.mesh], starts[o.mesh + 1]], "file_islands": starts[-1],
            }
        )  # fmt: skip
    return SourceFile(
        project_id=job.project_id, name=path, original_id=keep(bodies[path]), unit_m=unit, companions=companions, objects_info=info,
        warnings=scene.warnings, areas=to_npz(area_table(scene, pieces)), geometry=build(scene, pieces, CHANNEL),
    )  # fmt: skip


def _chosen(files: list[SourceFile], snapshot: Snapshot) -> list[tuple[SourceFile, Scene, list[MeshIslands | None]]]:
    """Files read and analysed; meshes of which every object is left out are None."""
    left_out = set(snapshot.left_out)
    out = []
    for file in files:
        scene = read_source(file)
        wanted = {o.mesh for n, o in enumerate(scene.objects) if f"{file.pk}/{n}" not in left_out}
        pieces = [p if i in wanted else None for i, p in enumerate(analyse(scene, CHANNEL))]
        out.append((file, scene, pieces))
    return out


def _layout_pieces(
    chosen: list[tuple[SourceFile, Scene, list[MeshIslands | None]]], tables: dict[str, Floats]
) -> tuple[list[MeshIslands], list[Floats], list[int]]:
    """Pieces with their tables, and the number of the first object of each piece, for its colour."""
    pieces, parts, owners, number = [], [], [], 0
    for file, scene, ps in chosen:
        starts = _starts(file, scene)
        for m, p in enumerate(ps):
            if p is not None:
                pieces.append(p)
                parts.append(tables[str(file.pk)][starts[m] : starts[m] + p.islands.count])
                owners.append(number + next(n for n, o in enumerate(scene.objects) if o.mesh == m))
        number += len(scene.objects)
    return pieces, parts, owners


def _starts(file: SourceFile, scene: Scene) -> dict[int, int]:
    """First island of every mesh, as it was numbered when the file came in."""
    return {o.mesh: info["islands"][0] for o, info in zip(scene.objects, file.objects_info, strict=True)}


def figures_and_picture(layout: Layout, files: list[SourceFile], tables: dict[str, Floats], snapshot: Snapshot) -> None:
    """Prove a layout as it stands and draw its small picture."""
    pieces, parts, owners = _layout_pieces(_chosen(files, snapshot), tables)
    map_px = int(snapshot.settings["map_px"])
    proof = prove(pieces, parts, map_px)
    spread = report.overall_density(pieces, parts, map_px)
    layout.figures = {
        **report.proof_figures(proof), "islands": proof.islands, "map_px": map_px,
        "coverage": sum(c for c, _ in proof.coverage.values()) / max(1, len(proof.coverage)),
        "density": None if spread is None else spread.median,
    }  # fmt: skip
    layout.picture = picture(pieces, parts, owners, 256)


def picture(
    pieces: list[MeshIslands], tables: list[Floats], owners: list[int], size: int, paper: str | None = "#fbf7ee", tile: int = 1001
) -> bytes:
    """PNG of a layout's tile."""
    if not pieces:
        return b""
    regions = np.concatenate([transform_regions(p.outlines.regions, t) for p, t in zip(pieces, tables, strict=True)])
    owner = np.repeat(owners, [p.islands.count for p in pieces])
    return template.draw(regions, owner, size, tile, paper)


def report_progress(job: Job, progress: dict[str, Any], draft: bytes | None = None) -> None:
    """Write progress for the browser."""
    fields: dict[str, Any] = {"progress": progress}
    if draft is not None:
        fields["draft"] = draft
    Job.objects.filter(pk=job.pk).update(**fields)


class _Flag:
    """The job's cancel flag, asked of the database a few times a second at most."""

    def __init__(self, job: Job) -> None:
        self.job, self.asked, self.value = job.pk, 0.0, False

    def __call__(self) -> bool:
        if not self.value and time.monotonic() - self.asked > 0.15:
            self.asked = time.monotonic()
            self.value = Job.objects.filter(pk=self.job, cancel=True).exists()
        return self.value


def run_pack(job: Job) -> None:
    """Even and pack all chosen objects; the result is a try, and the project's new layout."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.pk != job.params["base"] or head.layout is None:
        raise QuiltError("The project changed since this was asked for. Pack again.")
    begin = time.monotonic()
    s = head.settings
    recipe = Recipe(
        int(s["map_px"]), float(s["padding_px"]), float(s["margin_px"]), s["rotate"], 1, 1,
        float(s["density"]) if s["hold"] else None, float(s["seconds"]), None, int(s["seed"]),
    )  # fmt: skip
    chosen = _chosen([SourceFile.objects.get(pk=i) for i in head.files], head)
    old = from_npz(head.layout.tables)
    pieces, _, owners = _layout_pieces(chosen, old)
    places = []
    for file, scene, ps in chosen:
        starts = _starts(file, scene)
        places += [(str(file.pk), starts[m], p.islands.count) for m, p in enumerate(ps) if p is not None]

    def merged(tables: list[Floats]) -> bytes:
        out = {k: v.copy() for k, v in old.items()}
        for (file, first, count), table in zip(places, tables, strict=True):
            out[file][first : first + count] = table
        return to_npz(out)

    def progress(tables: list[Floats], packing: Packing) -> None:
        figures = {"coverage": packing.coverage, "seconds": time.monotonic() - begin, "of": recipe.seconds, "text": "Packing"}
        report_progress(job, figures, merged(tables))

    report_progress(job, {"text": "Reading the islands", "seconds": 0.0, "of": recipe.seconds})
    packed = pack_sheet(pieces, recipe, bool(s["keep_ratios"]), progress, _Flag(job))
    report_progress(
        job, {"text": "Proving the layout", "coverage": packed.result.best.coverage, "seconds": recipe.seconds, "of": recipe.seconds}
    )
    proof = prove(pieces, packed.tables, recipe.map_px, (1, 1))
    seconds = time.monotonic() - begin
    figures = report.pack_report(pieces, proof, packed, recipe.map_px, 1, seconds, recipe.seed, packed.tables)
    figures = {**report.proof_figures(proof), **figures, "density": figures["density_px_per_m"]}
    with transaction.atomic():
        project = Project.objects.select_for_update().get(pk=project.pk)
        if project.head_id != head.pk:
            raise QuiltError("The project changed while this was packing. The layout was not kept: pack again.")
        layout = Layout(project=project, kind="pack", tables=merged(packed.tables), figures=figures, recipe=s)
        layout.picture = picture(pieces, packed.tables, owners, 256)
        layout.name = f"Try {project.layouts.filter(kind='pack').count() + 1}"
        layout.save()
        advance(project, f"Pack, coverage {figures['coverage']:.1%}", head, layout)
        job.result = {"layout": layout.pk}


def run_deliver(job: Job) -> None:
    """The zip: every file with its new UVs, the template, the report."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.layout is None:
        raise QuiltError("There is nothing to deliver yet. Bring in a mesh first.")
    files = [SourceFile.objects.get(pk=i) for i in head.files]
    tables = from_npz(head.layout.tables)
    chosen = _chosen(files, head)
    out = io.BytesIO()
    again: list[Scene] = []
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for n, (file, scene, pieces) in enumerate(chosen):
            report_progress(job, {"text": f"Writing {file.name}", "part": n / len(chosen)})
            starts, folder = _starts(file, scene), file.name.rsplit("/", 1)[0] + "/" if "/" in file.name else ""
            uvs = {
                m: transform_rows(p.uvs, p.islands.of_row, tables[str(file.pk)][starts[m] : starts[m] + p.islands.count])
                for m, p in enumerate(pieces)
                if p is not None
            }
            written = formats.write(scene, uvs, CHANNEL)
            names = {folder + (k or file.name.rsplit("/", 1)[-1]): v for k, v in written.items()}
            for path, sha in file.companions.items():
                names.setdefault(folder + path, bytes(Original.objects.get(pk=sha).data))
            for name, body in names.items():
                if name not in archive.namelist():
                    archive.writestr(name, body)
            beside = {k[len(folder) :]: v for k, v in names.items()}
            again.append(formats.read(names[file.name], file.name, file.unit_m, beside))
        report_progress(job, {"text": "Proving what was written", "part": 0.9})
        map_px = int(head.settings["map_px"])
        new_chosen = [(f, s, _only(analyse(s, CHANNEL), p)) for (f, _, p), s in zip(chosen, again, strict=True)]
        written_pieces = [p for _, _, ps in new_chosen for p in ps if p is not None]
        proof = prove(written_pieces, None, map_px)
        spread = report.overall_density(written_pieces, None, map_px)
        figures = {
            "project": project.name, "map_px": map_px, **report.proof_figures(proof), "islands": proof.islands,
            "coverage": round(sum(c for c, _ in proof.coverage.values()), 6), "ok": proof.ok,
            "overlap_pairs": proof.overlap_pairs, "density_px_per_m": None if spread is None else spread.median, "settings": head.settings,
            "left_as_it_was": [f"{f.name}: {o.name}" for f, s, ps in chosen for o in s.objects if ps[o.mesh] is None],
        }  # fmt: skip
        archive.writestr("report.json", json.dumps(figures, indent=2))
        old_pieces, parts, owners = _layout_pieces(chosen, tables)
        for tile in sorted(proof.coverage) or [1001]:
            if tile == 1001 or len(proof.coverage) <= 20:
                archive.writestr(f"template.{tile}.png", picture(old_pieces, parts, owners, map_px, None, tile))
    with transaction.atomic():
        job.output = out.getvalue()
        job.result = {"bytes": len(job.output), "figures": figures}


def _only(pieces: list[MeshIslands | None], wanted: list[MeshIslands | None]) -> list[MeshIslands | None]:
    return [p if w is not None else None for p, w in zip(pieces, wanted, strict=True)]


KINDS = {"import": run_import, "pack": run_pack, "deliver": run_deliver}
