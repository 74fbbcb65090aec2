"""The files of projects: their bytes, what was read from them, and what was found out about their islands, each made once and kept."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from quilt_core import formats
from quilt_core.arrays import file_of_arrays, open_arrays
from quilt_core.errors import QuiltError
from quilt_core.formats import normals
from quilt_core.formats.pictures import pictures
from quilt_core.measure.stored import (
    ISLANDS_VERSION,
    SCENE_VERSION,
    Arrays,
    FileIslands,
    island_arrays,
    islands_of,
    normals_of_scene,
    scene_arrays,
    scene_of,
)
from quilt_core.model.scene import Floats, Mesh, Scene
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse

from . import files
from .cache import Cache
from .geometry import build, island_starts
from .models import Original, Reading, SourceFile
from .revisions import given_islands, revisions_of

# Named by what they are made from, so they never grow old; pages of them are read when they are looked at.
_islands_open: Cache[FileIslands] = Cache(1000)


def store(data: bytes) -> str:
    """Store bytes once; returns their hash."""
    sha = files.put(data)
    Original.objects.get_or_create(sha=sha, defaults={"size": len(data)})
    return sha


def store_parts(parts: Iterable[bytes]) -> str:
    """The same for bytes that come in parts."""
    sha, size = files.put_parts(parts)
    Original.objects.get_or_create(sha=sha, defaults={"size": size})
    return sha


def companions_of(file: SourceFile) -> dict[str, bytes]:
    """The files that came beside a mesh file, by path."""
    return {path: files.get(sha) for path, sha in file.companions.items()}


def read_source(file: SourceFile, channel: int | None = None) -> tuple[Scene, dict[str, bytes]]:
    """The scene of a stored file, from its original bytes and the UVs that were made since, and the files beside it: for importing and for writing
    only.

    Parameters
    ----------
    channel : the one that will be written over: there, what lies at one place but belongs to two islands has rows of its own
    """
    beside = companions_of(file)
    scene = formats.read(files.get(file.original_id), file.name, file.unit_m, beside)
    every = {number: {m: r.channel for m, r in meshes.items()} for number, meshes in sorted(revisions_of(file).items())}
    for number, made in every.items():
        if number == channel and number == max(every):
            break
        body = formats.revise(scene, made, number)
        beside |= {path: data for path, data in body.items() if path}
        scene = formats.read(body[""], file.name, file.unit_m, beside)
    if channel in every:
        # Last, since its rows hold numbers in the file that are UVs in the scene only.
        scene, other = formats.with_rows(scene, every[channel], channel, file.unit_m, beside)
        beside |= other
    return scene, beside


def materials_of(scene: Scene, resources: Mapping[str, bytes]) -> list[dict[str, Any]]:
    """Name, pictures (kind of map to hash) and plain colour of every material; keeps the pictures."""
    found = zip(scene.materials, pictures(scene, resources), strict=True)
    return [
        {
            "name": m.name,
            "images": {k: store(body) for k, body in maps.items()},
            "colour": m.colour,
        }
        for m, maps in found
    ]


def _key(file: SourceFile, *more: Any) -> str:
    """A name for what is made from a file's bytes, its companions and its unit: copies of a project share it, and so do its revisions."""
    what = [file.original_id, file.name.rsplit("/", 1)[-1], file.unit_m, sorted(file.companions.items()), *more]
    return hashlib.sha256(json.dumps(what).encode()).hexdigest()[:40]


def _scene_path(file: SourceFile) -> Path:
    return files.folder("derived") / f"{_key(file)}.scene{SCENE_VERSION}"


def _islands_path(file: SourceFile, channel: int) -> Path:
    more = (channel, file.revision) if file.revision else (channel,)
    return files.folder("derived") / f"{_key(file, *more)}.islands{ISLANDS_VERSION}"


def derived_names(file: SourceFile) -> set[str]:
    """Names of all files in the folder `derived` that belong to a file, in every channel."""
    return {_scene_path(file).name} | {_islands_path(file, c).name for c in range(8)}


def _keep_scene(file: SourceFile, scene: Scene) -> None:
    meta, arrays = scene_arrays(scene, [normals(scene, n) for n in range(len(scene.meshes))])
    files.write_whole(_scene_path(file), file_of_arrays(arrays, meta))


def _opened(path: Path, make: Any) -> tuple[Any, Arrays]:
    """A kept file; made anew where it is missing or cannot be read."""
    try:
        return open_arrays(path)
    except (OSError, QuiltError, ValueError):
        make()
        return open_arrays(path)


def kept_scene(file: SourceFile) -> Scene:
    """The scene of a stored file without what only writing needs; the file is not parsed again."""
    scene = scene_of(*_opened(_scene_path(file), lambda: _keep_scene(file, _as_it_came(file))))
    for channel, meshes in revisions_of(file).items():
        for m, r in meshes.items():
            scene.meshes[m].channels[channel] = r.channel
    return scene


def _as_it_came(file: SourceFile) -> Scene:
    return formats.read(files.get(file.original_id), file.name, file.unit_m, companions_of(file))


def kept_normals(file: SourceFile) -> list[Floats | None]:
    """The file's own normals of every mesh."""
    return normals_of_scene(*_opened(_scene_path(file), lambda: _keep_scene(file, _as_it_came(file))))


def kept_islands(file: SourceFile, channel: int) -> FileIslands:
    """The islands of a stored file in a channel, as they were found when it was read."""
    path = _islands_path(file, channel)
    found = _islands_open.get(path.name)
    if found is None:
        found = islands_of(*_opened(path, lambda: _keep_islands(path, islands_in(file, kept_scene(file), channel), channel)))
        _islands_open.keep(path.name, found)
    return found


def islands_in(file: SourceFile, scene: Scene, channel: int) -> list[MeshIslands | None]:
    """The islands of a file's scene; of UVs that were made here they are known."""
    return analyse(scene, channel, given_islands(file, channel, len(scene.meshes)))


def areas_of(file: SourceFile, reading: Reading) -> dict[int, tuple[Floats, Floats]]:
    """UV area and world area (n,) of the islands of every object that has any, by its number."""
    placings = {m: iter(v) for m, v in kept_islands(file, reading.channel).placings().items()}
    infos = reading.objects_info
    meshes = [i["mesh"] for i in infos] if all("mesh" in i for i in infos) else [o.mesh for o in kept_scene(file).objects]
    return {n: next(placings[m]) for n, m in enumerate(meshes) if m in placings}


def _keep_islands(path: Path, pieces: list[MeshIslands | None], channel: int) -> None:
    meta, arrays = island_arrays(pieces, channel)
    files.write_whole(path, file_of_arrays(arrays, meta))


def make_reading(file: SourceFile, scene: Scene, channel: int, pieces: list[MeshIslands | None] | None = None) -> Reading:
    """What a file holds in a channel, not saved yet; scene and islands are kept beside it. `pieces` where the islands are known."""
    pieces = islands_in(file, scene, channel) if pieces is None else pieces
    if not file.revision and not _scene_path(file).exists():
        _keep_scene(file, scene)
    _keep_islands(_islands_path(file, channel), pieces, channel)
    starts = island_starts(pieces)
    info = []
    for o in scene.objects:
        mesh = scene.meshes[o.mesh]
        at = mesh.positions @ o.world[:3, :3].T + o.world[:3, 3]
        names = sorted({scene.materials[m].name for m in np.unique(mesh.materials) if 0 <= m < len(scene.materials)})
        info.append(
            {
                "name": o.name, "path": o.path, "triangles": len(mesh.triangles), "channels": sorted(mesh.channels), "mesh": o.mesh,
                "bare": _without_uvs(mesh, channel), "materials": names, "islands": [starts[o.mesh], starts[o.mesh + 1]], "file_islands": starts[-1],
                "box": [at.min(axis=0).tolist(), at.max(axis=0).tolist()] if len(at) else None,
            }
        )  # fmt: skip
    roots = {m: r.root for m, r in revisions_of(file).get(channel, {}).items()}
    first = as_it_first_came(file)
    geometry = build(scene, pieces, channel, roots, None if first == file else kept_scene(first))
    return Reading(file=file, channel=channel, objects_info=info, geometry=geometry)


def as_it_first_came(file: SourceFile) -> SourceFile:
    """The file whose UVs old pictures were painted on, whatever was made of these since."""
    while file.before is not None:
        file = file.before
    return file


def _without_uvs(mesh: Mesh, channel: int) -> int:
    """How many triangles of a mesh have no UVs in a channel."""
    source = mesh.channels.get(channel)
    return len(mesh.triangles) if source is None else int((source.triangles < 0).any(axis=1).sum())


def identity(reading: Reading) -> Floats:
    """The layout (n, 5) of a file's islands as they were read."""
    return np.tile(IDENTITY, (reading.objects_info[0]["file_islands"] if reading.objects_info else 0, 1))
