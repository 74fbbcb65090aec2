"""USD as text, binary or package, by usd-core."""

from ..format import Format

FORMAT = Format(
    __name__, "usd", "USD", (".usd", ".usda", ".usdc", ".usdz"),
    {"usdc": "USD, binary", "usda": "USD, text", "usdz": "USD, package with pictures"}, bare="zero by channel", names_channels=True, slow=True,
    kinds=frozenset({"base colour", "metal and roughness", "metal", "roughness", "normal", "occlusion", "emission", "specular", "opacity", "height"}),
    pictures=frozenset({"PNG", "JPEG"}),
    holds=frozenset({"metal", "roughness", "emission", "specular", "opacity", "cutoff", "two sides", "normal scale", "occlusion strength", "tint", "placed",
                     "turned", "clamp", "mirror", "none", "nodes", "vertex colours"}), parts=True, scales=True,
)  # fmt: skip
