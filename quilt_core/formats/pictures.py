"""The pictures that the materials of a scene name, as bytes, wherever the format keeps them."""

from __future__ import annotations

import io
import math
from collections import ChainMap
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

from ..errors import FileError
from ..model.scene import Scene
from .beside import find_resource

MOST_PIXELS = 16384 * 16384
# The library's own bound is lower than the largest map; ours is checked before anything is decoded.
Image.MAX_IMAGE_PIXELS = None
# Only readers that work by themselves: some others of the library call programs of the machine.
READ = ("PNG", "JPEG", "TIFF", "TGA", "BMP", "WEBP")


def pictures(scene: Scene, resources: Mapping[str, bytes]) -> list[dict[str, bytes]]:
    """For each material, what it shows: kind of map (see `kinds`) to the bytes of the picture file.

    Pictures that are missing are left out: a layout does not depend on them.
    """
    resources = ChainMap(scene.inside, resources) if scene.inside else resources  # type: ignore[arg-type]
    out = []
    for material in scene.materials:
        found = {kind: _beside(t.path, resources) for kind, t in material.maps.items()}
        out.append({kind: body for kind, body in found.items() if body})
    return out


def texels_per_unit(scene: Scene, sizes: Sequence[Mapping[str, tuple[int, int]]]) -> NDArray[np.float64]:
    """How many texels of the old paint a unit of UV is long for each material, NaN where there is no picture: by the base colour, or by the largest other.

    Parameters
    ----------
    sizes : for each material, width and height by kind of map
    """
    out = np.full(len(scene.materials), np.nan)
    for n, (material, found) in enumerate(zip(scene.materials, sizes, strict=True)):
        kinds = ["base colour"] if "base colour" in found else list(found)
        each = []
        for kind in kinds:
            at = material.maps[kind].placed if kind in material.maps else None
            scale = 1.0 if at is None else abs(at[0] * at[4] - at[1] * at[3])
            each.append(math.sqrt(found[kind][0] * found[kind][1] * scale))
        if each and max(each) > 0:
            out[n] = max(each)
    return out


def _file(picture: bytes | Path) -> io.BytesIO | Path:
    return picture if isinstance(picture, Path) else io.BytesIO(picture)


def size_of(picture: bytes | Path) -> tuple[int, int] | None:
    """Width and height of a picture file, without decoding it; None where it is none."""
    try:
        with Image.open(_file(picture), formats=READ) as image:
            return image.size
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return None


def kind_of(picture: bytes | Path) -> str | None:
    """What a picture file is: PNG, JPEG, TIFF, TGA, BMP or WEBP; "CMYK" for a JPEG of inks, which formats of the screen do not hold; None for one that is not
    read here."""
    try:
        with Image.open(_file(picture), formats=READ) as image:
            return "CMYK" if image.mode == "CMYK" else image.format
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return None


def is_sixteen_bit(picture: bytes, grey: bool = True) -> bool:
    """Whether a PNG has 16 bits a channel (its header says so, PNG 11.2.2); `grey`: also one of grey, of which all 16 are read here, and 8 of colours."""
    return picture.startswith(b"\x89PNG") and len(picture) > 25 and picture[24] == 16 and (grey or picture[25] != 0)


def _beside(path: str, resources: Mapping[str, bytes]) -> bytes | None:
    found = find_resource(path, resources)
    if found is None:
        # MTL files made elsewhere hold whole paths; the file's own name is what can be looked for.
        name = path.replace("\\", "/").rsplit("/", 1)[-1].lower()
        same = [p for p in resources if p.rsplit("/", 1)[-1].lower() == name]
        found = same[0] if len(same) == 1 else None
    return None if found is None else resources.get(found)


def open_picture(picture: bytes | Path, name: str = "the picture", most: int = MOST_PIXELS) -> Image.Image:
    """A picture file of at most so many pixels, decoded.

    Raises
    ------
    FileError : no picture that can be read, or one of more pixels than are taken
    """
    try:
        image = Image.open(_file(picture), formats=READ)
        if image.width * image.height > most:
            raise FileError(
                name, f"it has {image.width} x {image.height} px, more than is taken", "", f"Make it {math.isqrt(most)} px square at most."
            )
        image.load()
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError, MemoryError) as e:
        raise FileError(name, "this is no picture that can be read here", "", "PNG, JPEG, TIFF, TGA, BMP and WebP are.") from e
    return image


def shown(picture: bytes | Path, px: int, most: int = MOST_PIXELS, name: str = "the picture", plain: bool = False) -> bytes:
    """A picture as PNG for a page: no side longer than px; `plain`: its colours alone, as a page multiplies them by an alpha when it draws.

    Raises
    ------
    FileError : see `open_picture`
    """
    image = open_picture(picture, name, most)
    image = image.convert("RGB") if plain else image
    image.thumbnail((px, px))
    out = io.BytesIO()
    image.convert("RGBA" if "A" in image.getbands() or image.mode == "P" else "RGB").save(out, "PNG", compress_level=3)
    return out.getvalue()


def is_deep(picture: Image.Image) -> bool:
    """Whether it is a grey of 16 bits."""
    return picture.mode.startswith("I")


def stored_values(picture: Image.Image) -> NDArray[np.float32]:
    """A picture as (height, width, 3) values 0 to 1, as they are stored; 16-bit grey keeps its depth."""
    if is_deep(picture):
        grey = np.asarray(picture, np.float32) / 65535.0
        return np.repeat(grey[:, :, None], 3, axis=2)
    return np.asarray(picture.convert("RGB"), np.float32) / np.float32(255.0)


def alpha_of(picture: Image.Image) -> NDArray[np.float32] | None:
    """The fourth channel of a picture, (height, width) 0 to 1; None where it has none."""
    if "A" not in picture.getbands() and "transparency" not in picture.info:
        return None
    return np.asarray(picture.convert("RGBA"), np.float32)[:, :, 3] / np.float32(255.0)
