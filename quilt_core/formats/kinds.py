"""What a picture of a material holds, by the word of its slot."""

from __future__ import annotations

# By the words of glTF 2.0 and its ratified extensions, of UsdPreviewSurface, COLLADA, and of the MTL and PLY files that are in use (common practice, no
# source). A word that is not here is its own kind ("roughness").
KINDS = {
    "baseColorTexture": "base colour", "diffuseTexture": "base colour", "map_Kd": "base colour", "map_kd": "base colour",
    "normalTexture": "normal", "norm": "normal", "map_Bump": "height", "map_bump": "height", "bump": "height",
    "occlusionTexture": "occlusion", "emissiveTexture": "emission", "map_Ke": "emission", "metallicRoughnessTexture": "metal and roughness",
    "specularGlossinessTexture": "specular and gloss", "map_Ks": "specular", "map_Ns": "gloss", "map_d": "opacity", "map_Pr": "roughness",
    "map_Pm": "metal", "map_Ka": "ambient", "disp": "height", "TextureFile": "base colour", "diffuseColor": "base colour", "emissiveColor": "emission",
    "specularColor": "specular", "metallic": "metal", "displacement": "height", "diffuse": "base colour", "transparent": "opacity", "shininess": "gloss",
    "clearcoatTexture": "clearcoat", "clearcoatRoughnessTexture": "clearcoat roughness", "clearcoatNormalTexture": "clearcoat normal",
    "transmissionTexture": "transmission", "thicknessTexture": "thickness", "sheenColorTexture": "sheen colour",
    "sheenRoughnessTexture": "sheen roughness", "specularTexture": "specular strength", "specularColorTexture": "specular colour",
    "iridescenceTexture": "iridescence", "iridescenceThicknessTexture": "iridescence thickness", "anisotropyTexture": "anisotropy",
    "diffuseTransmissionTexture": "diffuse transmission", "diffuseTransmissionColorTexture": "diffuse transmission colour",
}  # fmt: skip


def kind_of(slot: str) -> str:
    """The kind of a slot's picture."""
    return KINDS.get(slot, slot)
