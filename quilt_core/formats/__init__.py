"""Open formats, one folder each (see `format.py`). What is asked of a scene here is answered by the format that it came in."""

from __future__ import annotations

from collections.abc import Mapping

from ..errors import FileError
from ..model.scene import Floats, Scene, UvChannel
from .beside import find_resource, seen_from
from .channels import LAYOUT, Arrangement
from .registry import ENDINGS, EXPORTS, ending, for_file, named, normals
from .wiring import Rewired, Wiring

__all__ = [
    "ENDINGS", "EXPORTS", "ending", "find_resource", "is_mesh", "named", "normals", "read", "rearrange", "revise", "rewire", "seen_from", "write",
]  # fmt: skip


def is_mesh(name: str) -> bool:
    """Whether a file of this name is one that `read` takes."""
    return ending(name) in ENDINGS


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read a mesh file of any known format.

    Parameters
    ----------
    data, file : the bytes and the name
    unit_m : metres in one unit of the file, for formats that do not say
    resources : the files beside it, by path relative to it

    Raises
    ------
    FileError : unknown format or a file that cannot be read
    """
    return for_file(file).read(data, file, unit_m, {} if resources is None else resources)


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
