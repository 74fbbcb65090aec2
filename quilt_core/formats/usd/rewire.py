"""USD: pictures of UsdPreviewSurface materials, materials bound to meshes or to subsets of their faces.

Everything is written into the layer that may speak about the mesh (see `formats.usd`): what lies inside an instance, where it is made.
"""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, UsdShade, Vt

from ...model.scene import Scene
from ..wiring import NewMaterial, Numbers, Rewired, Wiring, face_labels
from .files import Layers, gather, opened, saved
from .materials import surface_of, texture_of
from .write import channel_name

# Kind of map to (input of the surface, its type, output of the texture, colour space).
SLOTS: dict[str, list[tuple[str, Any, str, str]]] = {
    "base colour": [("diffuseColor", Sdf.ValueTypeNames.Color3f, "rgb", "sRGB")],
    "emission": [("emissiveColor", Sdf.ValueTypeNames.Color3f, "rgb", "sRGB")],
    "specular": [("specularColor", Sdf.ValueTypeNames.Color3f, "rgb", "sRGB")],
    "normal": [("normal", Sdf.ValueTypeNames.Normal3f, "rgb", "raw")],
    "occlusion": [("occlusion", Sdf.ValueTypeNames.Float, "r", "raw")],
    "roughness": [("roughness", Sdf.ValueTypeNames.Float, "r", "raw")],
    "metal": [("metallic", Sdf.ValueTypeNames.Float, "r", "raw")],
    "opacity": [("opacity", Sdf.ValueTypeNames.Float, "r", "raw")],
    "height": [("displacement", Sdf.ValueTypeNames.Float, "r", "raw")],
    # One picture for both, as glTF has it.
    "metal and roughness": [
        ("metallic", Sdf.ValueTypeNames.Float, "b", "raw"), ("roughness", Sdf.ValueTypeNames.Float, "g", "raw"),
    ],
}  # fmt: skip


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`. A package takes the pictures in."""
    layers = gather(written[""], scene.file, {**beside, **written})
    inside = {p: f"textures/{posixpath.basename(p)}" if layers.packed else p for p in wiring.pictures}
    with opened(layers) as (stage, folder):
        author = _Author(stage, folder, layers, scene, wiring, inside)
        for number, labels in sorted(wiring.of_triangle.items()):
            author.mesh(number, labels)
        if layers.packed:
            layers.bodies |= {inside[p]: body for p, body in wiring.pictures.items()}
        out = saved(folder, layers, author.changed)
    if not layers.packed:
        out |= {p: body for p, body in wiring.pictures.items() if not p.startswith("..")}
    return Rewired({**written, **out})


class _Author:
    """Writes materials and bindings; `changed` are the layers that differ afterwards."""

    def __init__(self, stage: Any, folder: Path, layers: Layers, scene: Scene, wiring: Wiring, inside: Mapping[str, str]) -> None:
        self.folder, self.layers, self.scene, self.wiring, self.inside = folder, layers, scene, wiring, inside
        self.stages: dict[str, Any] = {layers.root: stage}
        self.known: dict[tuple[str, int, str], Any] = {}
        self.changed: set[str] = set()

    def mesh(self, number: int, labels: Numbers) -> None:
        """Give the faces of a mesh their materials."""
        spot, polygons = self.scene.meshes[number].key, self.scene.meshes[number].polygons
        assert polygons is not None
        if spot.layer not in self.stages:
            self.stages[spot.layer] = Usd.Stage.Open(str(self.folder / spot.layer))
        stage = self.stages[spot.layer]
        prim = stage.OverridePrim(spot.path)
        faces = face_labels(polygons.face_of, labels, len(polygons.faces) - 1)
        bound = _bound(prim)
        uv = channel_name(spot.names, self.wiring.channel)
        moving: dict[int, Any] = {}
        for label in np.unique(faces[faces >= 0]):
            new = self.wiring.materials[label]
            base = bound.get(self.scene.materials[new.like].name) if new.like >= 0 else None
            material = self.material(spot.layer, int(label), new, base, uv)
            if base is None or material.GetPath() != base.GetPath():
                moving[int(label)] = material
        self.changed.add(spot.layer)
        if moving:
            bind(prim, faces, moving)

    def material(self, layer: str, label: int, new: NewMaterial, base: Any, uv: str) -> Any:
        """The material of a label in a layer, made or changed the first time that it is asked for."""
        key = (layer, label, str(base.GetPath()) if base else "")
        if key in self.known:
            return self.known[key]
        stage = self.stages[layer]
        if base is None:
            material = define_material(stage, _looks(stage).AppendChild(Tf.MakeValidIdentifier(new.name)))
        elif new.name == self.scene.materials[new.like].name:
            material = base
        else:
            path = base.GetPath().GetParentPath().AppendChild(Tf.MakeValidIdentifier(new.name))
            material = UsdShade.Material.Define(stage, path)
            material.GetPrim().GetReferences().AddInternalReference(base.GetPath())
        for kind, picture in new.maps.items():
            place = posixpath.relpath(self.inside[picture], posixpath.dirname(layer) or ".")
            show(material, kind, place if place.startswith(".") else f"./{place}", uv)
        self.known[key] = material
        return material


def _looks(stage: Any) -> Any:
    """Where materials go: under the default prim, so that they go where it goes."""
    top = stage.GetDefaultPrim()
    path = (top.GetPath() if top else Sdf.Path.absoluteRootPath).AppendChild("Looks")
    if not stage.GetPrimAtPath(path):
        UsdGeom.Scope.Define(stage, path)
    return path


def _bound(prim: Any) -> dict[str, Any]:
    """Materials that a mesh and its subsets are bound to, by name."""
    places = [prim, *(s.GetPrim() for s in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets())]
    found = [UsdShade.MaterialBindingAPI(p).ComputeBoundMaterial()[0] for p in places]
    return {m.GetPrim().GetName(): m for m in found if m}


def bind(prim: Any, faces: Numbers, moving: Mapping[int, Any]) -> None:
    """Bind faces by label: the whole mesh where all go to one material, else subsets, taken out of those that there were."""
    api = UsdShade.MaterialBindingAPI.Apply(prim)
    gone = np.isin(faces, list(moving))
    for subset in api.GetMaterialBindSubsets():
        old = np.array(subset.GetIndicesAttr().Get() or [], np.int64)
        left = old[(old >= 0) & (old < len(faces)) & ~gone[np.clip(old, 0, len(faces) - 1)]]
        if len(left) < len(old):
            subset.GetIndicesAttr().Set(_ints(left))
        if not len(left):
            subset.GetPrim().SetActive(False)
    if gone.all() and len(moving) == 1:
        api.Bind(next(iter(moving.values())))
        return
    for label, material in moving.items():
        name = Tf.MakeValidIdentifier(f"on_{material.GetPrim().GetName()}")
        subset = api.CreateMaterialBindSubset(name, _ints(np.flatnonzero(faces == label)))
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)


def _ints(values: Numbers) -> Any:
    return Vt.IntArray.FromNumpy(np.ascontiguousarray(values, np.int32))


def define_material(stage: Any, path: Any) -> Any:
    """A new material with a plain UsdPreviewSurface."""
    material = UsdShade.Material.Define(stage, path)
    surface = UsdShade.Shader.Define(stage, path.AppendChild("Surface"))
    surface.CreateIdAttr("UsdPreviewSurface")
    material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
    return material


def show(material: Any, kind: str, picture: str, uv: str) -> None:
    """Let the surface of a material read a picture by a primvar; nothing happens where it has another kind of surface."""
    surface = surface_of(material)
    if surface is None:
        return
    stage, path = material.GetPrim().GetStage(), material.GetPath()
    reader = UsdShade.Shader.Define(stage, path.AppendChild("SheetUv"))
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set(uv)
    reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    for slot, type_name, output, space in SLOTS.get(kind, []):
        texture = texture_of(surface, slot)
        if texture is None:
            texture = UsdShade.Shader.Define(stage, path.AppendChild(f"Sheet{slot[0].upper()}{slot[1:]}"))
            texture.CreateIdAttr("UsdUVTexture")
            texture.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set(space)
            if kind == "normal":
                texture.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(2, 2, 2, 1))
                texture.CreateInput("bias", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(-1, -1, -1, 0))
            texture.CreateOutput(output, Sdf.ValueTypeNames.Float3 if output == "rgb" else Sdf.ValueTypeNames.Float)
            surface.CreateInput(slot, type_name).ConnectToSource(texture.ConnectableAPI(), output)
        file = texture.CreateInput("file", Sdf.ValueTypeNames.Asset)
        if file.HasConnectedSource():
            file.ClearSources()
        file.Set(Sdf.AssetPath(picture))
        texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
