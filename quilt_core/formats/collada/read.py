"""COLLADA into a scene: geometries, what places them, their materials. Standard: Khronos COLLADA 1.4.1 and 1.5.

Texture coordinates stand in sets; here the sets of a mesh are its channels by number, in their order. v grows upward, as here.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ...errors import FileError
from ...model.scene import Floats, Mesh, MeshObject, Node, Polygons, Scene, UvChannel
from ..polygons import triangulate
from .document import Document, Element
from .materials import Bindings, materials_of
from .primitives import Numbers, Primitive, primitives_of, source_values

MOST_OBJECTS = 200_000
# To y up, by the axes that the specification of <up_axis> gives.
_AXES = {
    "X_UP": np.array([[0.0, -1, 0, 0], [1, 0, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]]),
    "Y_UP": np.eye(4),
    "Z_UP": np.array([[1.0, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]]),
}


@dataclass(frozen=True)
class Key:
    """A mesh in its file: the geometry's id, the sets of its channels, and the UV row of every corner in each (C,), -1 for none; corners count
    through the primitives as `primitives_of` gives them. `read` : the UVs as they stand in the file, whatever a scene has in their place."""

    geometry: str
    sets: tuple[int, ...]
    rows: dict[int, Numbers]
    read: dict[int, Floats]


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read a COLLADA file; its unit and up axis are said in it.

    Raises
    ------
    FileError : what is wrong, where, and what helps
    """
    document = Document(data, file)
    try:
        return _scene(document, data)
    except FileError:
        raise
    except (KeyError, ValueError, IndexError, TypeError, OverflowError) as e:
        raise document.fail(f"it does not follow COLLADA ({type(e).__name__})") from e


def _scene(document: Document, data: bytes) -> Scene:
    scene = Scene(document.file, "collada", [], [], [], data, key=document)
    numbers: dict[str, int] = {}
    bindings = Bindings(document)
    worlds = _to_metres(document)
    found, nodes = _placed(document, scene.warnings)
    scene.nodes = [replace(n, world=worlds @ n.world) for n in nodes]
    scene.further = _further(document)
    for geometry, _, _, _, instance, _ in found:
        bindings.add(geometry.get("id"), instance)
    for geometry, name, path, at, _, node in found:
        world = worlds @ at
        key = geometry.get("id")
        if key not in numbers:
            mesh = mesh_of(document, geometry, bindings)
            if mesh is None:
                continue
            numbers[key] = len(scene.meshes)
            scene.meshes.append(mesh)
        if not np.isfinite(world).all():
            raise document.fail(f"the place of '{name}' is no number", document.where(geometry))
        scene.objects.append(MeshObject(name, path, numbers[key], world, node))
    if not scene.objects:
        raise document.fail("there is no mesh of faces in its scene", "", "Only points, lines or curves: there is nothing to unwrap.")
    scene.materials = materials_of(document, bindings, {m.key.geometry: m.key.sets for m in scene.meshes})
    scene.references = list(dict.fromkeys(p for m in scene.materials for p in m.images.values()))
    scene.warnings += bindings.warnings
    return scene


def _to_metres(document: Document) -> Floats:
    asset = document.root.one("asset")
    unit = asset.one("unit") if asset is not None else None
    try:
        metre = float(unit.get("meter", "1").replace(",", ".")) if unit is not None else 1.0
    except ValueError:
        metre = math.nan
    if not 1e-9 < metre < 1e9:
        raise document.fail("its unit is no length", document.where(unit) if unit is not None else "")
    axis = document.text(asset.one("up_axis") if asset is not None else None) or "Y_UP"
    out: Floats = np.diag([metre, metre, metre, 1.0]) @ _AXES.get(axis, _AXES["Y_UP"])
    return out


_Placed = tuple[Element, str, str, Floats, Element | None, int]
_FURTHER = {"animation": "animation", "controller": "skin or morph", "camera": "camera", "light": "light"}


def _further(document: Document) -> list[str]:
    """What else is in a document, in words."""
    counts = {word: sum(e.tag == tag and bool(e.get("id")) for e in document.root.walk()) for tag, word in _FURTHER.items()}
    coloured = any(e.tag == "input" and e.get("semantic") == "COLOR" for e in document.root.walk())
    return [f"{n} {word}{'' if n == 1 else 's'}" for word, n in counts.items() if n] + (["the colours of its vertices"] if coloured else [])


def _placed(document: Document, warnings: list[str]) -> tuple[list[_Placed], list[Node]]:
    """Geometries in the order of the scene: element, name, path, matrix, the instance that binds materials, and the number of its node; and all nodes."""
    root = document.root
    url = root.one("scene", "instance_visual_scene")
    chosen = document.target(url.get("url")) if url is not None else root.one("library_visual_scenes", "visual_scene")
    out: list[_Placed] = []
    nodes: list[Node] = []
    if chosen is None:
        # Without a scene every geometry is shown once.
        for library in root.all("library_geometries"):
            out += [(g, _name(g), _name(g), np.eye(4), None, -1) for g in library.all("geometry")]
        return out, nodes
    skewed = False
    stack: list[tuple[Element, Floats, str, frozenset[int], int]] = [
        (n, np.eye(4), "", frozenset(), -1) for n in reversed(chosen.all("node"))
    ]
    while stack:
        node, above, path, seen, parent = stack.pop()
        if id(node) in seen:
            raise document.fail("a node is placed inside itself", document.where(node))
        matrix, odd = _matrix(document, node)
        skewed |= odd
        world, own = above @ matrix, f"{path}/{_name(node)}" if path else _name(node)
        number = len(nodes)
        nodes.append(Node(_name(node), parent, world))
        instances = node.all("instance_geometry", "instance_controller")
        for k, instance in enumerate(instances):
            geometry, bound = _geometry_of(document, instance)
            if geometry is not None:
                end = "" if len(instances) == 1 else f".{k + 1}"
                out.append((geometry, _name(node) + end, own + end, world @ bound, instance, number))
        if max(len(out), len(nodes)) > MOST_OBJECTS:
            raise document.fail(f"it places more than {MOST_OBJECTS:,} objects", "", "Split the scene into several files.")
        inner = [document.target(i.get("url")) for i in node.all("instance_node")]
        below = [*node.all("node"), *(n for n in inner if n is not None)]
        stack += [(n, world, own, seen | {id(node)}, number) for n in reversed(below)]
        if len(stack) > MOST_OBJECTS:
            raise document.fail(f"it places more than {MOST_OBJECTS:,} nodes", "", "Split the scene into several files.")
    if skewed:
        warnings.append("a skewed or unknown transform in it was left out")
    return out, nodes


def _name(e: Element) -> str:
    return e.get("name") or e.get("id") or e.get("sid") or e.tag


def _geometry_of(document: Document, instance: Element) -> tuple[Element | None, Floats]:
    """The geometry that an instance shows, and the matrix that a skin puts before it."""
    at, bound = document.target(instance.get("url")), np.eye(4)
    for _ in range(8):  # a skin of a morph of a geometry; no file needs more
        if at is None or at.tag == "geometry":
            return at, bound
        skin = at.one("skin")
        if skin is not None and skin.one("bind_shape_matrix") is not None:
            bound = bound @ _values(document, skin.one("bind_shape_matrix"), 16).reshape(4, 4)
        held = skin if skin is not None else at.one("morph")
        at = document.target(held.get("source")) if held is not None else None
    return None, bound


def _values(document: Document, e: Element | None, count: int) -> Floats:
    values = np.asarray(document.numbers(e, float), np.float64)
    if e is not None and len(values) != count:
        raise document.fail(f"<{e.tag}> has {len(values)} numbers, not {count}", document.where(e))
    return values


def _matrix(document: Document, node: Element) -> tuple[Floats, bool]:
    """A node's transforms, each applied after those below it; and whether one of them was left out."""
    out, odd = np.eye(4), False
    for e in node.children:
        step = np.eye(4)
        if e.tag == "matrix":
            step = _values(document, e, 16).reshape(4, 4)
        elif e.tag == "translate":
            step[:3, 3] = _values(document, e, 3)
        elif e.tag == "scale":
            step[:3, :3] = np.diag(_values(document, e, 3))
        elif e.tag == "rotate":
            x, y, z, degrees = _values(document, e, 4)
            step[:3, :3] = _rotation(np.array([x, y, z]), math.radians(degrees))
        elif e.tag == "lookat":
            step = _look_at(_values(document, e, 9).reshape(3, 3))
        elif e.tag == "skew":
            odd = True
        out = out @ step
    return out, odd


def _rotation(axis: Floats, angle: float) -> Floats:
    """Rotation matrix (3, 3) about an axis by radians: Rodrigues' formula."""
    length = float(np.linalg.norm(axis))
    if length < 1e-30:
        return np.eye(3)
    x, y, z = axis / length
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    out: Floats = np.eye(3) + math.sin(angle) * k + (1 - math.cos(angle)) * (k @ k)
    return out


def _look_at(rows: Floats) -> Floats:
    """The place and turn (4, 4) of what looks from the first point to the second, with the third up."""
    eye, interest, up = rows
    back = eye - interest
    back = back / max(float(np.linalg.norm(back)), 1e-30)
    side = np.cross(up, back)
    side = side / max(float(np.linalg.norm(side)), 1e-30)
    out = np.eye(4)
    out[:3, :3] = np.column_stack([side, np.cross(back, side), back])
    out[:3, 3] = eye
    return out


def mesh_of(document: Document, geometry: Element, bindings: Bindings | None = None) -> Mesh | None:
    """The mesh of a <geometry>; None where it has no faces.

    Raises
    ------
    FileError : indices or numbers that do not fit
    """
    e = geometry.one("mesh")
    primitives = primitives_of(document, e) if e is not None else []
    if not primitives:
        return None
    where = document.where(geometry)
    points, positions = _positions(document, primitives, where)
    faces, first = [np.zeros(1, np.int64)], 0
    for p in primitives:
        faces.append(p.faces[1:] + first)
        first += len(p.table)
    bounds = np.concatenate(faces)
    corners, face_of = triangulate(points[positions], bounds)
    if not len(corners):
        return None
    sets = tuple(sorted({s for p in primitives for s in p.sets}))
    channels, rows = {}, {}
    for number, set_ in enumerate(sets):
        uvs, rows[number] = _uvs(document, primitives, set_, positions, where)
        tri = rows[number][corners]
        tri[(tri < 0).any(axis=1)] = -1
        channels[number] = UvChannel(uvs, tri.astype(np.int32))
    key = geometry.get("id")
    of_face = np.repeat(np.arange(len(primitives)), [len(p.faces) - 1 for p in primitives])
    symbols = [bindings.number(key, p.symbol) if bindings is not None else -1 for p in primitives]
    materials = np.array(symbols, np.int32)[of_face[face_of]]
    polygons = Polygons(bounds, positions.astype(np.int32), corners.astype(np.int32), face_of.astype(np.int32))
    return Mesh(
        _name(geometry),
        points,
        positions[corners].astype(np.int32),
        materials,
        channels,
        Key(key, sets, rows, {n: c.uvs for n, c in channels.items()}),
        polygons,
    )


def gathered(
    document: Document, primitives: list[Primitive], semantic: str, set_: int | None, names: str, where: str
) -> tuple[Floats, Numbers]:
    """The values of an input of all primitives, one source after the other, and the row of every corner (C,); -1 where a primitive has none.

    Parameters
    ----------
    semantic, set_ : of the input; names : its columns; where : for errors

    Returns
    -------
    (W, len(names)) values, (C,) rows

    Raises
    ------
    FileError : an index that is not there, or a value that is no number
    """
    first: dict[str, int] = {}
    tables: list[Floats] = []
    rows, count = [], 0
    for p in primitives:
        i = p.find(semantic, set_)
        source = document.target(i.source) if i is not None else None
        if i is None or source is None:
            rows.append(np.full(len(p.table), -1, np.int64))
            continue
        if i.source not in first:
            values = source_values(document, source, names)
            if values is None:
                raise document.fail(f"the source '{i.source}' holds no floats", document.where(source))
            first[i.source], count = count, count + len(values)
            tables.append(values)
        size = len(tables[list(first).index(i.source)])
        index = p.table[:, i.offset]
        if len(index) and not (index.min() >= 0 and index.max() < size):
            raise document.fail(f"an index of {semantic} is {int(index.max())} of {size}", document.where(p.element))
        rows.append(index + first[i.source])
    values = np.concatenate(tables) if tables else np.zeros((0, len(names)))
    if not np.isfinite(values).all():
        raise document.fail(f"a value of {semantic} is not a number", where)
    return values, np.concatenate(rows)


def _positions(document: Document, primitives: list[Primitive], where: str) -> tuple[Floats, Numbers]:
    points, rows = gathered(document, primitives, "POSITION", None, "XYZ", where)
    if (rows < 0).any():
        raise document.fail("its faces have no positions", where)
    return points, rows


def _uvs(document: Document, primitives: list[Primitive], set_: int, positions: Numbers, where: str) -> tuple[Floats, Numbers]:
    """UV rows, one for every distinct pair of position and texture coordinate, and the row of every corner."""
    values, index = gathered(document, primitives, "TEXCOORD", set_, "ST", where)
    has = index >= 0
    rows = np.full(len(index), -1, np.int64)
    pairs, back = np.unique(positions[has] * np.int64(len(values) + 1) + index[has], return_inverse=True)
    rows[has] = back.reshape(-1)
    return values[pairs % (len(values) + 1)], rows


def corner_rows(p: NDArray[np.int64], primitives: list[Primitive]) -> list[NDArray[np.int64]]:
    """Values of all corners (C,) by primitive.

    Parameters
    ----------
    p : (C,) values of all corners; primitives : in their order

    Returns
    -------
    an array for each primitive
    """
    return np.split(p, np.cumsum([len(x.table) for x in primitives])[:-1])
