"""USD: pictures of UsdPreviewSurface materials, materials bound to meshes or to subsets of their faces.

Everything is written into the layer that may speak about the mesh (see `formats.usd`): what lies inside an instance, where it is made.
"""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Sdf, Tf, Usd, UsdGeom, UsdShade, Vt

from ...model.material import Material, Texture
from ...model.scene import Scene
from ..wiring import NewMaterial, Numbers, Rewired, Wiring, face_labels
from .files import Layers, gather, opened, saved
from .looks import author, define_material, show
from .write import channel_name


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`. A package takes the pictures in."""
    layers = gather(written[""], scene.file, {**beside, **written})
    inside = {p: f"textures/{posixpath.basename(p)}" if layers.packed else p for p in wiring.pictures}
    with opened(layers) as (stage, folder):
        author = _Author(stage, folder, layers, scene, wiring, inside)
        for number, labels in sorted(wiring.of_triangle.items()):
            author.mesh(number, labels)
        author.unbound()
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
        self.bases: set[tuple[str, str]] = set()  # materials, by layer and path, that new ones are made from
        self.lost: set[tuple[str, str]] = set()  # those that a mesh was bound to and is not any more
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
        still = {str(m.GetPath()) for m in _bound(prim).values()}
        self.lost |= {(spot.layer, path) for m in bound.values() if (path := str(m.GetPath())) not in still}
        records = [self.wiring.materials[label].record for label in moving]
        if any(r is not None and r.double_sided for r in records) and not UsdGeom.Gprim(prim).GetDoubleSidedAttr().Get():
            UsdGeom.Gprim(prim).CreateDoubleSidedAttr(True)

    def material(self, layer: str, label: int, new: NewMaterial, base: Any, uv: str) -> Any:
        """The material of a label in a layer, made or changed the first time that it is asked for."""
        key = (layer, label, str(base.GetPath()) if base else "")
        if key in self.known:
            return self.known[key]
        stage = self.stages[layer]
        if base is None:
            material = define_material(stage, _looks(stage).AppendChild(Tf.MakeValidIdentifier(new.name)))
            shown = {kind: Texture(kind, self.place(picture, layer), self.wiring.channel) for kind, picture in new.maps.items()}
            author(material, replace(new.record or Material(""), textures=shown), lambda _: uv)
            self.known[key] = material
            return material
        if new.name == self.scene.materials[new.like].name:
            material = base
        else:
            path = base.GetPath().GetParentPath().AppendChild(Tf.MakeValidIdentifier(new.name))
            material = UsdShade.Material.Define(stage, path)
            material.GetPrim().GetReferences().AddInternalReference(base.GetPath())
            self.bases.add((layer, str(base.GetPath())))
        through = self.scene.materials[new.like].see_through
        for kind, picture in new.maps.items():
            show(material, kind, self.place(picture, layer), uv, through)
        self.known[key] = material
        return material

    def unbound(self) -> None:
        """Take out the materials that nothing is bound to any more: they name pictures that do not go along. One that stands in a layer which is not to be
        changed is switched off."""
        for layer, path in sorted(self.lost - self.bases):
            stage = self.stages[layer]
            if any(
                str(m.GetPath()) == path
                for p in Usd.PrimRange.Stage(stage, Usd.TraverseInstanceProxies())
                if p.IsA(UsdGeom.Mesh)
                for m in _bound(p).values()
            ):
                continue
            spec = stage.GetRootLayer().GetPrimAtPath(path)
            if spec is not None and spec.specifier == Sdf.SpecifierDef:
                stage.RemovePrim(path)
            else:
                stage.OverridePrim(path).SetActive(False)
            self.changed.add(layer)

    def place(self, picture: str, layer: str) -> str:
        """The path of a picture as a layer writes it."""
        place = posixpath.relpath(self.inside[picture], posixpath.dirname(layer) or ".")
        return place if place.startswith(".") else f"./{place}"


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
    if gone.all() and api.GetDirectBinding().GetMaterial():
        api.UnbindDirectBinding()  # no face is left that it would be for
    for label, material in moving.items():
        name = Tf.MakeValidIdentifier(f"on_{material.GetPrim().GetName()}")
        subset = api.CreateMaterialBindSubset(name, _ints(np.flatnonzero(faces == label)))
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)


def _ints(values: Numbers) -> Any:
    return Vt.IntArray.FromNumpy(np.ascontiguousarray(values, np.int32))
