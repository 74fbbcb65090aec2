"""Values that nobody means: for every place of a JSON schema one that has its form or nearly has it."""

from __future__ import annotations

import random
from typing import Any

TEXTS = [
    "",
    " ",
    "²",
    "٣",
    "1:²",
    "²/1",
    "1/²",
    "-1",
    "0",
    "1",
    "9" * 30,
    "a" * 5000,
    "../../etc/passwd",
    "=1+1",
    "\u202etxt",
    "é́",
    "null",
    "*",
    "[!",
    "<b>",
    "1001",
    "f" * 64,
]
WHOLES = [0, 1, -1, 2, 7, 8, 1001, 2**31 - 1, 2**31, 2**53, 2**63, 2**70, -(2**70), 10**30]
REALS = [0.0, -0.0, 1.0, -1.0, 1e-320, 1e-9, 1e9, 1e300, -1e300, 0.1, 255.5]
ODD: list[Any] = [None, True, False, [], {}, [[]], {"": {}}, "x", 1, 1.5]


class Odd:
    """Draws values. `keys`: of objects and islands that are there, drawn among the strange ones."""

    def __init__(self, chance: random.Random, keys: list[str]) -> None:
        self.chance, self.keys = chance, keys

    def text(self) -> str:
        """A strange text, or the key of something that is there or nearly is."""
        key = self.chance.choice(self.keys or TEXTS)
        return self.chance.choice([*TEXTS, key, key, key, key + "²", "²" + key, key.replace(":", "/"), f"{key}9"])

    def of(self, schema: dict[str, Any], top: dict[str, Any], deep: int = 0) -> Any:
        """A value for a place of a schema."""
        c = self.chance
        if c.random() < 0.04 or deep > 6:
            return c.choice(ODD)
        if "$ref" in schema:
            return self.of(top["$defs"][schema["$ref"].rpartition("/")[2]], top, deep)
        for many in ("anyOf", "oneOf", "allOf"):
            if many in schema:
                return self.of(c.choice(schema[many]), top, deep + 1)
        if "enum" in schema:
            return c.choice([*schema["enum"], self.text()])
        if "const" in schema:
            return schema["const"]
        match schema.get("type"):
            case "object":
                out = {
                    k: self.of(s, top, deep + 1)
                    for k, s in schema.get("properties", {}).items()
                    if c.random() < 0.6 or k in schema.get("required", ())
                }
                more = schema.get("additionalProperties")
                if isinstance(more, dict):
                    out |= {self.text(): self.of(more, top, deep + 1) for _ in range(c.randrange(3))}
                return out
            case "array":
                return [self.of(schema.get("items", {}), top, deep + 1) for _ in range(c.randrange(4))]
            case "integer":
                return c.choice(WHOLES) if c.random() < 0.5 else c.randrange(4)
            case "number":
                return c.choice([*REALS, *WHOLES])
            case "boolean":
                return c.random() < 0.5
            case "null":
                return None
            case "string":
                return self.text()
        return c.choice(ODD)
