"""A model as a file of an open format: geometry, all that places it, UVs, normals, materials with their pictures; read again and compared.

What a format has no place for is left out and told: OBJ and PLY hold one UV channel and no hierarchy; PLY one kind of picture.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ..errors import QuiltError
from ..model.material import VECTORS, Material, Texture
from ..model.scene import Floats, Node, Scene
from .compare import differs
from .losses import told
from .model import Item, Model, corners_of
from .pictures import pictures
from .recast import recast
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
        corners = corners_of(mesh, normals(scene, number), np.where(labels >= 0, numbers, old), mesh.colours)
        if mesh.extras is not None:
            model.extras[len(model.meshes)] = mesh.extras
        model.meshes.append((mesh.name, mesh.positions, replace(corners, layout=(layout or {}).get(number, 0))))
    _place(model, scene, first, prefix)
    further = [*scene.further, *(["tangents"] if any(m.tangents for m in scene.meshes) else [])]
    if further:
        model.further[scene.file] = further


def _place(model: Model, scene: Scene, first: int, prefix: str) -> None:
    """Add the hierarchy of a scene, below a node of its own where it has a prefix, and its objects, whose meshes count from `first`."""
    top = -1
    if prefix:
        top = len(model.nodes)
        model.nodes.append(Node(prefix.rstrip("/"), -1, np.eye(4)))
    start = len(model.nodes)
    for n in scene.nodes:
        above = n.parent + start if n.parent >= 0 else top
        model.nodes.append(replace(n, parent=above if above < 0 or _firm(model.nodes[above].world) else top))
    groups: dict[str, int] = {}
    taken: set[int] = set()
    parents = {n.parent for n in model.nodes}
    for o in scene.objects:
        number = start + o.node
        if o.node < 0:
            number = _leaf(model, groups, o.path, o.name, o.world, top)
        elif number in taken or (number in parents and not np.allclose(o.world, model.nodes[number].world, atol=0)):
            # Several meshes at one node, or one that stands elsewhere than what hangs on its node.
            model.nodes.append(Node(o.name, number if _firm(model.nodes[number].world) else top, o.world))
            number = len(model.nodes) - 1
        else:
            model.nodes[number] = replace(model.nodes[number], world=o.world, name=o.name)
        taken.add(number)
        model.items.append(Item(o.name, prefix + o.path, o.world, first + o.mesh, number))


def _firm(world: Floats) -> bool:
    """Whether something can be placed in this place: it can be undone."""
    return bool(np.isfinite(world).all()) and abs(float(np.linalg.det(world[:3, :3]))) > 1e-30


def _leaf(model: Model, groups: dict[str, int], path: str, name: str, world: Floats, top: int) -> int:
    """A node for an object by its path, where the file has no hierarchy of its own; groups stand at the origin."""
    above, at = top, ""
    for part in path.split("/")[:-1]:
        at = f"{at}/{part}"
        if at not in groups:
            groups[at] = len(model.nodes)
            model.nodes.append(Node(part, above, np.eye(4)))
        above = groups[at]
    model.nodes.append(Node(name, above, world))
    return len(model.nodes) - 1


def _looks(model: Model, scene: Scene, resources: Mapping[str, bytes], wiring: Wiring | None) -> tuple[list[int], list[int]]:
    """Numbers in the model of the scene's old materials, and of the new ones."""
    old: list[int] = []
    kept = _kept(scene, wiring)
    for number, (material, found) in enumerate(zip(scene.materials, pictures(scene, resources), strict=True)):
        if number not in kept:
            old.append(-1)
            continue
        textures = {}
        for kind, body in found.items():
            path = f"textures/{safe_name(material.name)}.{safe_name(kind)}{_ending(body, material.maps[kind].path)}"
            textures[kind] = replace(material.maps[kind], path=_picture(model, path, body), frame=None)
        old.append(_look(model, replace(material, textures=textures)))
    new = []
    for m in wiring.materials if wiring is not None else ():
        like = scene.materials[m.like] if m.like >= 0 else m.record or Material(m.name)
        channel = wiring.channel if wiring else 0
        new.append(
            _look(model, replace(like, name=m.name, textures={kind: _shown(like, kind, path, channel) for kind, path in m.maps.items()}))
        )
    if wiring is not None:
        model.pictures |= {p: b for p, b in wiring.pictures.items() if any(p in m.maps.values() for m in wiring.materials)}
    return old, new


def _shown(like: Material, kind: str, path: str, channel: int) -> Texture:
    """A new picture in place of the one that a material had: where it is read is new, what it is multiplied by is not. Vectors are stored as vectors."""
    was = like.maps.get(kind, Texture(kind, path))
    return replace(was, path=path, channel=channel, placed=None, frame=None, wrap=("repeat", "repeat"), scale=None if kind in VECTORS else was.scale,
                   bias=None if kind in VECTORS else was.bias)  # fmt: skip


def _kept(scene: Scene, wiring: Wiring | None) -> set[int]:
    """Old materials that some triangle still has."""
    out: set[int] = set()
    for number, mesh in enumerate(scene.meshes):
        of = None if wiring is None else wiring.of_triangle.get(number)
        out |= set(np.unique(mesh.materials if of is None else mesh.materials[of < 0]).tolist())
    return out - {-1}


def _look(model: Model, look: Material) -> int:
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


def _ending(body: bytes, path: str) -> str:
    """The ending for a picture file, by its first bytes; its own where these are of nothing that is known here."""
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
    own = posixpath.splitext(path)[1].lower()
    return own if re.fullmatch(r"\.[a-z0-9]{1,5}", own) else ".tga"


def export(model: Model, ending: str, name: str) -> dict[str, bytes]:
    """The files of a model: the main one is called `name` with the ending; pictures stand in `textures/` unless the format holds them.

    Raises
    ------
    QuiltError : a format that is not written
    """
    of = for_export(ending)
    return of.export(recast(model, of)[0], name, ending)


def checked(model: Model, ending: str, name: str) -> tuple[str, dict[str, tuple[bytes, str]], list[str]]:
    """The files of a model with what each is (mesh, texture, companion), read again and compared; the name of the main one; and what the format has no place
    for.

    Raises
    ------
    QuiltError : the file does not hold the layout again
    """
    of, main = for_export(ending), f"{name}.{ending}"
    suited, notes = recast(model, of)
    made = of.export(suited, name, ending)
    off = differs(model, ending, of.read(made[main], main, 1.0, made))
    if off > _SAME:
        raise QuiltError(
            f"{main} does not hold the layout again ({off:.3g} of a tile off). Deliver it as another format, and tell the makers."
        )
    kinds = {path: "mesh" if path == main else "texture" if path in suited.pictures else "companion" for path in made}
    model.pictures |= suited.shown
    return main, {path: (body, kinds[path]) for path, body in made.items()}, notes + told(suited, of)
