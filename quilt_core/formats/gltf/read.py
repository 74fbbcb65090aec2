"""glTF 2.0 and GLB: read into a scene, and write new UVs into the document that was read.

glTF counts v downward from the upper left corner; inside Quilt v grows upward. A texture transform
(KHR_texture_transform) is part of what a renderer samples: the UVs of a scene have it applied, and
writing takes it out again, so that the material stays as it was.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from ...errors import FileError
from ...model.scene import Floats, Mesh, MeshObject, Node, Scene, UvChannel
from . import accessors
from .container import Document, parse
from .draco import lay_open
from .images import Inside
from .materials import materials_of, uv_transform

_UNDERSTOOD = ("KHR_texture_transform", "KHR_mesh_quantization", "KHR_materials_", "KHR_lights_", "KHR_texture_basisu",
               "EXT_texture_", "KHR_animation_pointer", "KHR_xmp", "MSFT_texture_dds", "KHR_node_visibility")  # fmt: skip
_TRIANGLES = 4


@dataclass(frozen=True)
class PrimitiveRows:
    """One primitive inside a mesh: its first vertex row, vertex count, and the vertices that its triangles use."""

    primitive: int
    first: int
    count: int
    used: NDArray[np.int64]


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read a `.glb` or `.gltf` file.

    Parameters
    ----------
    unit_m : not asked; glTF is in metres
    resources : the files beside it by relative path (external buffers)

    Raises
    ------
    FileError : what is wrong, where, and what helps
    """
    document = parse(data, file, resources)
    try:
        return _scene(document, data)
    except (KeyError, TypeError, ValueError, IndexError, AttributeError, OverflowError, AssertionError) as e:
        raise FileError(file, f"it does not follow glTF 2.0 ({type(e).__name__}: {str(e)[:80]})") from e


def _scene(document: Document, data: bytes) -> Scene:
    opened = lay_open(document)
    for name in document.json.get("extensionsRequired", []):
        if not str(name).startswith(_UNDERSTOOD):
            raise document.fail(f"it needs {name}, which is not understood here", "", f"Export it without {name}.")
    scene = Scene(document.file, "gltf", [], [], materials_of(document), data, key=document, inside=Inside(document))
    if opened:
        scene.warnings.append("its meshes were compressed with Draco; what leaves is not compressed")
    uris = [i.get("uri") for i in document.list("images") + document.list("buffers")]
    scene.references = [unquote(u) for u in uris if isinstance(u, str) and not u.startswith("data:")]
    number: dict[int, int] = {}
    placed, scene.nodes = _placed(document)
    scene.further = _further(document)
    for node, name, path, world, place in placed:
        index = node["mesh"]
        if index not in number:
            mesh = _mesh(document, index, scene.warnings)
            if mesh is None:
                continue
            number[index] = len(scene.meshes)
            scene.meshes.append(mesh)
        scene.objects.append(MeshObject(name, path, number[index], world, place))
    if not scene.objects:
        raise document.fail("there is no triangle mesh in its scene", "", "Only points and lines, or empty nodes.")
    return scene


def _matrix(document: Document, node: dict[str, Any], where: str) -> Floats:
    out = np.eye(4)
    if "matrix" in node:
        out = np.array(node["matrix"], float).reshape(4, 4).T
    else:
        x, y, z, w = np.array(node.get("rotation", (0, 0, 0, 1)), float)
        n = math.sqrt(x * x + y * y + z * z + w * w) or 1.0
        x, y, z, w = x / n, y / n, z / n, w / n
        turn = np.array(
            [
                [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
            ]
        )
        out[:3, :3] = turn * np.array(node.get("scale", (1, 1, 1)), float).reshape(3)
        out[:3, 3] = np.array(node.get("translation", (0, 0, 0)), float).reshape(3)
    if not np.isfinite(out).all():
        raise document.fail("its transform is not finite", where)
    return out


def _roots(document: Document) -> list[int]:
    nodes = document.list("nodes")
    scenes = document.list("scenes")
    if scenes:
        chosen = document.json.get("scene", 0)
        order = [document.item("scenes", chosen, "scene"), *scenes]
        return list(dict.fromkeys(int(n) for s in order for n in s.get("nodes", [])))
    children = {c for n in nodes for c in n.get("children", [])}
    return [i for i in range(len(nodes)) if i not in children]


_FURTHER = {"animations": "animation", "skins": "skin", "cameras": "camera"}


def _further(document: Document) -> list[str]:
    """What else is in a document, in words."""
    found = [(len(document.list(key)), word) for key, word in _FURTHER.items()]
    found.append((sum(len(p.get("targets", [])) for m in document.list("meshes") for p in m.get("primitives", [])[:1]), "morph target"))
    lights = (document.json.get("extensions") or {}).get("KHR_lights_punctual") or {}
    found.append((len(lights.get("lights", [])), "light"))
    return [f"{n} {word}{'' if n == 1 else 's'}" for n, word in found if n]


def _placed(document: Document) -> tuple[list[tuple[dict[str, Any], str, str, Floats, int]], list[Node]]:
    """Nodes with a mesh in hierarchy order: (node, name, path, world matrix, number among all nodes); and all nodes."""
    worlds: dict[int, Floats] = {}
    parents: dict[int, int] = {}
    paths: dict[int, str] = {}
    order: list[int] = []
    stack: list[tuple[int, int | None]] = [(r, None) for r in reversed(_roots(document))]
    while stack:
        i, parent = stack.pop()
        where = f"node {i}"
        node = document.item("nodes", i, "scene" if parent is None else f"node {parent}")
        if i in worlds:
            if parent is None:
                continue
            raise document.fail("it is its own ancestor, or has two parents", where, "Export the file again.")
        local = _matrix(document, node, where)
        worlds[i] = local if parent is None else worlds[parent] @ local
        parents[i] = -1 if parent is None else parent
        name = str(node.get("name") or "")
        if not name and "mesh" in node:
            name = str(document.item("meshes", node["mesh"], where).get("name") or "")
        name = name or where
        paths[i] = name if parent is None else f"{paths[parent]}/{name}"
        order.append(i)
        stack += [(c, i) for c in reversed(node.get("children", []))]
    nodes = document.list("nodes")
    found, number = [], {i: n for n, i in enumerate(order)} | {-1: -1}
    for i in order:
        if "mesh" in nodes[i]:
            document.item("meshes", nodes[i]["mesh"], f"node {i}")
            world = _skinned(document, nodes[i], worlds, worlds[i])
            found.append((nodes[i], paths[i].rsplit("/", 1)[-1], paths[i], world, number[i]))
    own = [Node(paths[i].rsplit("/", 1)[-1], number[parents[i]], worlds[i], nodes[i].get("extras")) for i in order]
    return found, own


def _skinned(document: Document, node: dict[str, Any], worlds: dict[int, Floats], own: Floats) -> Floats:
    """World matrix of a mesh; a skinned one ignores its node and follows its joints (specification 3.7.3.3).

    The first joint stands for all: in the rest pose they agree, and only the size matters here.
    """
    if "skin" not in node:
        return own
    skin = document.item("skins", node["skin"], "skin")
    joint = skin["joints"][0]
    if joint not in worlds:
        return own
    if "inverseBindMatrices" not in skin:
        return worlds[joint]
    inverse = accessors.floats(document, skin["inverseBindMatrices"], 16, "skin")[0].reshape(4, 4).T
    return worlds[joint] @ inverse


def _mesh(document: Document, index: int, warnings: list[str]) -> Mesh | None:
    source = document.item("meshes", index, "node")
    positions, triangles, materials, parts = [], [], [], []
    per_channel: dict[int, list[tuple[PrimitiveRows, Floats]]] = {}
    first, tangents = 0, False
    colours: list[Floats | None] = []
    for p, primitive in enumerate(source.get("primitives", [])):
        where = f"mesh {index}, primitive {p}"
        attributes = primitive.get("attributes", {})
        if primitive.get("mode", _TRIANGLES) not in (4, 5, 6):
            continue
        if "POSITION" not in attributes:
            warnings.append(f"{where} has no positions and is left out")
            continue
        xyz = accessors.floats(document, attributes["POSITION"], 3, where)
        tri = triangles_of(document, primitive, len(xyz), where)
        part = PrimitiveRows(p, first, len(xyz), np.unique(tri))
        for name, accessor in attributes.items():
            if name.startswith("TEXCOORD_") and name[9:].isdecimal():
                uv = accessors.floats(document, accessor, 2, where)
                if len(uv) != len(xyz):
                    raise document.fail(f"{name} has {len(uv)} entries for {len(xyz)} vertices", where)
                matrix = uv_transform(document, primitive, int(name[9:]))
                per_channel.setdefault(int(name[9:]), []).append((part, _inside(uv, matrix)))
        tangents |= "TANGENT" in attributes
        colours.append(_colours(document, attributes, len(xyz), where))
        positions.append(xyz)
        triangles.append(tri + first)
        materials.append(np.full(len(tri), primitive.get("material", -1), np.int32))
        parts.append(part)
        first += len(xyz)
    if not triangles or not sum(len(t) for t in triangles):
        return None
    all_triangles = np.concatenate(triangles).astype(np.int32)
    channels = {}
    for channel, pieces in sorted(per_channel.items()):
        uvs = np.zeros((first, 2))
        has = np.zeros(first, bool)
        for part, uv in pieces:
            uvs[part.first : part.first + part.count] = uv
            has[part.first : part.first + part.count] = True
        rows = np.where(has[all_triangles], all_triangles, -1).astype(np.int32)
        channels[channel] = UvChannel(uvs, rows)
    name = str(source.get("name") or f"mesh {index}")
    return Mesh(
        name,
        np.concatenate(positions),
        all_triangles,
        np.concatenate(materials),
        channels,
        (index, parts),
        tangents=tangents,
        extras=source.get("extras"),
        colours=_at_corners(colours, parts, all_triangles),
    )


def _colours(document: Document, attributes: dict[str, Any], count: int, where: str) -> Floats | None:
    """Linear colours (count, 4) of the vertices of a primitive."""
    if "COLOR_0" not in attributes:
        return None
    width = {"VEC3": 3, "VEC4": 4}.get(document.item("accessors", attributes["COLOR_0"], where).get("type", ""), 0)
    if not width:
        return None
    values = accessors.floats(document, attributes["COLOR_0"], width, where)
    return np.column_stack([values, np.ones((len(values), 4 - width))]) if len(values) == count else None


def _at_corners(colours: list[Floats | None], parts: list[PrimitiveRows], triangles: NDArray[np.int32]) -> Floats | None:
    """Colours (T, 3, 4) at the corners; white where a primitive has none."""
    if all(c is None for c in colours):
        return None
    whole = np.concatenate([np.ones((p.count, 4)) if c is None else c for c, p in zip(colours, parts, strict=True)])
    return np.asarray(whole[triangles])


def _inside(uv: Floats, matrix: Floats | None) -> Floats:
    """glTF UVs (v downward) to Quilt's (v upward), through the material's transform."""
    if matrix is not None:
        uv = uv @ matrix[:, :2].T + matrix[:, 2]
    return np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1)


def outside(uv: Floats, matrix: Floats | None) -> Floats:
    """The inverse of `_inside`.

    Parameters
    ----------
    uv : (W, 2) as they are used here; matrix : (2, 3) of `uv_transform`, or None

    Returns
    -------
    (W, 2) as they stand in the file
    """
    out = np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1)
    if matrix is not None:
        out = (out - matrix[:, 2]) @ np.linalg.inv(matrix[:, :2]).T
    return out


def triangles_of(document: Document, primitive: dict[str, Any], vertices: int, where: str) -> NDArray[np.int64]:
    """Triangles (T, 3) of a primitive, whatever its mode.

    Parameters
    ----------
    vertices : how many the primitive has; where : for errors

    Returns
    -------
    (T, 3) int64
    """
    if "indices" in primitive:
        i = accessors.indices(document, primitive["indices"], vertices, where)
    else:
        i = np.arange(vertices)
    mode = primitive.get("mode", _TRIANGLES)
    if mode == _TRIANGLES:
        return i[: len(i) // 3 * 3].reshape(-1, 3)
    if len(i) < 3:
        return np.zeros((0, 3), np.int64)
    if mode == 5:  # a strip: every second triangle turns the other way
        tri = np.stack([i[:-2], i[1:-1], i[2:]], axis=1)
        tri[1::2] = tri[1::2][:, [1, 0, 2]]
        return tri
    return np.stack([i[1:-1], i[2:], np.full(len(i) - 2, i[0])], axis=1)
