"""A model as a file of an open format: geometry, all that places it, UVs, normals, materials with their pictures; read again and compared.

What a format has no place for is left out and told: OBJ and PLY hold one UV channel and no hierarchy; PLY one kind of picture.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ..errors import QuiltError
from ..model.scene import Scene
from .compare import differs
from .model import Item, Look, Model, corners_of
from .pictures import channels, pictures
from .registry import for_export, normals
from .wiring import Wiring, safe_name

_SAME = 1e-4  # of a tile: what rounding of a format may move a UV


def add(
    model: Model,
    scene: Scene,
    resources: Mapping[str, bytes],
    wiring: Wiring | None = None,
    prefix: str = "",
    layout: Mapping[int, int] | None = None,
) -> None:
    """Add a scene, with its meshes' channels as they are.

    Parameters
    ----------
    resources : what came along with the file, for its pictures
    wiring : the new materials; without one, the old ones are taken over
    prefix : put before the paths of its objects, where several scenes go into one file
    layout : for each mesh the channel that counts where a format holds only one (0 unless said)
    """
    looks = _looks(model, scene, resources, wiring)
    first = len(model.meshes)
    for number, mesh in enumerate(scene.meshes):
        labels = np.full(len(mesh.triangles), -1, np.int64)
        if wiring is not None and number in wiring.of_triangle:
            labels = wiring.of_triangle[number]
        numbers = np.array([*looks[1], -1])[labels]
        old = np.array([*looks[0], -1])[mesh.materials]
        corners = corners_of(mesh, normals(scene, number), np.where(labels >= 0, numbers, old))
        model.meshes.append((mesh.name, mesh.positions, replace(corners, layout=(layout or {}).get(number, 0))))
    model.items += [Item(o.name, prefix + o.path, o.world, first + o.mesh) for o in scene.objects]


def _looks(model: Model, scene: Scene, resources: Mapping[str, bytes], wiring: Wiring | None) -> tuple[list[int], list[int]]:
    """Numbers in the model of the scene's old materials, and of the new ones."""
    old: list[int] = []
    reads = channels(scene)
    kept = _kept(scene, wiring)
    for number, (material, found) in enumerate(zip(scene.materials, pictures(scene, resources), strict=True)):
        if number not in kept:
            old.append(-1)
            continue
        maps = {}
        for kind, body in found.items():
            path = f"textures/{safe_name(material.name)}.{safe_name(kind)}{_ending(body)}"
            maps[kind] = _picture(model, path, body)
        old.append(_look(model, Look(material.name, maps, {k: reads[number].get(k, 0) for k in maps}, material.colour)))
    new = []
    for m in wiring.materials if wiring is not None else ():
        colour = scene.materials[m.like].colour if m.like >= 0 else None
        new.append(_look(model, Look(m.name, dict(m.maps), dict.fromkeys(m.maps, wiring.channel if wiring else 0), colour)))
    if wiring is not None:
        model.pictures |= {p: b for p, b in wiring.pictures.items() if any(p in m.maps.values() for m in wiring.materials)}
    return old, new


def _kept(scene: Scene, wiring: Wiring | None) -> set[int]:
    """Old materials that some triangle still has."""
    out: set[int] = set()
    for number, mesh in enumerate(scene.meshes):
        of = None if wiring is None else wiring.of_triangle.get(number)
        out |= set(np.unique(mesh.materials if of is None else mesh.materials[of < 0]).tolist())
    return out - {-1}


def _look(model: Model, look: Look) -> int:
    """Number of a material; the same one twice is one, another of that name gets a number after it."""
    if look in model.looks:
        return model.looks.index(look)
    names = {x.name for x in model.looks}
    name, number = look.name, 2
    while name in names:
        name, number = f"{look.name}.{number}", number + 1
    model.looks.append(replace(look, name=name))
    return len(model.looks) - 1


def _picture(model: Model, path: str, body: bytes) -> str:
    stem, ending = path.rsplit(".", 1)
    out, number = path, 2
    while model.pictures.get(out, body) != body:
        out, number = f"{stem}.{number}.{ending}", number + 1
    model.pictures[out] = body
    return out


def _ending(body: bytes) -> str:
    """The ending for a picture file, by its first bytes."""
    for head, ending in (
        (b"\x89PNG", ".png"),
        (b"\xff\xd8", ".jpg"),
        (b"RIFF", ".webp"),
        (b"BM", ".bmp"),
        (b"II*", ".tif"),
        (b"MM\0*", ".tif"),
    ):
        if body.startswith(head):
            return ending
    return ".tga"


def export(model: Model, ending: str, name: str) -> dict[str, bytes]:
    """The files of a model: the main one is called `name` with the ending; pictures stand in `textures/` unless the format holds them.

    Raises
    ------
    QuiltError : a format that is not written
    """
    return for_export(ending).export(model, name, ending)


def checked(model: Model, ending: str, name: str) -> tuple[str, dict[str, tuple[bytes, str]]]:
    """The files of a model with what each is (mesh, texture, companion), read again and compared; and the name of the main one.

    Raises
    ------
    QuiltError : the file does not hold the layout again
    """
    made, main = export(model, ending, name), f"{name}.{ending}"
    off = differs(model, ending, for_export(ending).read(made[main], main, 1.0, made))
    if off > _SAME:
        raise QuiltError(
            f"{main} does not hold the layout again ({off:.3g} of a tile off). Deliver it as another format, and tell the makers."
        )
    kinds = {path: "mesh" if path == main else "texture" if path in model.pictures else "companion" for path in made}
    return main, {path: (body, kinds[path]) for path, body in made.items()}
