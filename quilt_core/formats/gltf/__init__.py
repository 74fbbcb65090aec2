"""glTF 2.0 and GLB (Khronos)."""

from ..format import Format

FORMAT = Format(
    __name__, "gltf", "glTF", (".glb", ".gltf"), {"glb": "glTF, GLB"}, triangles=True, bare="zero by channel", lists_pictures=True,
    kinds=frozenset({"base colour", "metal and roughness", "normal", "occlusion", "emission"}),
    pictures=frozenset({"PNG", "JPEG"}), pictures_inside=True,
    holds=frozenset({"metal", "roughness", "emission", "opacity", "cutoff", "two sides", "unlit", "normal scale", "occlusion strength", "tint", "placed",
                     "turned", "clamp", "mirror", "extras", "nodes", "vertex colours"}),
)  # fmt: skip
