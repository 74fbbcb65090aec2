"""Materials of a USD scene: which face has which, the pictures of their UsdPreviewSurface, and new pictures in place of the old ones.

Standard: the UsdPreviewSurface specification (inputs of the surface, UsdUVTexture, UsdPrimvarReader_float2).
"""

from __future__ import annotations

import posixpath
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdShade

from ...model.scene import Material
from .files import Layers

INPUTS = ("diffuseColor", "normal", "occlusion", "emissiveColor", "roughness", "metallic", "specularColor", "opacity", "displacement")


class Materials:
    """The materials that meshes are bound to, numbered as they come."""

    def __init__(self, folder: Path, layers: Layers) -> None:
        self.folder, self.layers = folder, layers
        self.found: list[Material] = []
        self.paths: list[str] = []
        self.warnings: list[str] = []

    def of_faces(self, prim: Any, count: int, names: list[str]) -> NDArray[np.int32]:
        """Number of the material (count,) of every face of a mesh, -1 for none; `names` are the primvars of the mesh's channels."""
        out = np.full(count, self._number(UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0], names), np.int32)
        for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
            faces = np.array(subset.GetIndicesAttr().Get(Usd.TimeCode.EarliestTime()) or [], np.int64)
            number = self._number(UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0], names)
            out[faces[(faces >= 0) & (faces < count)]] = number
        return out

    def _number(self, material: Any, names: list[str]) -> int:
        if not material:
            return -1
        path = str(material.GetPath())
        if path not in self.paths:
            self.paths.append(path)
            images, channels = self._pictures(material, names)
            self.found.append(Material(material.GetPrim().GetName(), images, channels, _colour(material)))
        return self.paths.index(path)

    def _pictures(self, material: Any, names: list[str]) -> tuple[dict[str, str], dict[str, int]]:
        images: dict[str, str] = {}
        channels: dict[str, int] = {}
        surface = surface_of(material)
        for slot in INPUTS if surface else ():
            texture = texture_of(surface, slot)
            attribute = None if texture is None else _producer(texture.GetInput("file"))
            asset = None if attribute is None else attribute.Get()
            if asset is None or not asset.path:
                continue
            images[slot] = self._path(attribute, asset.path)
            channels[slot] = self._channel(texture, material, names)
        return images, channels

    def _path(self, attribute: Any, path: str) -> str:
        """The path of a picture from the root's folder; it is written relative to the layer that names it."""
        layer = Path(attribute.GetPropertyStack(Usd.TimeCode.Default())[0].layer.realPath)
        inside = layer.is_relative_to(self.folder)
        folder = posixpath.dirname(layer.relative_to(self.folder).as_posix()) if inside else ""
        return posixpath.normpath(posixpath.join(folder, path.replace("\\", "/")))

    def _channel(self, texture: Any, material: Any, names: list[str]) -> int:
        source = _shader(texture.GetInput("st"))
        if source is not None and source.GetIdAttr().Get() == "UsdTransform2d":
            self.warnings.append(
                f"the material '{material.GetPrim().GetName()}' moves the UVs that it reads: its old pictures are read without that"
            )
            source = _shader(source.GetInput("in"))
        attribute = None if source is None else _producer(source.GetInput("varname"))
        name = "" if attribute is None else str(attribute.Get())
        return names.index(name) if name in names else 0


def _colour(material: Any) -> tuple[float, float, float] | None:
    """The plain colour of a surface; white where a picture takes its place."""
    surface = surface_of(material)
    attribute = _producer(surface.GetInput("diffuseColor")) if surface else None
    value = None if attribute is None else attribute.Get()
    if texture_of(surface, "diffuseColor") is not None if surface else False:
        return 1.0, 1.0, 1.0
    return None if value is None or len(value) != 3 else (float(value[0]), float(value[1]), float(value[2]))


def surface_of(material: Any) -> Any:
    """The UsdPreviewSurface of a material, None where it has another or none."""
    shader = material.ComputeSurfaceSource()[0]
    return shader if shader and shader.GetIdAttr().Get() == "UsdPreviewSurface" else None


def texture_of(surface: Any, slot: str) -> Any:
    """The UsdUVTexture that feeds an input, None for none."""
    shader = _shader(surface.GetInput(slot))
    return shader if shader is not None and shader.GetIdAttr().Get() == "UsdUVTexture" else None


def _producer(entry: Any) -> Any:
    """The attribute that an input gets its value from."""
    found = UsdShade.Utils.GetValueProducingAttributes(entry) if entry else []
    return found[0] if found else None


def _shader(entry: Any) -> Any:
    """The shader that an input is connected to, through whatever groups lie between."""
    attribute = _producer(entry)
    shader = UsdShade.Shader(attribute.GetPrim()) if attribute is not None else None
    own = entry.GetPrim() if entry else None
    return shader if shader and shader.GetPrim() != own else None
