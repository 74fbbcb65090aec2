"""OBJ with MTL libraries."""

from ..format import Format

FORMAT = Format(__name__, "obj", "OBJ", (".obj",), {"obj": "OBJ"}, one_channel=True, says_unit=False, libraries=(".mtl",))
