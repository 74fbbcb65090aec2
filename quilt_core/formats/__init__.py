"""Open formats, one folder each (see `format.py`). What is asked of a scene here is answered by the format that it came in."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np

from ..errors import FileError
from ..model.scene import Floats, Scene, UvChannel
from .beside import find_resource, seen_from
from .bounds import checked
from .channels import LAYOUT, Arrangement
from .registry import ENDINGS, EXPORTS, ending, for_file, named, normals
from .revision import like, numbered
from .wiring import Rewired, Wiring

__all__ = [
    "ENDINGS", "EXPORTS", "Both", "ending", "find_resource", "is_mesh", "named", "normals", "read", "rearrange", "revise", "rewire", "seen_from", "unit_for", "with_rows", "write",
]  # fmt: skip


def is_mesh(name: str) -> bool:
    """Whether a file of this name is one that `read` takes."""
    return ending(name) in ENDINGS


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read a mesh file of any known format.

    Parameters
    ----------
    data, file : the bytes and the name
    unit_m : metres in one unit of the file; for formats that say that themselves how many times as large as they say everything is
    resources : the files beside it, by path relative to it

    Raises
    ------
    FileError : unknown format, a file that cannot be read, or one whose numbers are too large to compute with
    """
    of = for_file(file)
    scene = of.read(data, file, unit_m, {} if resources is None else resources)
    if of.says_unit and unit_m != 1:
        larger = np.diag([unit_m, unit_m, unit_m, 1.0])
        scene.objects = [replace(o, world=larger @ o.world) for o in scene.objects]
        scene.nodes = [replace(n, world=larger @ n.world) for n in scene.nodes]
    return checked(scene)


def unit_for(file: str, unit_m: float) -> float:
    """What to read a file with, where `unit_m` is meant for formats that do not say their unit."""
    return 1.0 if for_file(file).says_unit else unit_m


def write(scene: Scene, uvs: Mapping[int, Floats], channel: int = 0) -> dict[str, bytes]:
    """The file of a scene with new UVs: `{"": main file, relative path: a file that goes with it}`.

    Parameters
    ----------
    uvs : per mesh number, (W, 2) rows as in the channel that was read
    channel : the number of the channel that is written

    Raises
    ------
    FileError : a channel that the format does not have
    """
    of = named(scene.format)
    if of.one_channel and channel != 0:
        raise FileError(scene.file, f"{of.title} has one UV channel, so {channel} cannot be written", "", "Write channel 0.")
    return of.write(scene, uvs, channel)


def with_rows(
    scene: Scene, channels: Mapping[int, UvChannel], channel: int, unit_m: float, beside: Mapping[str, bytes]
) -> tuple[Scene, dict[str, bytes]]:
    """A scene whose file has the rows of other channels, ready for `write`: what lies at one place but belongs to two islands has rows of its own.

    Parameters
    ----------
    channels : per mesh number; channel : the number of the channel; beside : the files beside it

    Returns
    -------
    the scene as it is read then, and the files beside it that are other
    """
    other: dict[str, bytes] = {}

    def revised(made: dict[int, UvChannel], number: int) -> Scene:
        body = revise(scene, made, number)
        other.update({path: data for path, data in body.items() if path})
        return read(body[""], scene.file, unit_m, Both(other, beside))

    # Channels that are missing below get the UVs as they are, not the numbers that keep rows apart.
    for lower in range(channel):
        missing = {m: c for m, c in channels.items() if lower not in scene.meshes[m].channels}
        if missing:
            scene = revised(missing, lower)
    again = revised({m: numbered(c) for m, c in channels.items()}, channel)
    for m, exact in channels.items():
        again.meshes[m].channels[channel] = like(again.meshes[m].channels[channel], exact)
    return again, other


class Both(Mapping[str, bytes]):
    """Files by path: some, and behind them others that are looked for when they are asked for."""

    def __init__(self, first: Mapping[str, bytes], then: Mapping[str, bytes]) -> None:
        self.first, self.then = first, then

    def __getitem__(self, path: str) -> bytes:
        return self.first[path] if path in self.first else self.then[path]

    def __contains__(self, path: object) -> bool:
        return path in self.first or path in self.then

    def __iter__(self) -> Iterator[str]:
        return iter(dict.fromkeys([*self.first, *self.then]))

    def __len__(self) -> int:
        return sum(1 for _ in self)


def revise(scene: Scene, channels: Mapping[int, UvChannel], channel: int = 0) -> dict[str, bytes]:
    """The file of a scene with UVs made anew: `{"": main file, path: another file that had to change}`. All that is not a UV stays; vertices are
    parted only where a format has no other way to have a seam.

    Parameters
    ----------
    channels : per mesh number, the UVs and the rows of all its triangles, no polygon cut
    channel : the number of the channel that is written

    Raises
    ------
    FileError : a channel that the format does not have
    """
    of = named(scene.format)
    if of.one_channel and channel != 0:
        raise FileError(scene.file, f"{of.title} has one UV channel, so {channel} cannot be written", "", "Write channel 0.")
    return of.revise(scene, channels, channel)


def rearrange(scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> dict[str, bytes]:
    """The file of a scene with its channels as they are arranged: `{"": main file, path: another file that had to change}`.

    Parameters
    ----------
    uvs : per mesh number, (W, 2) rows as in the channel that was read

    Raises
    ------
    FileError : the format does not have so many channels
    """
    of = named(scene.format)
    if not of.one_channel:
        return of.rearrange(scene, uvs, how)
    if how.sources != (LAYOUT,):
        raise FileError(scene.file, f"{of.title} has one UV channel", "", "Put the layout alone into channel 0.")
    return of.write(scene, uvs, 0)


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """The written file with its materials showing the new pictures, as far as its format can say so.

    Parameters
    ----------
    scene : as the file was read; written : what `write` made of it; beside : what came along with it

    Raises
    ------
    FileError : the file is not what was written
    """
    return named(scene.format).rewire(scene, written, beside, wiring)
