"""Files of a project as scenes and islands again, for the jobs; and the figures and findings that every new layout gets."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from quilt_core import formats, report
from quilt_core.deliver import template
from quilt_core.errors import QuiltError
from quilt_core.faults.findings import find
from quilt_core.faults.layout import prove
from quilt_core.scene import Floats, Scene
from quilt_core.sheet import IDENTITY, MeshIslands, SheetRules, analyse, transform_regions

from .geometry import area_table, build, island_starts, to_npz
from .models import Layout, Original, Reading, Snapshot, SourceFile
from .state import T, of_islands, settings_of


def keep(data: bytes) -> str:
    """Store bytes once; returns their hash."""
    sha = hashlib.sha256(data).hexdigest()
    Original.objects.get_or_create(sha=sha, defaults={"data": data})
    return sha


def read_source(file: SourceFile) -> Scene:
    """The scene of a stored file, from its original bytes."""
    bodies = {o.sha: bytes(o.data) for o in Original.objects.filter(sha__in=set(file.companions.values()))}
    resources = {path: bodies[sha] for path, sha in file.companions.items()}
    return formats.read(bytes(file.original.data), file.name, file.unit_m, resources)


def make_reading(file: SourceFile, scene: Scene, channel: int) -> Reading:
    """What a file holds in a channel, not saved yet."""
    pieces = analyse(scene, channel)
    starts = island_starts(pieces)
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
    areas, geometry = to_npz(area_table(scene, pieces)), build(scene, pieces, channel)
    return Reading(file=file, channel=channel, objects_info=info, areas=areas, geometry=geometry)


def identity(reading: Reading) -> Floats:
    """The layout (n, 5) of a file's islands as they were read."""
    return np.tile(IDENTITY, (reading.objects_info[0]["file_islands"] if reading.objects_info else 0, 1))


@dataclass
class Chosen:
    """A file of a snapshot, read; meshes of which every object is left out are None in `pieces`."""

    file: SourceFile
    scene: Scene
    reading: Reading
    pieces: list[MeshIslands | None]

    def starts(self) -> dict[int, int]:
        """First island of every mesh, as it was numbered when the file came in."""
        return {o.mesh: info["islands"][0] for o, info in zip(self.scene.objects, self.reading.objects_info, strict=True)}


def choose(snapshot: Snapshot) -> list[Chosen]:
    """The files of a snapshot, read and analysed in its channel."""
    left_out, channel = set(snapshot.left_out), int(settings_of(snapshot)["channel_in"])
    out = []
    for file in SourceFile.objects.filter(pk__in=snapshot.files).order_by("pk"):
        scene = read_source(file)
        reading = Reading.objects.filter(file=file, channel=channel).first()
        if reading is None:
            raise QuiltError(f"{file.name} was not read in channel {channel}. Choose the channel again.")
        wanted = {o.mesh for n, o in enumerate(scene.objects) if f"{file.pk}/{n}" not in left_out}
        pieces = [p if i in wanted else None for i, p in enumerate(analyse(scene, channel))]
        out.append(Chosen(file, scene, reading, pieces))
    return out


@dataclass
class Sheet:
    """The pieces of all chosen files: `places` [file id, first island, count], `owners` the number of each one's first object."""

    pieces: list[MeshIslands]
    places: list[tuple[int, int, int]]
    owners: list[int]

    def split(self, tables: dict[str, Floats]) -> list[Floats]:
        """A layout's tables piece by piece."""
        return [tables[str(file)][first : first + count] for file, first, count in self.places]

    def merged(self, old: dict[str, Floats], parts: list[Floats]) -> dict[str, Floats]:
        """A layout's tables with those of the pieces put in."""
        out = {k: v.copy() for k, v in old.items()}
        for (file, first, count), table in zip(self.places, parts, strict=True):
            out[str(file)][first : first + count] = table
        return out


def sheet_of(chosen: list[Chosen]) -> Sheet:
    """All pieces of the chosen files."""
    sheet, number = Sheet([], [], []), 0
    for c in chosen:
        starts = c.starts()
        for m, p in enumerate(c.pieces):
            if p is not None:
                sheet.pieces.append(p)
                sheet.places.append((c.file.pk, starts[m], p.islands.count))
                sheet.owners.append(number + next(n for n, o in enumerate(c.scene.objects) if o.mesh == m))
        number += len(c.scene.objects)
    return sheet


def _each(chosen: list[Chosen], sheet: Sheet, values: Mapping[str, T], usual: T) -> list[T]:
    """What holds for every island of a sheet; of a mesh that several objects place, what holds for the first one."""
    found: dict[tuple[int, int], list[T]] = {}
    for c in chosen:
        for n, info in enumerate(c.reading.objects_info):
            first, end = info["islands"]
            if end > first:
                found.setdefault((c.file.pk, first), of_islands(values, usual, c.file.pk, n, first, end))
    return [value for file, first, _ in sheet.places for value in found[file, first]]


def weights(chosen: list[Chosen], sheet: Sheet, settings: dict[str, Any]) -> list[Floats]:
    """Weights of the islands of every piece."""
    whole = np.array(_each(chosen, sheet, settings["weights"], 1.0), float)
    return np.split(whole, np.cumsum([count for _, _, count in sheet.places])[:-1]) if sheet.places else []


def rules(chosen: list[Chosen], sheet: Sheet, settings: dict[str, Any]) -> SheetRules | None:
    """The rules for single islands that the settings hold."""
    if not (settings["held"] or settings["turns"]) or not sheet.pieces:
        return None
    held = _each(chosen, sheet, dict.fromkeys(settings["held"], True), False)
    turns = _each(chosen, sheet, settings["turns"], settings["rotate"])
    return SheetRules(tuple(turns), np.array(held, bool))


def picture(sheet: Sheet, tables: list[Floats], size: int, paper: str | None = "#fbf7ee", tile: int = 1001) -> bytes:
    """PNG of a layout's tile."""
    if not sheet.pieces:
        return b""
    regions = np.concatenate([transform_regions(p.outlines.regions, t) for p, t in zip(sheet.pieces, tables, strict=True)])
    owner = np.repeat(sheet.owners, [p.islands.count for p in sheet.pieces])
    return template.draw(regions, owner, size, tile, paper)


def measure(layout: Layout, sheet: Sheet, tables: list[Floats], map_px: int) -> None:
    """Prove a layout as it stands, find its faults and draw its small picture."""
    proof = prove(sheet.pieces, tables, map_px)
    spread = report.overall_density(sheet.pieces, tables, map_px)
    layout.figures = layout.figures | {
        **report.proof_figures(proof), "islands": proof.islands, "map_px": map_px,
        "coverage": sum(c for c, _ in proof.coverage.values()) / max(1, len(proof.coverage)),
        "density": None if spread is None else spread.median,
    }  # fmt: skip
    layout.findings = to_npz(find(sheet.pieces, tables, shared=proof.shared).arrays())  # type: ignore[arg-type]
    layout.pieces = [list(p) for p in sheet.places]
    layout.picture = picture(sheet, tables, 256)
