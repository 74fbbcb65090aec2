"""A scene, or several as one, written in another open format: geometry, all that places it, UVs, normals, materials with their pictures.

What a format has no place for is left out and told: OBJ and PLY hold one UV channel and no hierarchy; PLY one kind of picture.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...errors import QuiltError
from ...islands import first_of, number_rows
from ...scene import Floats, Mesh, Scene
from ..normals import normals, turned_normals
from ..pictures import channels, pictures
from ..rewire import Wiring, safe_name

Numbers = NDArray[np.int64]
_WEIGHT = 0.5  # tiles that the whole size of a model counts for when corners are compared
_SAME = 1e-4  # of a tile: what rounding of a format may move a UV
FORMATS = ("obj", "glb", "ply", "usdc", "usda", "usdz")


@dataclass(frozen=True)
class Look:
    """A material: pictures by kind of map (paths), the UV channel that each reads, and the plain colour (linear)."""

    name: str
    maps: Mapping[str, str]
    reads: Mapping[str, int]
    colour: tuple[float, float, float] | None = None


@dataclass(frozen=True)
class Corners:
    """The faces of a mesh corner by corner.

    faces : (F + 1,) offsets; position : (C,) rows of the mesh's positions; uvs : channel to (C, 2), NaN where there are none
    normal : (C, 3) or None; look : (F,) material, -1 for none; triangles : (T, 3) corner numbers, face_of : (T,)
    layout : the UV channel that a format of one channel gets
    """

    faces: Numbers
    position: Numbers
    uvs: dict[int, Floats]
    normal: Floats | None
    look: Numbers
    triangles: Numbers
    face_of: Numbers
    layout: int = 0

    @property
    def laid(self) -> Floats | None:
        """UVs (C, 2) of the layout."""
        return self.uvs.get(self.layout)


@dataclass(frozen=True)
class Item:
    """An object: name, path, place in the world (4, 4; metres, y up), and its mesh by number."""

    name: str
    path: str
    world: Floats
    mesh: int


@dataclass
class Model:
    """What is written. `pictures` are bytes by path: those that a material names, and any whose paths are taken; `names` of the UV channels by
    number, empty for the usual ones."""

    items: list[Item] = field(default_factory=list)
    meshes: list[tuple[str, Floats, Corners]] = field(default_factory=list)
    looks: list[Look] = field(default_factory=list)
    pictures: dict[str, bytes] = field(default_factory=dict)
    names: tuple[str, ...] = ()

    @property
    def channels(self) -> list[int]:
        """The UV channels that any mesh has; a file of several channels numbers them in this order."""
        return sorted({c for _, _, corners in self.meshes for c in corners.uvs})

    @property
    def channel_names(self) -> dict[int, str]:
        """The names of the channels, where a format names them."""
        out: dict[int, str] = {}
        for n, c in enumerate(self.channels):
            name = (self.names[c] if c < len(self.names) else "") or ("st" if n == 0 else f"st{n}")
            while name in out.values():
                name += "_"
            out[c] = name
        return out

    @property
    def shown(self) -> dict[str, bytes]:
        """The pictures that a material names."""
        used = {path for look in self.looks for path in look.maps.values()}
        return {p: b for p, b in self.pictures.items() if p in used}


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


def corners_of(mesh: Mesh, normal: Floats | None, looks: Numbers) -> Corners:
    """A mesh corner by corner: its polygons, or its triangles where the format has no others. Faces that are no area are left out."""
    count = len(mesh.triangles)
    if mesh.polygons is None:
        faces, position = np.arange(0, 3 * count + 1, 3), mesh.triangles.reshape(-1).astype(np.int64)
        triangles, face_of = np.arange(3 * count).reshape(-1, 3), np.arange(count)
    else:
        p = mesh.polygons
        keep = np.diff(p.faces) >= 3
        used = np.repeat(keep, np.diff(p.faces))
        number = np.cumsum(used) - 1
        faces = np.concatenate([[0], np.cumsum(np.diff(p.faces)[keep])])
        position = p.corners[used].astype(np.int64)
        triangles, face_of = number[p.triangles], (np.cumsum(keep) - 1)[p.face_of]
    uvs = {}
    for channel, source in mesh.channels.items():
        uv = np.full((len(position), 2), np.nan)
        has = (source.triangles >= 0).all(axis=1)
        uv[triangles[has]] = source.uvs[source.triangles[has]]
        uvs[channel] = uv
    at = None
    if normal is not None:
        at = np.zeros((len(position), 3))
        at[triangles] = normal
    look = np.full(len(faces) - 1, -1, np.int64)
    look[face_of[::-1]] = looks[::-1]
    return Corners(faces.astype(np.int64), position, uvs, at, look, triangles, face_of)


def export(model: Model, format: str, name: str) -> dict[str, bytes]:
    """The files of a model: the main one is called `name` with the format's ending; pictures stand in `textures/` unless the format holds them.

    Raises
    ------
    QuiltError : a format that is not written
    """
    if format == "obj":
        from .obj import write
    elif format == "glb":
        from .glb import write
    elif format == "ply":
        from .ply import write
    elif format in FORMATS:
        from . import usd

        return usd.write(model, format, name)
    else:
        raise QuiltError(f"'{format}' is not a format that is written here: {', '.join(FORMATS)} are.")
    return write(model, name)


def checked(model: Model, format: str, name: str) -> tuple[str, dict[str, tuple[bytes, str]]]:
    """The files of a model with what each is (mesh, texture, companion), read again and compared; and the name of the main one.

    Raises
    ------
    QuiltError : the file does not hold the layout again
    """
    from .. import read

    made, main = export(model, format, name), f"{name}.{format}"
    off = differs(model, format, read(made[main], main, 1.0, made))
    if off > _SAME:
        raise QuiltError(
            f"{main} does not hold the layout again ({off:.3g} of a tile off). Deliver it as another format, and tell the makers."
        )
    kinds = {path: "mesh" if path == main else "texture" if path in model.pictures else "companion" for path in made}
    return main, {path: (body, kinds[path]) for path, body in made.items()}


def in_world(model: Model, item: Item) -> tuple[Floats, Floats | None, bool]:
    """Positions and normals of an object in metres, y up, and whether its faces turn over there."""
    _, positions, corners = model.meshes[item.mesh]
    turn = item.world[:3, :3]
    placed = positions @ turn.T + item.world[:3, 3]
    normal = None if corners.normal is None else turned_normals(corners.normal, item.world)
    return placed, normal, bool(np.linalg.det(turn) < 0)


def turned(corners: Corners) -> Numbers:
    """The corner numbers (C,) with every face walked the other way round."""
    counts = np.diff(corners.faces)
    return np.repeat(corners.faces[:-1] + corners.faces[1:] - 1, counts) - np.arange(len(corners.position))


def distinct(*columns: NDArray[np.floating] | Numbers | None) -> tuple[Numbers, Numbers]:
    """Rows that differ in any column: (first corner of each, row of every corner)."""
    table = np.column_stack([np.nan_to_num(np.asarray(c, np.float64), nan=-1e30) for c in columns if c is not None])
    _, first, rows = np.unique(table, axis=0, return_index=True, return_inverse=True)
    return first, rows.reshape(-1)


def differs(model: Model, format: str, again: Scene) -> float:
    """How far what was read back is from the model, corner by corner: the greatest difference of UVs between corners at one position, infinite
    where there are more or fewer corners, or another position.

    The order of objects and corners is the format's own, so corners are paired by position (to the rounding of 32-bit files) and then by UV.
    """
    single, flat = format in ("obj", "ply"), format == "glb"
    out = 0.0
    for number, channel in enumerate([None] if single else model.channels):
        was, now = [np.zeros((0, 5))], [np.zeros((0, 5))]
        for item in model.items:
            _, positions, corners = model.meshes[item.mesh]
            was.append(_held(corners, positions @ item.world[:3, :3].T + item.world[:3, 3], channel, format, flat))
        for o in again.objects:
            mesh = again.meshes[o.mesh]
            own = _own_number(mesh, number, None if channel is None else model.channel_names[channel], format)
            if own is not None:
                read = corners_of(mesh, None, np.full(len(mesh.triangles), -1))
                placed = mesh.positions @ o.world[:3, :3].T + o.world[:3, 3]
                rows = np.hstack([placed[read.position], read.uvs[own]])
                now.append(rows[np.isfinite(rows).all(axis=1)])
        out = max(out, _apart(np.concatenate(was), np.concatenate(now)))
    return out


def _apart(was: Floats, now: Floats) -> float:
    """How far corners (n, 5) of position and UV are from those of the other list, by UV; infinite where their numbers differ.

    Positions weigh little, so that their rounding does not count, and enough that a UV at another corner does.
    """
    if len(was) != len(now):
        return float("inf")
    if not len(was):
        return 0.0
    size = max(float(np.ptp(was[:, :3], axis=0).max()), 1e-30)
    a, b = (np.hstack([(x[:, :3] - was[0, :3]) * (_WEIGHT / size), x[:, 3:]]) for x in (_distinct_rows(was), _distinct_rows(now)))
    return max(float(cKDTree(y).query(x, p=np.inf, workers=2)[0].max()) for x, y in ((a, b), (b, a)))


def _distinct_rows(rows: Floats) -> Floats:
    """Every row once: a vertex is a corner of half a dozen faces."""
    return rows[first_of(*number_rows(rows))]


def _held(corners: Corners, placed: Floats, channel: int | None, format: str, flat: bool) -> Floats:
    """What a format holds of a mesh's corners (n, 5), position and UV (GLB: those of its triangles). OBJ leaves out what has no UV, and USD
    channels; elsewhere a UV that is not there is zero."""
    uv = corners.laid if channel is None else corners.uvs.get(channel)
    if uv is None:
        uv = np.full((len(corners.position), 2), np.nan)
        if not (flat or format == "ply"):
            return np.zeros((0, 5))
    rows = np.hstack([placed[corners.position], uv])
    rows = rows[corners.triangles.reshape(-1)] if flat else rows
    if format == "obj":
        return rows[np.isfinite(rows[:, 3:]).all(axis=1)]
    rows[:, 3:] = np.nan_to_num(rows[:, 3:])
    return rows


def _own_number(mesh: Mesh, number: int, name: str | None, format: str) -> int | None:
    """The channel of a mesh that was read back, by its number or name in the file."""
    if format.startswith("usd"):
        number = mesh.key.names.index(name) if name in mesh.key.names else -1
    return number if number in mesh.channels else None
