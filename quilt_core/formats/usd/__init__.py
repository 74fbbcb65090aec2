"""USD as text, binary or package, by usd-core."""

from ..format import Format

FORMAT = Format(
    __name__, "usd", "USD", (".usd", ".usda", ".usdc", ".usdz"),
    {"usdc": "USD, binary", "usda": "USD, text", "usdz": "USD, one package"}, bare="zero by channel",
)  # fmt: skip
