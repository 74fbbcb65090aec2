"""COLLADA 1.4.1 by pycollada: nodes by path, meshes shared by their objects, polygons, channels as sets, materials of the common profile."""

from __future__ import annotations

import io
from typing import Any

import collada
import numpy as np
from collada import geometry, material, scene, source

from ...model.colours import stored_of
from ...model.material import OPAQUE, Material
from ...model.scene import Floats
from ..model import Corners, Model, distinct
from .materials import WRAPS

# Slots of the common profile for kinds of maps; the others have no place in it.
SLOTS = {"base colour": "diffuse", "emission": "emission", "specular": "specular", "opacity": "transparent"}

_WORDS = {name: word for word, name in WRAPS.items() if word != "NONE"}


def export(model: Model, name: str, ending: str) -> dict[str, bytes]:
    """See `formats.export`."""
    out = collada.Collada()
    out.assetInfo.unitname, out.assetInfo.unitmeter = "metre", 1.0
    out.assetInfo.upaxis = collada.asset.UP_AXIS.Y_UP
    channels = model.channels
    materials = [_material(out, n, look, channels) for n, look in enumerate(model.looks)]
    meshes = [_mesh(out, n, *m, model.channels_of(m[2])) for n, m in enumerate(model.meshes)]
    nodes = _nodes(model, meshes, materials, channels)
    root = scene.Scene("scene", nodes)
    out.scenes.append(root)
    out.scene = root
    body = io.BytesIO()
    out.write(body)
    return {f"{name}.dae": body.getvalue(), **model.shown}


def _material(out: Any, number: int, look: Material, channels: list[int]) -> Any:
    params: list[Any] = []
    slots: dict[str, Any] = {}
    samplers: dict[tuple[str, tuple[str, str]], Any] = {}
    for kind, texture in look.maps.items():
        slot = SLOTS.get(kind, "bump" if kind in ("normal", "height") else "")
        if not slot or (slot == "bump" and "bump" in slots):
            continue
        key = texture.path, texture.wrap
        if key not in samplers:
            image = material.CImage(f"image-{number}-{slot}", texture.path)
            surface = material.Surface(f"surface-{number}-{slot}", image)
            samplers[key] = material.Sampler2D(f"sampler-{number}-{slot}", surface)
            _wrap(samplers[key], texture.wrap)
            out.images.append(image)
            params += [surface, samplers[key]]
        slots[slot] = material.Map(samplers[key], f"UV{channels.index(texture.channel) if texture.channel in channels else 0}")
    for slot, colour in (("diffuse", look.colour or (1.0, 1.0, 1.0)), ("emission", look.emission), ("specular", look.specular)):
        if slot not in slots and colour is not None:
            slots[slot] = (*stored_of(colour), 1.0)
    if look.alpha != OPAQUE:
        slots.setdefault("transparent", (1.0, 1.0, 1.0, 1.0))
        slots["transparency"] = 1.0 if look.opacity is None else float(look.opacity)
    shading = "phong" if look.gloss is not None or "specular" in slots else "lambert"
    if look.gloss is not None:
        slots["shininess"] = float(look.gloss)
    bump = slots.pop("bump", None)
    effect = material.Effect(f"effect-{number}", params, shading, bumpmap=bump, double_sided=look.double_sided, **slots)
    if bump is not None and "normal" not in look.maps:
        for e in effect.xmlnode.iter():
            if str(e.tag).rpartition("}")[2] == "bump":
                e.set("bumptype", "HEIGHTFIELD")
    found = material.Material(f"material-{number}", look.name, effect)
    out.effects.append(effect)
    out.materials.append(found)
    return found


def _wrap(sampler: Any, wrap: tuple[str, str]) -> None:
    """What is beyond the border of a picture; pycollada has no words for it."""
    if wrap == ("repeat", "repeat"):
        return
    node = sampler.xmlnode.find(collada.common.tag("sampler2D"))
    for name, word in zip(("wrap_s", "wrap_t"), wrap, strict=True):
        node.append(getattr(collada.common.E, name)(_WORDS[word]))


def _mesh(out: Any, number: int, label: str, positions: Floats, corners: Corners, channels: list[int]) -> Any:
    """A geometry with its channels (see `Model.channels_of`), zero where it has no UVs, so that their numbers stay."""
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
    """The hierarchy, and the geometries at their nodes."""
    top: list[Any] = []
    made: list[Any] = []
    inputs = [(f"UV{n}", "TEXCOORD", str(n)) for n in range(len(channels))]
    items = {item.node: item for item in model.items}
    for n, (node, local) in enumerate(zip(model.nodes, model.locals, strict=True)):
        transforms = (
            [] if np.allclose(local, np.eye(4), atol=0) else [scene.MatrixTransform(np.ascontiguousarray(local, np.float64).ravel())]
        )
        children = []
        if n in items:
            looks = np.unique(model.meshes[items[n].mesh][2].look)
            mine = inputs[: len(model.channels_of(model.meshes[items[n].mesh][2]))]
            bound = [scene.MaterialNode(f"symbol-{k}", materials[k], inputs=mine) for k in looks if k >= 0]
            children.append(scene.GeometryNode(meshes[items[n].mesh], bound))
        made.append(scene.Node(f"node-{n}", children=children, transforms=transforms, name=node.name))
        (top if node.parent < 0 else made[node.parent].children).append(made[n])
    return top
