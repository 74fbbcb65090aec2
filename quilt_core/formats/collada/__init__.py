"""COLLADA (Khronos, 1.4.1 and 1.5): read from its text, patched where it stands, exported by pycollada."""

from ..format import Format

FORMAT = Format(__name__, "collada", "COLLADA", (".dae",), {"dae": "COLLADA"}, bare="zero")
