"""Tile images to begin a painting with: blank, checker, or one colour for each object, material or island."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..model.colours import number_colour, to_linear
from ..model.scene import Floats

FORMATS = ("png", "tiff", "exr")
FILLS = ("blank", "checker", "object", "material", "island")


def named(pattern: str, sheet: str, tile: int, kind: str, name: str = "", channel: str = "") -> str:
    """The name of a tile's image: {sheet}, {kind}, {tile}, {name} (of the tile; its number where it has none) and {channel} are replaced, and nothing else is
    read into it."""
    for key, value in (("{sheet}", sheet), ("{kind}", kind), ("{tile}", str(tile)), ("{name}", name or str(tile)), ("{channel}", channel)):
        pattern = pattern.replace(key, value)
    return pattern


@dataclass(frozen=True)
class ImageRecipe:
    """What a tile image is: `fill` one of `FILLS`, `colour` of blank ones and of the ground (0 to 1), `depth` 8 or 16 bits (EXR: half
    floats, or 32), with an alpha channel or not, `squares` of a checker along the side."""

    fill: str = "blank"
    colour: tuple[float, float, float] = (0.5, 0.5, 0.5)
    format: str = "png"
    depth: int = 8
    alpha: bool = False
    squares: int = 16

    def __post_init__(self) -> None:
        if self.fill not in FILLS or self.format not in FORMATS or self.depth not in (8, 16, *((32,) if self.format == "exr" else ())):
            raise ValueError(f"a tile image is {', '.join(FILLS)}, as {', '.join(FORMATS)}, of 8 or 16 bits, or 32 in an EXR")
        if not all(0 <= c <= 1 for c in self.colour) or not 1 <= self.squares <= 1024:
            raise ValueError("a colour is from 0 to 1, and a checker has 1 to 1024 squares")


def tile_image(recipe: ImageRecipe, px: int, owner: NDArray[np.int32] | None = None) -> Floats:
    """The values (px, px, 3 or 4), 0 to 1.

    Parameters
    ----------
    owner : (px, px) number of what covers each texel, -1 for nothing; for the fills that tell things apart
    """
    out = np.empty((px, px, 4))
    out[:, :, :3], out[:, :, 3] = recipe.colour, 1.0
    if recipe.fill == "checker":
        cell = (np.arange(px) * recipe.squares) // px
        odd = (cell[:, None] + cell[None, :]) % 2 == 1
        colour = np.array(recipe.colour)
        out[odd, :3] = 0.6 * colour if colour.mean() > 0.3 else colour + 0.4 * (1 - colour)
    elif recipe.fill != "blank":
        if owner is None:
            raise ValueError("what covers each texel is needed for this fill")
        colours = np.array([number_colour(n) for n in range(int(owner.max(initial=-1)) + 1)]).reshape(-1, 3)
        covered = owner >= 0
        out[covered, :3] = colours[owner[covered]]
        out[~covered, 3] = 0.0
        if not recipe.alpha:
            out[~covered, :3] = recipe.colour
    return out if recipe.alpha else out[:, :, :3]


def encoded(values: Floats, format_: str = "png", depth: int = 8, display: bool = False) -> bytes:
    """Values (h, w, 1, 3 or 4), 0 to 1, as the bytes of a picture file.

    Parameters
    ----------
    depth : bits a channel; an EXR has half floats unless 32 are asked for
    display : the values are colours as screens show them; an EXR holds linear light (its standard says so), so they become that there

    Raises
    ------
    ValueError : a format or depth that is not written here
    """
    if format_ not in FORMATS or depth not in (8, 16, 32) or (depth == 32 and format_ != "exr"):
        raise ValueError(f"pictures are {', '.join(FORMATS)}, of 8 or 16 bits, or 32 in an EXR")
    x = np.asarray(values)
    if format_ == "exr":
        if display:
            x = np.concatenate([to_linear(x[:, :, :3]), x[:, :, 3:]], axis=2)
        return _exr(x, np.float32 if depth == 32 else np.float16)
    import cv2  # only here: it takes a while to load

    top = 255 if depth == 8 else 65535
    body = np.round(np.clip(x, 0, 1) * top).astype(np.uint8 if depth == 8 else np.uint16)
    if body.ndim == 3 and body.shape[2] == 4:
        body = body[:, :, [2, 1, 0, 3]]
    elif body.ndim == 3 and body.shape[2] == 3:
        body = body[:, :, ::-1]
    # Baseline TIFF has no compression (TIFF 6.0, part 1), so that 16 bits open everywhere.
    how = [cv2.IMWRITE_TIFF_COMPRESSION, 1] if format_ == "tiff" and depth == 16 else []
    good, data = cv2.imencode(f".{format_}", np.ascontiguousarray(body), how)
    if not good:
        raise ValueError(f"this picture cannot be written as {format_}")
    return bytes(data)


def _exr(values: Floats, kind: type) -> bytes:
    """Floats as OpenEXR, compressed without loss."""
    import OpenEXR

    body: NDArray[Any] = np.ascontiguousarray(values, kind)
    name = "RGBA"[: body.shape[2]] if body.ndim == 3 and body.shape[2] in (3, 4) else "Y"
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "image.exr"
        OpenEXR.File(header, {name: body if name != "Y" else body.reshape(body.shape[:2])}).write(str(path))
        return path.read_bytes()
