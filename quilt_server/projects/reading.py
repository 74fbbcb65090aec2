"""The islands of a project's files, for the jobs: which there are, and what the settings say about each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrange.sizes import painted_texels, texel_ratios
from quilt_core.errors import QuiltError
from quilt_core.formats.pictures import size_of, texels_per_unit
from quilt_core.measure.shapes import IslandShapes, joined
from quilt_core.measure.stored import FileIslands
from quilt_core.model.scene import Floats, Scene
from quilt_core.uv.analysis import MeshIslands, analyse, transform_regions

from . import files
from .models import Reading, Snapshot, SourceFile
from .sheets import sheets
from .sources import as_it_first_came, kept_islands, kept_scene, read_source
from .state import T, readings, settings_of, values_of_islands


@dataclass
class Chosen:
    """A file of a snapshot. `left` are the meshes of which every object is left out; they are None in `pieces` unless `whole`.
    `beside` are the files beside it, for writing."""

    file: SourceFile
    reading: Reading
    islands: FileIslands
    left: frozenset[int] = frozenset()
    whole: bool = False
    given_scene: Scene | None = None
    given_pieces: list[MeshIslands | None] | None = None
    beside: dict[str, bytes] = field(default_factory=dict)

    @cached_property
    def scene(self) -> Scene:
        """The file's scene, without what only writing needs."""
        return kept_scene(self.file) if self.given_scene is None else self.given_scene

    @cached_property
    def pieces(self) -> list[MeshIslands | None]:
        """The islands of every mesh; None for those without UVs and, mostly, those that are left out."""
        found = self.islands.pieces(self.scene) if self.given_pieces is None else self.given_pieces
        return found if self.whole else [None if m in self.left else p for m, p in enumerate(found)]

    def starts(self) -> dict[int, int]:
        """First island of every mesh, as it was numbered when the file came in."""
        return {m: int(first) for m, first in enumerate(self.islands.starts[:-1])}

    def original(self) -> Chosen:
        """The same with the scene as the file's format reads it: for writing."""
        scene, beside = read_source(self.file, self.reading.channel)
        if self.file.revision:
            # Writing may have parted rows: the islands are known by their triangles.
            given = [None if p is None else p.islands.of_triangle for p in self.pieces]
            again = analyse(scene, self.reading.channel, given)
            again = [p if self.pieces[m] is not None else None for m, p in enumerate(again)]
            return Chosen(self.file, self.reading, self.islands, self.left, True, scene, again, beside)
        pieces = [None if p is None else _on(p, scene, m) for m, p in enumerate(self.pieces)]
        return Chosen(self.file, self.reading, self.islands, self.left, True, scene, pieces, beside)


def _on(piece: MeshIslands, scene: Scene, number: int) -> MeshIslands:
    """The islands of a mesh on the same mesh as it was read again."""
    mesh = scene.meshes[number]
    objects = [o for o in scene.objects if o.mesh == number]
    return MeshIslands(mesh, piece.channel, piece.islands, piece.outlines, objects, piece.object_areas, mesh.channels[piece.channel].uvs)


def choose(snapshot: Snapshot, whole: bool = False) -> list[Chosen]:
    """The files of a snapshot in its channel. `whole`: what is left out counts too, so that layouts number the same islands whatever is left out."""
    settings, left_out = settings_of(snapshot), set(snapshot.left_out)
    by_file = {r.file_id: r for r in readings(snapshot)}
    out = []
    for file in SourceFile.objects.filter(pk__in=snapshot.files).order_by("pk"):
        reading = by_file.get(file.pk)
        if reading is None:
            raise QuiltError(f"{file.name} was not read in channel {settings['channel_in']}. Choose the channel again.")
        islands = kept_islands(file, reading.channel)
        known = reading.objects_info[0]["file_islands"] if reading.objects_info else 0
        if reading.objects_info and known != islands.starts[-1]:
            raise QuiltError(
                f"{file.name} has {islands.starts[-1]} islands as this version counts, and had {known}. Bring the file in again."
            )
        meshes = [info.get("mesh", -1) for info in reading.objects_info]
        if -1 in meshes:  # a reading from before meshes were written down
            meshes = [o.mesh for o in kept_scene(file).objects]
        used = {m for n, m in enumerate(meshes) if f"{file.pk}/{n}" not in left_out}
        out.append(Chosen(file, reading, islands, frozenset(set(range(len(islands.starts) - 1)) - used), whole))
    return out


@dataclass
class Parts:
    """The islands of all chosen files, mesh by mesh: `places` [file id, first island, count], `owners` the number of each one's first object."""

    chosen: list[Chosen]
    places: list[tuple[int, int, int]] = field(default_factory=list)
    owners: list[int] = field(default_factory=list)
    left: list[bool] = field(default_factory=list)

    @cached_property
    def pieces(self) -> list[MeshIslands]:
        """The meshes that have islands."""
        return [p for c in self.chosen for p in c.pieces if p is not None]

    @cached_property
    def shapes(self) -> IslandShapes:
        """What no similarity changes of all islands; of whole files only."""
        assert all(c.whole for c in self.chosen)
        return joined([c.islands.shapes for c in self.chosen])

    @property
    def count(self) -> int:
        """How many islands there are."""
        return sum(count for _, _, count in self.places)

    @property
    def place(self) -> NDArray[np.int64]:
        """(n,) which of `places` each island is of."""
        return np.repeat(np.arange(len(self.places)), [count for _, _, count in self.places]).astype(np.int64)

    def split(self, transforms: Mapping[str, Floats]) -> list[Floats]:
        """A layout's transforms piece by piece."""
        return [transforms[str(file)][first : first + count] for file, first, count in self.places]

    def whole(self, transforms: Mapping[str, Floats]) -> Floats:
        """A layout's rows (n, 5) over all islands."""
        return np.concatenate(self.split(transforms)) if self.places else np.zeros((0, 5))

    def pieced(self, rows: np.ndarray) -> list[Any]:
        """Something over all islands, piece by piece."""
        return np.split(rows, np.cumsum([count for _, _, count in self.places])[:-1]) if self.places else []

    def merged(self, old: Mapping[str, Floats], parts: list[Floats]) -> dict[str, Floats]:
        """A layout's transforms with those of the pieces put in."""
        out = {k: v.copy() for k, v in old.items()}
        for (file, first, count), similarities in zip(self.places, parts, strict=True):
            out[str(file)][first : first + count] = similarities
        return out

    def masks(self, transforms: Mapping[str, Floats], mine: NDArray[np.bool_]) -> dict[str, NDArray[np.bool_]]:
        """A mark on some of the islands, by file as layouts are kept."""
        out = {k: np.zeros(len(v), bool) for k, v in transforms.items()}
        for (file, first, count), marks in zip(self.places, self.pieced(mine), strict=True):
            out[str(file)][first : first + count] = marks
        return out

    def named(self, islands: dict[str, list[int]] | None) -> NDArray[np.bool_]:
        """(n,) which islands are named, as numbers for each file; all where nothing is. Never those that are left out."""
        here = ~np.repeat(self.left, [count for _, _, count in self.places]) if self.places else np.zeros(0, bool)
        if islands is None:
            return here
        masks = [np.isin(np.arange(first, first + count), islands.get(str(file), [])) for file, first, count in self.places]
        return np.concatenate(masks) & here if masks else here

    def names(self) -> list[str]:
        """Key "file:island" of every island."""
        return [f"{file}:{i}" for file, first, count in self.places for i in range(first, first + count)]

    def name(self, island: int) -> str:
        """Key "file:island" of one of all islands."""
        for file, first, count in self.places:
            if island < count:
                return f"{file}:{first + island}"
            island -= count
        raise IndexError(island)

    @cached_property
    def _numbers(self) -> dict[str, NDArray[np.int64]]:
        """By file, the number among all islands of each of its own, -1 for those that do not take part."""
        out: dict[str, NDArray[np.int64]] = {}
        at = 0
        for file, first, count in self.places:
            known = out.get(str(file), np.zeros(0, np.int64))
            if len(known) < first + count:
                known = np.concatenate([known, np.full(first + count - len(known), -1)])
            known[first : first + count] = np.arange(at, at + count)
            out[str(file)] = known
            at += count
        return out

    def numbers(self, keys: list[str]) -> NDArray[np.int64]:
        """Number among all islands of each key "file:island", -1 for one that is not there."""
        out = np.full(len(keys), -1, np.int64)
        for k, key in enumerate(keys):
            file, _, island = key.partition(":")
            known = self._numbers.get(file)
            if known is not None and island.isdecimal() and int(island) < len(known):
                out[k] = known[int(island)]
        return out


def parts_of(chosen: list[Chosen]) -> Parts:
    """All islands of the chosen files."""
    parts, number = Parts(chosen), 0
    for c in chosen:
        starts = c.islands.starts
        first_object: dict[int, int] = {}
        infos = c.reading.objects_info
        given = None if c.given_pieces is None else c.pieces
        for n, info in enumerate(infos):
            mesh = info["mesh"] if "mesh" in info else c.scene.objects[n].mesh
            first_object.setdefault(mesh, n)
        for m, n in sorted(first_object.items()):
            there = given[m] is not None if given is not None else bool(c.islands.arrays["has"][m]) and (c.whole or m not in c.left)
            if there:
                parts.places.append((c.file.pk, int(starts[m]), int(starts[m + 1] - starts[m])))
                parts.owners.append(number + n)
                parts.left.append(m in c.left)
        number += len(infos)
    return parts


def each(chosen: list[Chosen], parts: Parts, values: Mapping[str, T], usual: T) -> NDArray[Any]:
    """What holds for every island (n,); of a mesh that several objects place, what holds for the first one."""
    found = values_of_islands([c.reading for c in chosen], values, usual)
    return np.concatenate([found[file][first : first + count] for file, first, count in parts.places]) if parts.places else np.zeros(0)


def weights(chosen: list[Chosen], parts: Parts, settings: dict[str, Any]) -> Floats:
    """Weights (n,) of all islands."""
    return each(chosen, parts, settings["weights"], 1.0).astype(np.float64)


def sizes(chosen: list[Chosen], parts: Parts, settings: dict[str, Any], flat: dict[str, Any], present: Floats) -> Floats:
    """What the size of each island (n,) in the `present` layout (n, 5) is multiplied by: its weight; or, where ratios are kept, what brings it to the texels
    that it was painted with."""
    if not flat["keep_ratios"]:
        return weights(chosen, parts, settings)
    if flat["ratios"] != "texels":
        return np.ones(parts.count)
    return texel_ratios(parts.pieces, [t for c in chosen for t in _texels(c)], present)


def _texels(c: Chosen) -> list[Floats]:
    """For each mesh of a file that has islands, how many texels each of its triangles was painted with."""
    found = [{kind: size_of(files.get(sha)) for kind, sha in m.get("images", {}).items()} for m in c.file.materials]
    known = [{kind: size for kind, size in m.items() if size is not None} for m in found]
    before = kept_scene(as_it_first_came(c.file))
    per_unit = texels_per_unit(before, known)
    return [painted_texels(before, m, per_unit) for m, p in enumerate(c.pieces) if p is not None]


def sheet_numbers(chosen: list[Chosen], parts: Parts, settings: dict[str, Any]) -> NDArray[np.int64]:
    """The sheet (n,) that each island lies on; -1 for those that are left out."""
    on = each(chosen, parts, settings["sheet_of"], sheets(settings)[0]["id"]).astype(np.int64)
    return np.where(np.repeat(parts.left, [count for _, _, count in parts.places]), -1, on) if parts.places else on


def twin_groups(parts: Parts, settings: dict[str, Any]) -> NDArray[np.int64]:
    """The group of twins (n,) that each island belongs to, -1 for none."""
    out = np.full(parts.count, -1, np.int64)
    for n, group in enumerate(settings["twins"]):
        found = parts.numbers(group)
        out[found[found >= 0]] = n
    return out


def kinds_of_islands(chosen: list[Chosen], parts: Parts, by: str) -> tuple[NDArray[np.int64], list[str]]:
    """A number (n,) for every island by what it belongs to, and their names: "object", "file", "material" (of most of its triangles; of one name is one)
    or "island"."""
    if by == "island":
        return np.arange(parts.count), parts.names()
    if by == "file":
        place = {c.file.pk: n for n, c in enumerate(chosen)}
        return np.repeat([place[f] for f, _, _ in parts.places], [count for _, _, count in parts.places]).astype(np.int64), [
            c.file.name for c in chosen
        ]
    if by != "material":
        names = [info["name"] for c in chosen for info in c.reading.objects_info]
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


def regions_of(parts: Parts, rows: Floats, which: NDArray[np.int64] | None = None) -> NDArray[np.object_]:
    """Islands as a layout (n, 5) places them: all (n,), or some (k,)."""
    if not parts.pieces:
        return np.zeros(0, object)
    regions = np.concatenate([p.outlines.regions for p in parts.pieces])
    return transform_regions(regions, rows) if which is None else transform_regions(regions[which], rows[which])
