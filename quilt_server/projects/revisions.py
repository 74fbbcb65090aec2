"""Revisions of UVs: for the meshes of a file that were changed here, their rows in a channel. They never change; an operation makes new ones."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.arrays import pack_arrays, unpack_arrays
from quilt_core.model.scene import Ints, UvChannel
from quilt_core.unwrap.skin import Revised

from . import files
from .models import Original, SourceFile

Revisions = dict[int, dict[int, Revised]]  # channel to mesh to its UVs


def revisions_of(file: SourceFile) -> Revisions:
    """The UVs of a file that were made here; empty where all are as they came."""
    if not file.revision:
        return {}
    out: Revisions = {}
    arrays = unpack_arrays(files.get(file.revision))
    for name in arrays:
        channel, mesh, what = name.split(".")
        if what == "uvs":
            uvs, corners, root, island = (arrays[f"{channel}.{mesh}.{k}"] for k in ("uvs", "corners", "root", "island"))
            out.setdefault(int(channel), {})[int(mesh)] = Revised(UvChannel(uvs, corners), root, island)
    return out


def keep_revisions(old: SourceFile, made: Mapping[int, Mapping[int, Revised]], without: Collection[int] = ()) -> str:
    """Keep the UVs of a file with those of some meshes (by channel) made anew, and those of some channels taken off; returns the hash that they are kept
    under."""
    every = {c: meshes for c, meshes in revisions_of(old).items() if c not in without}
    for channel, meshes in made.items():
        every[channel] = every.get(channel, {}) | dict(meshes)
    arrays: dict[str, NDArray[Any]] = {}
    for c, meshes in every.items():
        for m, r in meshes.items():
            arrays |= {
                f"{c}.{m}.uvs": r.channel.uvs, f"{c}.{m}.corners": r.channel.triangles, f"{c}.{m}.root": r.root, f"{c}.{m}.island": r.island,
            }  # fmt: skip
    body = pack_arrays(arrays)
    sha = files.put(body)
    Original.objects.get_or_create(sha=sha, defaults={"size": len(body)})
    return sha


def given_islands(file: SourceFile, channel: int, meshes: int) -> list[Ints | None] | None:
    """For each mesh of a file its islands (T,), where its UVs were made here; None where none were."""
    found = revisions_of(file).get(channel)
    return None if found is None else [np.asarray(found[m].island, np.int32) if m in found else None for m in range(meshes)]
