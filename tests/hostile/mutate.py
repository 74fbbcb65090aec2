"""Damage: a sound file with a few changes that a fault of a program, a disk or a person with bad intent could make. All of it follows from a number."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Callable
from copy import deepcopy
from typing import Any

NUMBERS = (
    b"0", b"-0", b"-1", b"1", b"2147483647", b"2147483648", b"-2147483649", b"4294967296", b"9223372036854775807", b"18446744073709551616", b"1e19", b"1e38", b"-1e38",
    b"3.5e38", b"1e308", b"1e-320", b"1e400", b"nan", b"inf", b"-inf", b"0.1.2", b"...", b"1e", b"--5", b"0x10", b"1_0", b"7" * 4_400,
)  # fmt: skip
ODD: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2**31, 2**63, -(2**70), 1e19, 1e38, -1e308, 0.5, "", "x", "\ud800", "../../a", "data:,", "file:///etc/hostname", "a\0b", [], {}, [[]],
    [None], [0] * 40, {"uri": False}, "9" * 5_000,
)  # fmt: skip
WORDS = re.compile(rb"[A-Za-z_]{2,}")
FIGURES = re.compile(rb"-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?")
Damage = Callable[[random.Random, bytes], bytes]


def flip(chance: random.Random, data: bytes) -> bytes:
    """A few bytes are others."""
    out = bytearray(data)
    for _ in range(chance.choice((1, 1, 2, 5, 20))):
        if out:
            out[chance.randrange(len(out))] = chance.choice((0, 1, 0x7F, 0x80, 0xFF, chance.randrange(256)))
    return bytes(out)


def cut(chance: random.Random, data: bytes) -> bytes:
    """It ends early, or begins late."""
    at = chance.randrange(len(data) + 1)
    return data[:at] if chance.random() < 0.8 else data[at:]


def gone(chance: random.Random, data: bytes) -> bytes:
    """A part is missing."""
    a = chance.randrange(len(data) + 1)
    return data[:a] + data[a + chance.choice((1, 2, 4, 16, 100)) :]


def twice(chance: random.Random, data: bytes) -> bytes:
    """A part is there again, somewhere."""
    a = chance.randrange(len(data) + 1)
    at = chance.randrange(len(data) + 1)
    return data[:at] + data[a : a + chance.choice((1, 4, 30, 400))] * chance.choice((1, 1, 2, 50)) + data[at:]


def number(chance: random.Random, data: bytes) -> bytes:
    """A number in a text is another one."""
    found = list(FIGURES.finditer(data))
    for m in sorted(chance.sample(found, min(len(found), chance.choice((1, 1, 2, 6)))), key=lambda m: -m.start()):
        data = data[: m.start()] + chance.choice(NUMBERS) + data[m.end() :]
    return data


def every_number(chance: random.Random, data: bytes) -> bytes:
    """All numbers of a stretch are one extreme."""
    value, a = chance.choice(NUMBERS[:18]), chance.randrange(len(data) + 1)
    return data[:a] + FIGURES.sub(value, data[a : a + 300]) + data[a + 300 :]


def word(chance: random.Random, data: bytes) -> bytes:
    """A word stands in another one's place."""
    found = list(WORDS.finditer(data))
    if len(found) < 2:
        return flip(chance, data)
    a, b = chance.choice(found), chance.choice(found)
    return data[: a.start()] + b.group() + data[a.end() :]


def line(chance: random.Random, data: bytes) -> bytes:
    """Lines change places, go or come again."""
    lines = data.split(b"\n")
    a, b = chance.randrange(len(lines)), chance.randrange(len(lines))
    how = chance.randrange(3)
    if how == 0:
        lines[a], lines[b] = lines[b], lines[a]
    elif how == 1:
        del lines[a]
    else:
        lines[a:a] = [lines[b]] * chance.choice((1, 3, 200))
    return b"\n".join(lines)


def tree(chance: random.Random, data: bytes) -> bytes:
    """A value of a JSON text, or of the JSON of a GLB, is an odd one."""
    glb = data[:4] == b"glTF"
    try:
        if glb:
            size = int.from_bytes(data[12:16], "little")
            root, rest = json.loads(data[20 : 20 + size]), data[20 + size :]
        else:
            root, rest = json.loads(data), b""
    except (ValueError, RecursionError):
        return flip(chance, data)
    for _ in range(chance.choice((1, 1, 2, 4))):
        spoil(chance, root)
    text = json.dumps(root).encode()
    if not glb:
        return text
    text += b" " * (-len(text) % 4)
    whole = len(text).to_bytes(4, "little") + b"JSON" + text + rest
    return b"glTF" + (2).to_bytes(4, "little") + (12 + len(whole)).to_bytes(4, "little") + whole


def spoil(chance: random.Random, root: Any) -> None:
    """Put an odd value somewhere into a tree, or take one away."""
    at = root
    while True:
        keys: list[Any] = list(at) if isinstance(at, dict) else list(range(len(at)))
        if not keys:
            return
        key = chance.choice(keys)
        if isinstance(at[key], (dict, list)) and at[key] and chance.random() < 0.85:
            at = at[key]
            continue
        if chance.random() < 0.15 and isinstance(at, dict):
            del at[key]
        else:
            # A copy: what is put in may be spoilt itself, and the next case has to be the same whatever came before.
            at[key] = deepcopy(chance.choice(ODD))
        return


TEXT: tuple[Damage, ...] = (flip, cut, gone, twice, number, number, every_number, word, line)
BINARY: tuple[Damage, ...] = (flip, flip, cut, gone, twice)


def damaged(seed: int, name: str, data: bytes) -> bytes:
    """A file as the number `seed` damages it."""
    chance = random.Random(seed)
    kinds = BINARY if b"\0" in data[:2000] else TEXT
    if name.endswith((".gltf", ".glb")):
        kinds = (*kinds, tree, tree, tree)
    for _ in range(chance.choice((1, 1, 1, 2, 3))):
        data = chance.choice(kinds)(chance, data)
    return data
