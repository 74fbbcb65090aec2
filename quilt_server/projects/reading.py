"""Files of a project as scenes and islands again, for the jobs; and the figures and findings that every new layout gets."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray
from PIL import Image

from quilt_core import formats, report
from quilt_core.deliver import template
from quilt_core.density import densities, spread
from quilt_core.errors import QuiltError
from quilt_core.faults.findings import find, joined
from quilt_core.faults.layout import LayoutProof, prove
from quilt_core.formats.pictures import channels, pictures
from quilt_core.prove.gaps import Overlaps
from quilt_core.scene import Floats, Mesh, Scene
from quilt_core.sheet import IDENTITY, MeshIslands, analyse, transform_regions
from quilt_core.tiles import Grid, corners_of, place

from .geometry import area_table, build, island_starts, to_npz
from .models import Layout, Original, Reading, Snapshot, SourceFile
from .sheets import grid, of_sheet, sheets
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


def materials_of(scene: Scene, resources: Mapping[str, bytes]) -> list[dict[str, Any]]:
    """Name and pictures (kind of map to hash) of every material, with the UV channel that each map reads; keeps the pictures."""
    found = zip(scene.materials, pictures(scene, resources), channels(scene), strict=True)
    return [
        {
            "name": m.name,
            "images": {k: keep(body) for k, body in maps.items()},
            "channels": {k: reads.get(k, 0) for k in maps},
            "colour": m.colour,
        }
        for m, maps, reads in found
    ]


def make_reading(file: SourceFile, scene: Scene, channel: int, welded: bool = False) -> Reading:
    """What a file holds in a channel, not saved yet."""
    pieces = analyse(scene, channel, welded)
    starts = island_starts(pieces)
    info = []
    for o in scene.objects:
        mesh = scene.meshes[o.mesh]
        names = sorted({scene.materials[m].name for m in np.unique(mesh.materials) if 0 <= m < len(scene.materials)})
        info.append(
            {
                "name": o.name, "path": o.path, "triangles": len(mesh.triangles), "channels": sorted(mesh.channels),
                "bare": _without_uvs(mesh, channel), "materials": names, "islands": [starts[o.mesh], starts[o.mesh + 1]], "file_islands": starts[-1],
            }
        )  # fmt: skip
    areas, geometry = to_npz(area_table(scene, pieces)), build(scene, pieces, channel)
    return Reading(file=file, channel=channel, welded=welded, objects_info=info, areas=areas, geometry=geometry)


def _without_uvs(mesh: Mesh, channel: int) -> int:
    """How many triangles of a mesh have no UVs in a channel."""
    source = mesh.channels.get(channel)
    return len(mesh.triangles) if source is None else int((source.triangles < 0).any(axis=1).sum())


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
    left_out, settings = set(snapshot.left_out), settings_of(snapshot)
    channel = int(settings["channel_in"])
    out = []
    for file in SourceFile.objects.filter(pk__in=snapshot.files).order_by("pk"):
        scene = read_source(file)
        welded = file.pk in settings["welded"]
        reading = Reading.objects.filter(file=file, channel=channel, welded=welded).first()
        if reading is None:
            raise QuiltError(f"{file.name} was not read in channel {channel}. Choose the channel again.")
        wanted = {o.mesh for n, o in enumerate(scene.objects) if f"{file.pk}/{n}" not in left_out}
        pieces = [p if i in wanted else None for i, p in enumerate(analyse(scene, channel, welded))]
        out.append(Chosen(file, scene, reading, pieces))
    return out


@dataclass
class Parts:
    """The pieces of all chosen files: `places` [file id, first island, count], `owners` the number of each one's first object."""

    pieces: list[MeshIslands]
    places: list[tuple[int, int, int]]
    owners: list[int]

    @property
    def count(self) -> int:
        """How many islands there are."""
        return sum(count for _, _, count in self.places)

    def split(self, tables: dict[str, Floats]) -> list[Floats]:
        """A layout's tables piece by piece."""
        return [tables[str(file)][first : first + count] for file, first, count in self.places]

    def whole(self, tables: dict[str, Floats]) -> Floats:
        """A layout's rows (n, 5) over all islands."""
        return np.concatenate(self.split(tables)) if self.places else np.zeros((0, 5))

    def pieced(self, rows: np.ndarray) -> list[Any]:
        """Something over all islands, piece by piece."""
        return np.split(rows, np.cumsum([count for _, _, count in self.places])[:-1]) if self.places else []

    def merged(self, old: dict[str, Floats], parts: list[Floats]) -> dict[str, Floats]:
        """A layout's tables with those of the pieces put in."""
        out = {k: v.copy() for k, v in old.items()}
        for (file, first, count), table in zip(self.places, parts, strict=True):
            out[str(file)][first : first + count] = table
        return out

    def masks(self, tables: dict[str, Floats], mine: NDArray[np.bool_]) -> dict[str, NDArray[np.bool_]]:
        """A mark on some of the islands, by file as layouts are kept."""
        out = {k: np.zeros(len(v), bool) for k, v in tables.items()}
        for (file, first, count), marks in zip(self.places, self.pieced(mine), strict=True):
            out[str(file)][first : first + count] = marks
        return out

    def chosen(self, islands: dict[str, list[int]] | None) -> NDArray[np.bool_]:
        """(n,) which islands are named, as numbers for each file; all where nothing is."""
        if islands is None:
            return np.ones(self.count, bool)
        masks = [np.isin(np.arange(first, first + count), islands.get(str(file), [])) for file, first, count in self.places]
        return np.concatenate(masks) if masks else np.zeros(0, bool)

    def names(self) -> list[str]:
        """Key "file:island" of every island."""
        return [f"{file}:{i}" for file, first, count in self.places for i in range(first, first + count)]


def parts_of(chosen: list[Chosen]) -> Parts:
    """All pieces of the chosen files."""
    parts, number = Parts([], [], []), 0
    for c in chosen:
        starts = c.starts()
        for m, p in enumerate(c.pieces):
            if p is not None:
                parts.pieces.append(p)
                parts.places.append((c.file.pk, starts[m], p.islands.count))
                parts.owners.append(number + next(n for n, o in enumerate(c.scene.objects) if o.mesh == m))
        number += len(c.scene.objects)
    return parts


def each(chosen: list[Chosen], parts: Parts, values: Mapping[str, T], usual: T) -> list[T]:
    """What holds for every island; of a mesh that several objects place, what holds for the first one."""
    found: dict[tuple[int, int], list[T]] = {}
    for c in chosen:
        for n, info in enumerate(c.reading.objects_info):
            first, end = info["islands"]
            if end > first:
                found.setdefault((c.file.pk, first), of_islands(values, usual, c.file.pk, n, first, end))
    return [value for file, first, _ in parts.places for value in found[file, first]]


def weights(chosen: list[Chosen], parts: Parts, settings: dict[str, Any]) -> Floats:
    """Weights (n,) of all islands."""
    return np.array(each(chosen, parts, settings["weights"], 1.0), float)


def sheet_numbers(chosen: list[Chosen], parts: Parts, settings: dict[str, Any]) -> NDArray[np.int64]:
    """The sheet (n,) that each island lies on."""
    return np.array(each(chosen, parts, settings["sheet_of"], sheets(settings)[0]["id"]), np.int64)


def twin_groups(parts: Parts, settings: dict[str, Any]) -> NDArray[np.int64]:
    """The group of twins (n,) that each island belongs to, -1 for none."""
    groups = {key: n for n, group in enumerate(settings["twins"]) for key in group}
    if not groups:
        return np.full(parts.count, -1, np.int64)
    return np.array([groups.get(key, -1) for key in parts.names()], np.int64)


def kinds_of_islands(chosen: list[Chosen], parts: Parts, by: str) -> tuple[NDArray[np.int64], list[str]]:
    """A number (n,) for every island by what it belongs to, and their names: "object", "material" (of most of its triangles; of one name is one)
    or "island"."""
    if by == "island":
        return np.arange(parts.count), parts.names()
    if by != "material":
        names = [o.name for c in chosen for o in c.scene.objects]
        return np.repeat(parts.owners, [count for _, _, count in parts.places]).astype(np.int64), names
    numbers: dict[str, int] = {"no material": 0}
    scenes = [c.scene for c in chosen for p in c.pieces if p is not None]
    out = [np.zeros(0, np.int64)]
    for piece, scene in zip(parts.pieces, scenes, strict=True):
        # The last entry stands for -1, no material.
        number = np.array([*(numbers.setdefault(m.name, len(numbers)) for m in scene.materials), 0], np.int64)
        of, has = piece.islands.of_triangle, piece.islands.of_triangle >= 0
        material = number[np.clip(piece.mesh.materials[has], -1, len(number) - 2)]
        votes = np.zeros((piece.islands.count, len(numbers)), np.int64)
        np.add.at(votes, (of[has], material), 1)
        out.append(votes.argmax(axis=1))
    return np.concatenate(out), list(numbers)


def regions_of(parts: Parts, rows: Floats) -> NDArray[np.object_]:
    """All islands (n,) as a layout (n, 5) places them."""
    regions = np.concatenate([p.outlines.regions for p in parts.pieces])
    return transform_regions(regions, rows)


def picture(parts: Parts, rows: Floats, mine: NDArray[np.bool_], size: int, paper: str | None = "#fbf7ee", tile: int = 1001) -> bytes:
    """PNG of one tile with the islands `mine` (n,) of a layout (n, 5)."""
    if not parts.pieces:
        return b""
    owner = np.repeat(parts.owners, [p.islands.count for p in parts.pieces])
    return template.draw(regions_of(parts, rows)[mine], owner[mine], size, tile, paper)


def _spread(parts: Parts, rows: Floats, mine: NDArray[np.bool_], tiles: Grid) -> tuple[Floats, Floats]:
    """Densities and world areas of the islands `mine`, each at the resolution of its tile."""
    area = np.concatenate([p.islands.area for p in parts.pieces]) * rows[:, 2] ** 2
    world = np.concatenate([p.world_area for p in parts.pieces])
    px = np.nan_to_num(tiles.px_of(shapely.bounds(regions_of(parts, rows))), nan=float(tiles.px))
    return densities(area, world, px)[mine], world[mine]  # type: ignore[arg-type]


def figures_of(
    parts: Parts, rows: Floats, mine: NDArray[np.bool_], flat: dict[str, Any], twins: NDArray[np.int64]
) -> tuple[dict[str, Any], Overlaps]:
    """The proven figures of one sheet of a layout (n, 5), and its overlaps."""
    tiles = grid(flat)
    proof = prove(parts.pieces, parts.pieced(rows), tiles.px, (tiles.columns, tiles.rows), twins, mine, tiles.tile_px)
    d, world = _spread(parts, rows, mine, tiles) if parts.pieces else (np.zeros(0), np.zeros(0))
    found = spread(d, world)
    used = {n: c for n, c in proof.coverage.items() if n in tiles.numbers} or proof.coverage
    texels = {n: tiles.tile_px.get(n, tiles.px) ** 2 for n in used}
    return {
        **report.proof_figures(proof), "islands": proof.islands, "map_px": tiles.px, "twins": proof.twins,
        "coverage": sum(c * texels[n] for n, (c, _) in used.items()) / max(1, sum(texels.values())),
        "density": None if found is None else found.median,
        "tiles": _tile_figures(parts, rows, mine, tiles, proof, d, world),
    }, proof.shared  # fmt: skip


def _tile_figures(
    parts: Parts, rows: Floats, mine: NDArray[np.bool_], tiles: Grid, proof: LayoutProof, d: Floats, world: Floats
) -> list[dict[str, Any]]:
    """Coverage, number of islands, median density, smallest gap and margin (with the islands there) of every tile of the sheet, and of others where
    islands lie."""
    names = parts.names()

    def named(*islands: int) -> list[str]:
        return [names[i] for i in islands if i >= 0]

    if not parts.pieces:
        return []
    box = shapely.bounds(regions_of(parts, rows)[mine])
    with np.errstate(invalid="ignore"):
        corner = np.nan_to_num(corners_of(box), nan=-1.0).astype(np.int64)
    out = []
    for n in sorted({*tiles.numbers, *proof.coverage}):
        column, row = place(n)
        found = spread(d[here], world[here]) if (here := (corner == (column, row)).all(axis=1)).any() else None
        share, count = proof.coverage.get(n, (0.0, 0))
        px = tiles.tile_px.get(n, tiles.px)
        gaps = proof.tiles.get(n)
        out.append(
            {"tile": n, "px": px, "coverage": share, "islands": count, "density": None if found is None else found.median,
             "gap_px": gaps.gap_px if gaps and np.isfinite(gaps.gap_px) else None, "gap_at": named(*gaps.pair) if gaps else [],
             "margin_px": gaps.margin_px if gaps and np.isfinite(gaps.margin_px) else None, "margin_at": named(gaps.outermost) if gaps else []}
        )  # fmt: skip
    return out


def _all_densities(parts: Parts, rows: Floats, on: NDArray[np.int64], settings: dict[str, Any]) -> tuple[Floats, Floats]:
    found = [_spread(parts, rows, on == s["id"], grid(of_sheet(settings, s["id"]))) for s in sheets(settings)] if parts.pieces else []
    return np.concatenate([np.zeros(0), *(d for d, _ in found)]), np.concatenate([np.zeros(0), *(w for _, w in found)])


def measure(layout: Layout, chosen: list[Chosen], parts: Parts, rows: Floats, settings: dict[str, Any]) -> None:
    """Prove a layout (n, 5) as it stands, sheet by sheet, find its faults and draw its small pictures."""
    on, twins = sheet_numbers(chosen, parts, settings), twin_groups(parts, settings)
    every: dict[str, dict[str, Any]] = {}
    shared = []
    for s in sheets(settings):
        figures, overlaps = figures_of(parts, rows, on == s["id"], of_sheet(settings, s["id"]), twins)
        every[str(s["id"])] = figures
        shared.append(overlaps)
    d, world = _all_densities(parts, rows, on, settings)
    found = spread(d, world)
    layout.figures = layout.figures | {"sheets": every, "density": None if found is None else found.median}
    layout.findings = to_npz(find(parts.pieces, parts.pieced(rows), shared=joined(shared), sheet=on).arrays())  # type: ignore[arg-type]
    layout.pieces = [list(p) for p in parts.places]
    shown = layout.sheet if str(layout.sheet) in every else sheets(settings)[0]["id"]
    layout.picture = small_picture(parts, rows, on == shown, grid(of_sheet(settings, shown)), 640 if layout.kind == "pack" else 64)


def small_picture(parts: Parts, rows: Floats, mine: NDArray[np.bool_], tiles: Grid, size: int = 256) -> bytes:
    """PNG of all tiles of a sheet, side by side as they lie."""
    if tiles.columns == tiles.rows == 1:
        return picture(parts, rows, mine, size)
    step = max(24, size // max(tiles.columns, tiles.rows))
    whole = Image.new("RGB", (step * tiles.columns, step * tiles.rows), "#cdbf9f")
    for n in tiles.numbers:
        column, row = place(n)
        body = picture(parts, rows, mine, step - 2, tile=n)
        if body:
            whole.paste(Image.open(io.BytesIO(body)).convert("RGB"), (step * column + 1, step * (tiles.rows - 1 - row) + 1))
    out = io.BytesIO()
    whole.save(out, "PNG")
    return out.getvalue()
