"""What may come in from any file: numbers that can be computed with, and names that can be shown."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import FileError
from ..model.scene import Floats, Scene
from ..words import cut, plain

# Far beyond any asset, and near enough that areas and their squares stay numbers of 64 bits: common practice, no source.
MOST_PLACE = 1e12  # units of the file, and metres
MOST_UV = 1e12  # tiles; real files have strays at 1e9
MOST_NAME = 1000  # signs


def checked(scene: Scene) -> Scene:
    """A scene as it was read, with names that can be shown.

    Raises
    ------
    FileError : a position, a UV or a placing that is no number, or too far out
    """
    for mesh in scene.meshes:
        _check(scene, f"mesh '{cut(mesh.name)}'", "a position", mesh.positions, MOST_PLACE)
        for number, channel in mesh.channels.items():
            _check(scene, f"mesh '{cut(mesh.name)}', channel {number}", "a UV", channel.uvs, MOST_UV)
        mesh.name = _name(mesh.name)
    for o in scene.objects:
        _check(scene, f"object '{cut(o.name)}'", "its place", o.world, MOST_PLACE)
    if any(_name(o.name) != o.name or _name(o.path) != o.path for o in scene.objects):
        scene.objects = [replace(o, name=_name(o.name), path=_name(o.path)) for o in scene.objects]
    if any(_name(n.name) != n.name for n in scene.nodes):
        scene.nodes = [replace(n, name=_name(n.name)) for n in scene.nodes]
    scene.materials = [m if _name(m.name) == m.name else replace(m, name=_name(m.name)) for m in scene.materials]
    return scene


def _check(scene: Scene, where: str, what: str, values: Floats, most: float) -> None:
    if not len(values):
        return
    # A comparison is false for what is no number.
    if not (np.abs(values) <= most).all():
        worst = values[~(np.abs(values) <= most)][0]
        raise FileError(scene.file, f"{what} is {worst:g}; {plain(most)} is the most", where, "Mend that place, or export the mesh again.")


def _name(text: str) -> str:
    return text if text.isprintable() and len(text) <= MOST_NAME else cut(text, MOST_NAME)
