"""The template: a picture of a tile with all islands outlined, to paint over."""

from __future__ import annotations

import io

import numpy as np
import shapely
from numpy.typing import NDArray
from PIL import Image, ImageDraw

# Dyed cloth, far apart in lightness as well as in hue. Ours.
CLOTH = ("#3d5a98", "#b1483c", "#c79a1e", "#6b4a36", "#5f7a3a", "#4a93a8", "#b8647f", "#a9652b", "#66707c", "#7a5591", "#2f7f68", "#8a8544")


def colour(number: int) -> str:
    """The colour of an object."""
    return CLOTH[number % len(CLOTH)]


def draw(
    regions: NDArray[np.object_], owner: NDArray[np.integer], size: int, tile: int = 1001, paper: str | None = None, fill: bool = True
) -> bytes:
    """PNG of one tile.

    Parameters
    ----------
    regions : (n,) islands in UV units; owner : (n,) the object of each
    size : px of the picture; tile : UDIM number; paper : ground colour, None for transparent
    """
    ink = 2 if size <= 4096 else 1  # drawn at twice the size and reduced, for clean edges
    image = Image.new("RGBA", (size * ink, size * ink), paper or (0, 0, 0, 0))
    pen = ImageDraw.Draw(image)
    corner = np.array([(tile - 1001) % 10, (tile - 1001) // 10])
    box = shapely.bounds(regions)
    here = np.flatnonzero((box[:, 0] < corner[0] + 1) & (box[:, 2] > corner[0]) & (box[:, 1] < corner[1] + 1) & (box[:, 3] > corner[1]))
    for i in here:
        tint = colour(int(owner[i]))
        for part in shapely.get_parts(regions[i]):
            if part.geom_type != "Polygon" or part.is_empty:
                continue
            rings = [_pixels(part.exterior, corner, size * ink), *(_pixels(r, corner, size * ink) for r in part.interiors)]
            if fill:
                _fill(image, rings, tint, paper)
            for ring in rings:
                pen.line([*ring, ring[0]], fill=tint, width=max(1, size * ink // 1024), joint="curve")
    if ink > 1:
        image = image.resize((size, size), Image.Resampling.BOX)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def _pixels(ring: shapely.LinearRing, corner: NDArray[np.integer], size: int) -> list[tuple[float, float]]:
    xy = shapely.get_coordinates(ring)[:-1] - corner
    return [(float(u * size), float((1 - v) * size)) for u, v in xy]


def _fill(image: Image.Image, rings: list[list[tuple[float, float]]], tint: str, paper: str | None) -> None:
    """Fill a ring but not its holes, in the box of the ring only."""
    xs, ys = [p[0] for p in rings[0]], [p[1] for p in rings[0]]
    x0, y0 = max(0, int(min(xs))), max(0, int(min(ys)))
    x1, y1 = min(image.width, int(max(xs)) + 2), min(image.height, int(max(ys)) + 2)
    if x1 <= x0 or y1 <= y0:
        return
    mask = Image.new("L", (x1 - x0, y1 - y0), 0)
    pen = ImageDraw.Draw(mask)
    for k, ring in enumerate(rings):
        pen.polygon([(x - x0, y - y0) for x, y in ring], fill=0 if k else (90 if paper is None else 150))
    image.paste(tint, (x0, y0), mask)
