"""Records of materials as UsdPreviewSurface networks. Standard: the UsdPreviewSurface specification (surface, UsdUVTexture, UsdTransform2d, readers)."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from pxr import Gf, Sdf, UsdShade

from ...model.material import MASK, OPAQUE, Material, Texture, parted
from .materials import NORMAL, WRAPS, surface_of, texture_of

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
    "clearcoat": [("clearcoat", Sdf.ValueTypeNames.Float, "r", "raw")],
    "clearcoatRoughness": [("clearcoatRoughness", Sdf.ValueTypeNames.Float, "r", "raw")],
    # One picture for both, as glTF has it.
    "metal and roughness": [
        ("metallic", Sdf.ValueTypeNames.Float, "b", "raw"), ("roughness", Sdf.ValueTypeNames.Float, "g", "raw"),
    ],
}  # fmt: skip
_WORDS = {name: word for word, name in WRAPS.items()}
_ONES, _ZEROS = (1.0, 1.0, 1.0, 1.0), (0.0, 0.0, 0.0, 0.0)
_Float = Sdf.ValueTypeNames.Float


def define_material(stage: Any, path: Any) -> Any:
    """A new material with a plain UsdPreviewSurface."""
    material = UsdShade.Material.Define(stage, path)
    surface = UsdShade.Shader.Define(stage, path.AppendChild("Surface"))
    surface.CreateIdAttr("UsdPreviewSurface")
    material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
    return material


def author(material: Any, look: Material, uv: Callable[[int], str]) -> None:
    """Give a new material all that a record says. Paths of its pictures are as the layer has them; `uv` names the primvar of a channel."""
    surface = surface_of(material)
    _values(surface, look)
    base, through = look.maps.get("base colour"), look.maps.get("opacity")
    # What is seen is the fourth channel of the base colour's picture, unless another one says it.
    within = base is not None and (through is None or (through.part == "a" and through.path == base.path))
    for kind, texture in look.maps.items():
        if kind == "opacity" and within:
            continue  # with the base colour
        scale, bias = _scale(look, kind, texture)
        node = _node(material, kind, texture, uv(texture.channel))
        for slot, type_name, output, _ in SLOTS.get(kind, []):
            part = texture.part if texture.part and output != "rgb" and kind != "metal and roughness" else output
            _connect(surface, slot, type_name, node, part)
        _put(node, "scale", scale, _ONES)
        _put(node, "bias", bias, _ZEROS)
        if kind == "base colour" and look.alpha != OPAQUE and within:
            _connect(surface, "opacity", _Float, node, "a")


def _values(surface: Any, look: Material) -> None:
    """Factors where no picture takes their place."""
    maps, both = look.maps, "metal and roughness" in look.maps
    colours = {"diffuseColor": ("base colour", look.colour), "emissiveColor": ("emission", look.emission)}
    if look.metal is None and (look.specular is not None or "specular" in maps):
        surface.CreateInput("useSpecularWorkflow", Sdf.ValueTypeNames.Int).Set(1)
        colours["specularColor"] = ("specular", look.specular)
    for slot, (kind, colour) in colours.items():
        if colour is not None and kind not in maps:
            surface.CreateInput(slot, Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*colour))
    # A file that says nothing of roughness looks alike as glTF and as USD: the usual values of the two are 1 and 0.5.
    for slot, kind, value in (
        ("metallic", "metal", look.metal),
        ("roughness", "roughness", 1.0 if look.roughness is None else look.roughness),
    ):
        if value is not None and kind not in maps and not both:
            surface.CreateInput(slot, _Float).Set(value)
    if look.alpha != OPAQUE and not {"base colour", "opacity"} & maps.keys():
        surface.CreateInput("opacity", _Float).Set(1.0 if look.opacity is None else look.opacity)
    if look.alpha == MASK:
        surface.CreateInput("opacityThreshold", _Float).Set(look.cutoff)


def _scale(look: Material, kind: str, texture: Texture) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """What a picture is multiplied by and what is added, with the factors of the material."""
    if kind == "normal":
        s = look.normal_scale
        (a, b, c, d), (e, f, g, h) = texture.scale or NORMAL[0], texture.bias or NORMAL[1]
        return (a * s, b * s, c, d), (e * s, f * s, g, h)
    scale = texture.scale or _ONES
    bias: tuple[float, ...] = texture.bias or _ZEROS
    much = 1.0 if look.opacity is None or look.alpha == OPAQUE else look.opacity
    rough, metal = (1.0 if v is None else v for v in (look.roughness, look.metal))
    factor = {
        "base colour": (*(look.colour or (1.0, 1.0, 1.0)), much), "emission": (*(look.emission or (1.0, 1.0, 1.0)), 1.0),
        "specular": (*(look.specular or (1.0, 1.0, 1.0)), 1.0), "roughness": (rough,) * 4, "metal": (metal,) * 4, "opacity": (much,) * 4,
        "metal and roughness": (1.0, rough, metal, 1.0), "occlusion": (look.occlusion_strength,) * 4,
    }.get(kind, _ONES)  # fmt: skip
    bias = tuple(b * f for b, f in zip(bias, factor, strict=True))
    if kind == "occlusion":
        bias = tuple(b + 1 - look.occlusion_strength for b in bias)
    return tuple(s * f for s, f in zip(scale, factor, strict=True)), bias


def _put(node: Any, name: str, values: tuple[float, ...], usual: tuple[float, ...]) -> None:
    if not np.allclose(values, usual, atol=0):
        node.CreateInput(name, Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*values))


def _connect(surface: Any, slot: str, type_name: Any, node: Any, output: str) -> None:
    node.CreateOutput(output, Sdf.ValueTypeNames.Float3 if output == "rgb" else _Float)
    surface.CreateInput(slot, type_name).ConnectToSource(node.ConnectableAPI(), output)


def _node(material: Any, kind: str, texture: Texture, uv: str) -> Any:
    """The UsdUVTexture of a picture."""
    stage, path = material.GetPrim().GetStage(), material.GetPath()
    slot = SLOTS[kind][0][0] if kind in SLOTS else kind
    node = UsdShade.Shader.Define(stage, path.AppendChild(f"Sheet{slot[0].upper()}{slot[1:]}"))
    node.CreateIdAttr("UsdUVTexture")
    node.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set(SLOTS[kind][0][3] if kind in SLOTS else "raw")
    node.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(texture.path))
    for axis, wrap in zip("ST", texture.wrap, strict=True):
        node.CreateInput(f"wrap{axis}", Sdf.ValueTypeNames.Token).Set(_WORDS[wrap])
    source = reader(material, uv)
    moved = None if texture.placed is None else parted(np.array(texture.placed).reshape(2, 3))
    if moved is not None:
        angle, scale, shift = moved
        turn = UsdShade.Shader.Define(stage, path.AppendChild(f"Place{slot[0].upper()}{slot[1:]}"))
        turn.CreateIdAttr("UsdTransform2d")
        turn.CreateInput("in", Sdf.ValueTypeNames.Float2).ConnectToSource(source.ConnectableAPI(), "result")
        for name, type_name, value in (("rotation", _Float, math.degrees(angle)), ("scale", Sdf.ValueTypeNames.Float2, Gf.Vec2f(*scale)),
                                       ("translation", Sdf.ValueTypeNames.Float2, Gf.Vec2f(*shift))):  # fmt: skip
            turn.CreateInput(name, type_name).Set(value)
        turn.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        source = turn
    node.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(source.ConnectableAPI(), "result")
    return node


def reader(material: Any, uv: str) -> Any:
    """The reader of a primvar, one for each name."""
    stage, path = material.GetPrim().GetStage(), material.GetPath()
    number = 0
    while True:
        spot = path.AppendChild("SheetUv" if not number else f"SheetUv{number}")
        found = stage.GetPrimAtPath(spot)
        if not found or UsdShade.Shader(found).GetInput("varname").Get() == uv:
            break
        number += 1
    out = UsdShade.Shader.Define(stage, spot)
    out.CreateIdAttr("UsdPrimvarReader_float2")
    out.CreateInput("varname", Sdf.ValueTypeNames.String).Set(uv)
    out.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    return out


def show(material: Any, kind: str, picture: str, uv: str, through: bool = False) -> None:
    """Let the surface of an old material read a new picture by a primvar; nothing happens where it has another kind of surface. What multiplies the picture
    stays, but vectors are stored as vectors. `through`: the base colour's fourth channel says what is seen."""
    surface = surface_of(material)
    if surface is None:
        return
    nodes = []
    for slot, type_name, output, _ in SLOTS.get(kind, []):
        node = texture_of(surface, slot)
        if node is None:
            node = _node(material, kind, Texture(kind, picture), uv)
            _connect(surface, slot, type_name, node, output)
        nodes.append(node)
    if through and kind == "base colour" and texture_of(surface, "opacity") is not None:
        nodes.append(texture_of(surface, "opacity"))
    for node in nodes:
        file = node.CreateInput("file", Sdf.ValueTypeNames.Asset)
        if file.HasConnectedSource():
            file.ClearSources()
        file.Set(Sdf.AssetPath(picture))
        for axis in "ST":
            node.CreateInput(f"wrap{axis}", Sdf.ValueTypeNames.Token).Set("repeat")
        if kind == "normal":
            for name, values in zip(("scale", "bias"), NORMAL, strict=True):
                node.CreateInput(name, Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*values))
        node.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(reader(material, uv).ConnectableAPI(), "result")
