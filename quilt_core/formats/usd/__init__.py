"""USD as text, binary or package, by usd-core."""

from ..format import Format

FORMAT = Format(
    __name__, "usd", "USD", (".usd", ".usda", ".usdc", ".usdz"),
    {"usdc": "USD, binary", "usda": "USD, text", "usdz": "USD, package with pictures"}, bare="zero by channel", names_channels=True, slow=True,
)  # fmt: skip
