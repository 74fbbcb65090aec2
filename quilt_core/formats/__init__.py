"""One module per open format; this one picks by the ending of the name."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from functools import lru_cache

from ..errors import FileError
from ..scene import Floats, Scene
from . import gltf, obj, ply
from .gltf_container import find_resource

__all__ = ["ENDINGS", "ending", "find_resource", "is_mesh", "read", "seen_from", "write"]

ENDINGS = (".obj", ".glb", ".gltf", ".ply", ".usd", ".usda", ".usdc", ".usdz")


def seen_from(folder: str, bodies: Mapping[str, bytes]) -> dict[str, bytes]:
    """Files that came together as they are seen from a folder among them: by relative path, those above it with `../`.

    Parameters
    ----------
    folder : empty for the top; bodies : by relative path without any `..`
    """
    return {_joined(_way(posixpath.dirname(p), folder), posixpath.basename(p)): body for p, body in bodies.items()}


@lru_cache(maxsize=4096)
def _way(to: str, start: str) -> str:
    """The way from one folder to another; kits have many files in few folders, so it is looked up more often than found."""
    return posixpath.relpath(to or ".", start or ".")


def _joined(way: str, name: str) -> str:
    return name if way == "." else f"{way}/{name}"


def ending(name: str) -> str:
    """The lower-case ending of a file name, with its dot."""
    return "." + name.rsplit(".", 1)[-1].lower() if "." in name else ""


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
    kind = ending(file)
    if kind == ".obj":
        return obj.read(data, file, unit_m, resources)
    if kind in (".glb", ".gltf"):
        return gltf.read(data, file, resources)
    if kind == ".ply":
        return ply.read(data, file, unit_m, resources)
    if kind in ENDINGS:
        from . import usd  # takes a third of a second to load

        # Layers are opened from a folder of their own, which nothing climbs out of.
        return usd.read(data, file, resources)
    raise FileError(file, f"'{kind or 'no ending'}' is not a format that is read here", "", "Use OBJ, glTF, GLB, PLY or USD.")


def write(scene: Scene, uvs: dict[int, Floats], channel: int = 0) -> dict[str, bytes]:
    """The file of a scene with new UVs: `{"": main file, relative path: a buffer that goes with it}`.

    Parameters
    ----------
    uvs : per mesh number, (W, 2) rows as in the channel that was read

    Raises
    ------
    FileError : a channel that the format does not have
    """
    if scene.format in ("obj", "ply"):
        if channel != 0:
            raise FileError(
                scene.file, f"{scene.format.upper()} has one UV channel, so {channel} cannot be written", "", "Write channel 0."
            )
        return {"": (obj if scene.format == "obj" else ply).write(scene, uvs)}
    if scene.format == "usd":
        from . import usd

        return usd.write(scene, uvs, channel)
    return gltf.write(scene, uvs, channel)
