"""PLY, the polygon format of Stanford."""

from ..format import Format

FORMAT = Format(
    __name__, "ply", "PLY", (".ply",), {"ply": "PLY"}, one_channel=True, says_unit=False, bare="zero",
    kinds=frozenset({"base colour"}), holds=frozenset({"vertex colours"}),
)  # fmt: skip
