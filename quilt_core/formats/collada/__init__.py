"""COLLADA (Khronos, 1.4.1 and 1.5): read from its text, patched where it stands, exported by pycollada."""

from ..format import Format

FORMAT = Format(
    __name__, "collada", "COLLADA", (".dae",), {"dae": "COLLADA"}, bare="zero by channel",
    kinds=frozenset({"base colour", "emission", "specular", "normal", "height", "opacity"}), parts=True,
    holds=frozenset({"emission", "specular", "gloss", "opacity", "two sides", "clamp", "mirror", "none", "nodes"}),
)  # fmt: skip
