"""OBJ with MTL libraries."""

from ..format import Format

FORMAT = Format(
    __name__, "obj", "OBJ", (".obj",), {"obj": "OBJ"}, one_channel=True, says_unit=False, libraries=(".mtl",),
    kinds=frozenset({"base colour", "normal", "emission", "specular", "gloss", "opacity", "roughness", "metal", "height", "ambient"}),
    holds=frozenset({"metal", "roughness", "emission", "specular", "gloss", "opacity", "tint", "placed", "clamp"}),
)  # fmt: skip
