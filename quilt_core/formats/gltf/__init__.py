"""glTF 2.0 and GLB (Khronos)."""

from ..format import Format

FORMAT = Format(__name__, "gltf", "glTF", (".glb", ".gltf"), {"glb": "glTF, GLB"}, triangles=True, bare="zero", lists_pictures=True)
