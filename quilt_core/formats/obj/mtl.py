"""MTL libraries: materials as records. The format has no standard; statements, options and what they mean are common practice, no source."""

from __future__ import annotations

import io
import math
import posixpath
import re
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from PIL import Image, UnidentifiedImageError

from ...model.colours import linear_of, stored_of
from ...model.material import BLEND, OPAQUE, Colour, Material, Texture, affine_of
from ..beside import find_resource
from ..kinds import kind_of
from ..pictures import READ

# How many words may follow an option, at least and at most.
_OPTIONS = {"-s": (1, 3), "-o": (1, 3), "-t": (1, 3), "-mm": (2, 2), "-blendu": (1, 1), "-blendv": (1, 1), "-boost": (1, 1), "-texres": (1, 1),
            "-clamp": (1, 1), "-bm": (1, 1), "-imfchan": (1, 1), "-type": (1, 1), "-cc": (1, 1), "-colorspace": (1, 1)}  # fmt: skip
# The MTL statement for each kind of map that the trade's readers know.
MTL = {
    "base colour": "map_Kd", "normal": "norm", "emission": "map_Ke", "specular": "map_Ks", "gloss": "map_Ns", "opacity": "map_d",
    "roughness": "map_Pr", "metal": "map_Pm", "height": "map_Bump", "ambient": "map_Ka",
}  # fmt: skip
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?$")
_PLACING = ("-s", "-o", "-t", "-clamp")  # what holds for the picture as it lay, not for one made anew
_BUMPS = ("bump", "map_bump")
_MAPS = ("map_", "bump", "norm", "disp")
_LARGEST = 4096 * 4096  # pixels of a picture that is looked at for what it holds


@dataclass
class Block:
    """The statements of one material: numbers by their word, and pictures (slot, options, path)."""

    numbers: dict[str, tuple[float, ...]] = field(default_factory=dict)
    pictures: list[tuple[str, list[tuple[str, list[str]]], str]] = field(default_factory=list)


def blocks_of(data: bytes) -> dict[str, Block]:
    """The materials of a library by name; of a name that comes twice both count, the later one after the first."""
    out: dict[str, Block] = {}
    now = Block()
    for line in data.decode("utf-8", "replace").splitlines():
        word, _, rest = line.strip().partition(" ")
        rest = rest.strip()
        if word == "newmtl":
            now = out.setdefault(rest, Block())
        elif word.lower().startswith(_MAPS) and rest:
            now.pictures.append((word, *split_options(rest)))
        elif word and all(_NUMBER.match(x) for x in rest.split()):
            values = tuple(float(x) for x in rest.split())
            if values and all(map(math.isfinite, values)):
                now.numbers[word] = values
    return out


def seen_from_mesh(data: bytes, library: str, resources: Mapping[str, bytes]) -> bytes:
    """A library with its pictures named as they are seen from the mesh. They are counted from the library's own folder (common practice, the format does not say);
    what is not there is left as it is, since some programs count from the mesh.

    Parameters
    ----------
    library : its path from the mesh; resources : the files beside the mesh
    """
    folder = posixpath.dirname(library)
    if not folder:
        return data
    out = []
    for line in data.decode("utf-8", "replace").splitlines():
        word, _, rest = line.strip().partition(" ")
        path = split_options(rest.strip())[1] if word.lower().startswith(_MAPS) and rest.strip() else ""
        found = find_resource(posixpath.join(folder, path.replace("\\", "/")), resources) if path else None
        out.append(line if found is None else f"{line[: line.rindex(path)]}{found}")
    return "\n".join(out).encode()


def split_options(text: str) -> tuple[list[tuple[str, list[str]]], str]:
    """The options of a picture statement, and the path after them, which may hold blanks."""
    options: list[tuple[str, list[str]]] = []
    while True:
        found = re.match(r"(-[A-Za-z]\w*)\s+", text)
        if found is None:
            return options, text
        least, most = _OPTIONS.get(found[1].lower(), (0, 1))
        rest, words = text[found.end() :], list[str]()
        while len(words) < most:
            word = re.match(r"(\S+)\s+", rest)
            if word is None or (len(words) >= least and not _NUMBER.match(word[1]) and word[1] not in ("on", "off")):
                break
            words.append(word[1])
            rest = rest[word.end() :]
        if found[1].lower() not in _OPTIONS and not words:
            return options, text  # a path that begins with a dash
        options.append((found[1], words))
        text = rest


def kept_options(text: str) -> str:
    """The options of a picture statement that a picture in a new place still has, as they are written."""
    return _kept(split_options(text)[0])


def _kept(options: list[tuple[str, list[str]]]) -> str:
    return " ".join(" ".join([name, *words]) for name, words in options if name.lower() not in _PLACING)


def material(name: str, block: Block, resources: Mapping[str, bytes]) -> Material:
    """A material of a library. `resources`: the files beside it, since what a bump picture holds is seen only in it."""
    textures: dict[str, Texture] = {}
    for slot, options, path in block.pictures:
        kind = kind_of(slot) if slot not in ("map_kd", "map_ks", "map_ke") else kind_of(slot[:4] + slot[4:].capitalize())
        if slot.lower() in _BUMPS:
            kind = "normal" if holds_normals(path, resources) else "height"
        textures[slot] = _texture(kind, path, options)
    n = block.numbers
    opacity = n["d"][0] if "d" in n else 1.0 - n["Tr"][0] if "Tr" in n else None
    base = next((t for t in textures.values() if t.kind == "base colour"), None)
    through = textures.get("map_d")
    if through is not None and base is not None and through.path == base.path:
        del textures["map_d"]  # the same picture: its fourth channel says it
    kinds = {t.kind for t in textures.values()}
    return Material(
        name,
        textures,
        _colour(n.get("Kd"), base is not None),
        min(max(opacity, 0.0), 1.0) or None if opacity is not None else None,
        1.0 if "metal" in kinds else n.get("Pm", (None,))[0],
        1.0 if "roughness" in kinds else n.get("Pr", (None,))[0],
        _colour(n.get("Ke"), "emission" in kinds),
        specular=_colour(n.get("Ks"), "specular" in kinds),
        gloss=n.get("Ns", (None,))[0],
        alpha=BLEND if through is not None or (opacity is not None and 0 < opacity < 1) else OPAQUE,
    )


def lines_of(look: Material) -> list[str]:
    """The statements of a material, without its name."""
    out = []
    maps = look.maps
    colours = {
        "Kd": look.colour if look.colour is not None else (1.0, 1.0, 1.0),
        "Ks": look.specular if "specular" not in maps or look.specular else (1.0, 1.0, 1.0),
        "Ke": look.emission if look.emission is not None and max(look.emission) > 0 else None,
    }
    out += [word + "".join(f" {x:.6g}" for x in stored_of(c)) for word, c in colours.items() if c is not None]
    much = look.opacity if look.alpha != OPAQUE else None
    numbers = {"Ns": look.gloss, "d": much if much is None or much < 1 else None, "Pr": look.roughness, "Pm": look.metal}
    out += [f"{word} {value:.6g}" for word, value in numbers.items() if value is not None]
    return out + [f"{MTL[kind]} {_options(t)}{t.path}" for kind, t in maps.items() if kind in MTL]


def _options(texture: Texture) -> str:
    """How a picture is placed, and what else was said of it."""
    out = ""
    if texture.placed is not None:
        a, _, c, _, e, f = texture.placed
        out += f"-s {a:.6g} {e:.6g} 1 -o {c:.6g} {f:.6g} 0 "
    if texture.wrap == ("clamp", "clamp"):
        out += "-clamp on "
    return out + (texture.options + " " if texture.options else "")


def _colour(values: tuple[float, ...] | None, painted: bool) -> Colour | None:
    """A colour, which is stored in sRGB as the field's readers take it (three.js' MTLLoader among them); one value is a grey. Black under a picture is white:
    nothing else would be seen, and programs show the picture."""
    if values is None or len(values) not in (1, 3):
        return (1.0, 1.0, 1.0) if painted else None
    r, g, b = linear_of(values * 3 if len(values) == 1 else values)
    return (1.0, 1.0, 1.0) if painted and r == g == b == 0 else (r, g, b)


def _texture(kind: str, path: str, options: list[tuple[str, list[str]]]) -> Texture:
    said = {name.lower(): words for name, words in options}

    def pair(name: str, usual: float) -> tuple[float, float]:
        numbers = [float(x) for x in said.get(name, []) if _NUMBER.match(x)]
        return numbers[0] if numbers else usual, numbers[1] if len(numbers) > 1 else usual

    (sx, sy), (ox, oy) = pair("-s", 1.0), pair("-o", 0.0)
    wrap = "clamp" if said.get("-clamp") == ["on"] else "repeat"
    channel = {"r": "r", "g": "g", "b": "b", "m": "a"}.get("".join(said.get("-imfchan", [])).lower(), "")
    return Texture(kind, path, 0, affine_of(np.array([[sx, 0, ox], [0, sy, oy]])), None, (wrap, wrap), channel, options=_kept(options))


def holds_normals(path: str, resources: Mapping[str, bytes]) -> bool:
    """Whether a bump picture is a normal map, as programs write them there: three channels, which point upward on the whole."""
    found = find_resource(path, resources)
    if found is None:
        return False
    try:
        with Image.open(io.BytesIO(resources[found]), formats=READ) as picture:
            if picture.mode not in ("RGB", "RGBA", "P") or picture.width * picture.height > _LARGEST:
                return False
            values = np.asarray(picture.convert("RGB").resize((64, 64)), np.float64) / 127.5 - 1
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError, MemoryError):
        return False
    length = np.linalg.norm(values, axis=2)
    return bool(
        values[:, :, 2].mean() > 0.5 and abs(float(np.median(length)) - 1) < 0.2 and np.abs(values[:, :, :2].mean(axis=(0, 1))).max() < 0.4
    )
