"""Materials of a USD scene: which face has which, the pictures of their UsdPreviewSurface, and new pictures in place of the old ones.

Standard: the UsdPreviewSurface specification (inputs of the surface, UsdUVTexture, UsdPrimvarReader_float2).
"""

from __future__ import annotations

import math
import posixpath
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom, UsdShade

from ...model.material import BLEND, MASK, OPAQUE, Affine, Colour, Material, Texture, Values, affine_of
from ..kinds import kind_of
from .files import Layers

INPUTS = ("diffuseColor", "normal", "occlusion", "emissiveColor", "roughness", "metallic", "specularColor", "opacity", "displacement",
          "clearcoat", "clearcoatRoughness")  # fmt: skip
WRAPS = {"repeat": "repeat", "clamp": "clamp", "mirror": "mirror", "black": "none"}
# What a normal map is multiplied by and what is added, from stored values to vectors.
NORMAL = (2.0, 2.0, 2.0, 1.0), (-1.0, -1.0, -1.0, 0.0)
_FURTHER = ("clearcoat", "clearcoatRoughness", "ior", "displacement", "useSpecularWorkflow")


class Materials:
    """The materials that meshes are bound to, numbered as they come."""

    def __init__(self, folder: Path, layers: Layers) -> None:
        self.folder, self.layers = folder, layers
        self.found: list[Material] = []
        self.paths: list[str] = []
        self.warnings: list[str] = []
        self.one_sided: set[int] = set()

    def done(self) -> list[Material]:
        """All of them. USD has two sides by mesh, so a material has them where all of its meshes do."""
        return [replace(m, double_sided=n not in self.one_sided) for n, m in enumerate(self.found)]

    def of_faces(self, prim: Any, count: int, names: list[str]) -> NDArray[np.int32]:
        """Number of the material (count,) of every face of a mesh, -1 for none; `names` are the primvars of the mesh's channels."""
        out = np.full(count, self._number(UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0], names), np.int32)
        for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
            faces = np.array(subset.GetIndicesAttr().Get(Usd.TimeCode.EarliestTime()) or [], np.int64)
            number = self._number(UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0], names)
            out[faces[(faces >= 0) & (faces < count)]] = number
        if not UsdGeom.Gprim(prim).GetDoubleSidedAttr().Get():
            self.one_sided |= set(np.unique(out).tolist())
        return out

    def _number(self, material: Any, names: list[str]) -> int:
        if not material:
            return -1
        path = str(material.GetPath())
        if path not in self.paths:
            self.paths.append(path)
            self.found.append(self._record(material, names))
        return self.paths.index(path)

    def _record(self, material: Any, names: list[str]) -> Material:
        name, surface = material.GetPrim().GetName(), surface_of(material)
        if not surface:
            other = material.ComputeSurfaceSource()[0]
            kind = other.GetIdAttr().Get() if other else None
            return Material(name, further=(str(kind),) if kind else ())
        textures = self._textures(surface, material, names)
        opacity, cutoff = _number(surface, "opacity", 1.0), _number(surface, "opacityThreshold", 0.0)
        through = textures.get("opacity")
        # Where the opacity is the fourth channel of the base colour's picture, that says it.
        base = textures.get("diffuseColor")
        if through is not None and base is not None and (through.path, through.channel, through.part) == (base.path, base.channel, "a"):
            opacity = 1.0 if through.scale is None else through.scale[3]
            del textures["opacity"]
            if base.scale is not None:
                tint = (*base.scale[:3], 1.0)
                textures["diffuseColor"] = replace(base, scale=None if tint == (1.0,) * 4 and base.bias is None else tint)
        return Material(
            name,
            textures,
            _colour(surface, "diffuseColor", (0.18, 0.18, 0.18), base),
            opacity,
            _scaled(surface, "metallic", 0.0, textures),
            _scaled(surface, "roughness", 0.5, textures),
            _colour(surface, "emissiveColor", (0.0, 0.0, 0.0), textures.get("emissiveColor")),
            specular=_colour(surface, "specularColor", None, textures.get("specularColor"))
            if _number(surface, "useSpecularWorkflow", 0)
            else None,
            alpha=MASK if cutoff > 0 else BLEND if opacity < 1 or through is not None else OPAQUE,
            cutoff=cutoff if cutoff > 0 else 0.5,
            further=tuple(n for n in _FURTHER if n not in textures and _number(surface, n, 0.0)),
        )

    def _textures(self, surface: Any, material: Any, names: list[str]) -> dict[str, Texture]:
        out: dict[str, Texture] = {}
        for slot in INPUTS:
            shader = texture_of(surface, slot)
            attribute = None if shader is None else _producer(shader.GetInput("file"))
            asset = None if attribute is None else attribute.Get()
            if asset is None or not asset.path:
                continue
            channel, placed = self._reader(shader, material, names)
            wrap = tuple(WRAPS.get(str(_value(shader, f"wrap{x}", "repeat")), "repeat") for x in "ST")
            part = _output(surface, slot)
            usual: tuple[Values | None, Values | None] = NORMAL if slot == "normal" else (None, None)
            scale, bias = _values(shader, "scale"), _values(shader, "bias")
            if slot == "normal" and (scale is None or bias is None):
                scale = bias = None  # stored as it is to be
            elif (scale, bias) == usual or (scale in (None, (1.0, 1.0, 1.0, 1.0)) and bias in (None, (0.0, 0.0, 0.0, 0.0))):
                scale = bias = None
            out[slot] = Texture(
                kind_of(slot),
                self._path(attribute, asset.path),
                channel,
                placed,
                None,
                (wrap[0], wrap[1]),
                "" if part == "rgb" else part,
                scale,
                bias,
            )
        return out

    def _path(self, attribute: Any, path: str) -> str:
        """The path of a picture from the root's folder; it is written relative to the layer that names it."""
        layer = Path(attribute.GetPropertyStack(Usd.TimeCode.Default())[0].layer.realPath)
        inside = layer.is_relative_to(self.folder)
        folder = posixpath.dirname(layer.relative_to(self.folder).as_posix()) if inside else ""
        return posixpath.normpath(posixpath.join(folder, path.replace("\\", "/")))

    def _reader(self, texture: Any, material: Any, names: list[str]) -> tuple[int, Affine | None]:
        """The channel that a texture reads, and how its UVs are moved before (UsdTransform2d: scaled, turned, then moved)."""
        source, matrix = _shader(texture.GetInput("st")), np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
        for _ in range(8):
            if source is None or source.GetIdAttr().Get() != "UsdTransform2d":
                break
            (sx, sy), (tx, ty) = _value(source, "scale", (1.0, 1.0)), _value(source, "translation", (0.0, 0.0))
            angle = math.radians(float(_value(source, "rotation", 0.0)))
            c, s = math.cos(angle), math.sin(angle)
            own = np.array([[c * sx, -s * sy, tx], [s * sx, c * sy, ty]])
            # The one that is nearer the texture comes last.
            matrix = np.column_stack([matrix[:, :2] @ own[:, :2], matrix[:, :2] @ own[:, 2] + matrix[:, 2]])
            source = _shader(source.GetInput("in"))
        attribute = None if source is None else _producer(source.GetInput("varname"))
        name = "" if attribute is None else str(attribute.Get())
        if not np.isfinite(matrix).all():
            self.warnings.append(
                f"the material '{material.GetPrim().GetName()}' moves its UVs by what is no number: they are read as they are"
            )
            return names.index(name) if name in names else 0, None
        return names.index(name) if name in names else 0, affine_of(matrix)


def _value(shader: Any, name: str, usual: Any) -> Any:
    """What an input of a shader says, or what it says when nothing is said."""
    entry = shader.GetInput(name)
    attribute = _producer(entry) if entry else None
    value = None if attribute is None else attribute.Get()
    return usual if value is None else value


def _number(surface: Any, name: str, usual: float) -> float:
    """A number that an input holds itself; its usual value where a picture takes its place."""
    if texture_of(surface, name) is not None:
        return usual
    value = _value(surface, name, usual)
    return float(value) if isinstance(value, int | float) and math.isfinite(value) else usual


def _scaled(surface: Any, slot: str, usual: float, textures: dict[str, Texture]) -> float:
    """A number of a surface; 1 where a picture says it, whose scale is in its record."""
    return 1.0 if slot in textures else _number(surface, slot, usual)


def _values(shader: Any, name: str) -> Values | None:
    value = _value(shader, name, None)
    if value is None or len(value) != 4 or not np.isfinite(list(value)).all():
        return None
    return float(value[0]), float(value[1]), float(value[2]), float(value[3])


def _output(surface: Any, slot: str) -> str:
    """The output of the texture that feeds an input."""
    attribute = _producer(surface.GetInput(slot))
    name = attribute.GetBaseName() if attribute is not None else "rgb"
    return name if name in ("r", "g", "b", "a") else "rgb"


def _colour(surface: Any, slot: str, usual: Colour | None, texture: Texture | None) -> Colour | None:
    """The plain colour of a surface; white where a picture takes its place."""
    if texture is not None:
        return 1.0, 1.0, 1.0
    value = _value(surface, slot, usual)
    good = value is not None and len(value) == 3 and np.isfinite(list(value)).all()
    return (float(value[0]), float(value[1]), float(value[2])) if good else usual


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
