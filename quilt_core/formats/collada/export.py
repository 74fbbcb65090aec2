"""COLLADA 1.4.1 by pycollada: nodes by path, meshes shared by their objects, polygons, channels as sets, materials of the common profile."""

from __future__ import annotations

import io
from typing import Any

import collada
import numpy as np
from collada import geometry, material, scene, source

from ...model.scene import Floats
from ..model import Corners, Look, Model, distinct

# Slots of the common profile for kinds of maps; the others have no place in it.
SLOTS = {"base colour": "diffuse", "emission": "emission", "specular": "specular", "opacity": "transparent"}


def export(model: Model, name: str, ending: str) -> dict[str, bytes]:
    """See `formats.export`."""
    out = collada.Collada()
    out.assetInfo.unitname, out.assetInfo.unitmeter = "metre", 1.0
    out.assetInfo.upaxis = collada.asset.UP_AXIS.Y_UP
    channels = model.channels
    materials = [_material(out, n, look, channels) for n, look in enumerate(model.looks)]
    meshes = [_mesh(out, n, *m, channels) for n, m in enumerate(model.meshes)]
    nodes = _nodes(model, meshes, materials, channels)
    root = scene.Scene("scene", nodes)
    out.scenes.append(root)
    out.scene = root
    body = io.BytesIO()
    out.write(body)
    return {f"{name}.dae": body.getvalue(), **model.shown}


def _material(out: Any, number: int, look: Look, channels: list[int]) -> Any:
    params: list[Any] = []
    slots: dict[str, Any] = {}
    for kind, path in look.maps.items():
        slot = SLOTS.get(kind, "bump" if kind == "normal" else "")
        if not slot:
            continue
        image = material.CImage(f"image-{number}-{slot}", path)
        surface = material.Surface(f"surface-{number}-{slot}", image)
        sampler = material.Sampler2D(f"sampler-{number}-{slot}", surface)
        out.images.append(image)
        params += [surface, sampler]
        reads = look.reads.get(kind, 0)
        slots[slot] = material.Map(sampler, f"UV{channels.index(reads) if reads in channels else 0}")
    if "diffuse" not in slots:
        r, g, b = look.colour if look.colour is not None else (1.0, 1.0, 1.0)
        slots["diffuse"] = (float(r), float(g), float(b), 1.0)
    bump = slots.pop("bump", None)
    effect = material.Effect(f"effect-{number}", params, "lambert", bumpmap=bump, **slots)
    found = material.Material(f"material-{number}", look.name, effect)
    out.effects.append(effect)
    out.materials.append(found)
    return found


def _mesh(out: Any, number: int, label: str, positions: Floats, corners: Corners, channels: list[int]) -> Any:
    """A geometry; every mesh has all channels, zero where it has no UVs, so that their numbers stay."""
    key = f"mesh-{number}"
    sources = [source.FloatSource(f"{key}-position", np.ascontiguousarray(positions, np.float64).ravel(), ("X", "Y", "Z"))]
    table, inputs = [corners.position], source.InputList()
    inputs.addInput(0, "VERTEX", f"#{key}-position")
    columns: list[tuple[str, str, Any, tuple[str, ...], str | None]] = []
    if corners.normal is not None:
        columns.append(("NORMAL", "normal", corners.normal, ("X", "Y", "Z"), None))
    for n, c in enumerate(channels):
        uv = corners.uvs.get(c)
        flat = np.zeros((len(corners.position), 2)) if uv is None else np.nan_to_num(uv)
        columns.append(("TEXCOORD", f"uv{n}", flat, ("S", "T"), str(n)))
    for semantic, end, values, params, set_ in columns:
        at, row = distinct(values)
        sources.append(source.FloatSource(f"{key}-{end}", np.ascontiguousarray(values[at]).ravel(), params))
        inputs.addInput(len(table), semantic, f"#{key}-{end}", set_)
        table.append(row)
    found = geometry.Geometry(out, key, label, sources)
    index = np.column_stack(table)
    counts = np.diff(corners.faces)
    for look in np.unique(corners.look):
        mine = corners.look == look
        use = index[np.repeat(mine, counts)]
        found.primitives.append(found.createPolylist(use.ravel(), counts[mine], inputs, f"symbol-{look}" if look >= 0 else None))
    out.geometries.append(found)
    return found


def _nodes(model: Model, meshes: list[Any], materials: list[Any], channels: list[int]) -> list[Any]:
    """Nodes by the paths of the objects; groups stand at the origin, and each object where it is in the world."""
    top: list[Any] = []
    groups: dict[str, Any] = {}

    def group(path: str) -> list[Any]:
        if not path:
            return top
        if path not in groups:
            above, _, own = path.rpartition("/")
            place = group(above)
            groups[path] = scene.Node(f"group-{len(groups)}", children=[], transforms=[], name=own)
            place.append(groups[path])
        return groups[path].children  # type: ignore[no-any-return]

    inputs = [(f"UV{n}", "TEXCOORD", str(n)) for n in range(len(channels))]
    for n, item in enumerate(model.items):
        looks = np.unique(model.meshes[item.mesh][2].look)
        bound = [scene.MaterialNode(f"symbol-{k}", materials[k], inputs=inputs) for k in looks if k >= 0]
        matrix = scene.MatrixTransform(np.ascontiguousarray(item.world, np.float64).ravel())
        node = scene.Node(f"object-{n}", children=[scene.GeometryNode(meshes[item.mesh], bound)], transforms=[matrix], name=item.name)
        group(item.path.rpartition("/")[0]).append(node)
    return top
