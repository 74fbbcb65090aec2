"""The template: a picture of a tile with all islands outlined, to paint over; as pixels or as lines (SVG)."""

from __future__ import annotations

import io
from dataclasses import dataclass
from html import escape

import numpy as np
import shapely
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from ..model.colours import CLOTH
from ..model.tiles import column_row


def colour(number: int) -> str:
    """The colour of an object."""
    return CLOTH[number % len(CLOTH)]


@dataclass(frozen=True)
class Extras:
    """What a template shows beside outlines: `zone` UV units of padding zone around islands, `wires` (k, 2, 2) ends of the edges of triangles in
    UV, `labels` text for each owner."""

    zone: float = 0.0
    wires: NDArray[np.float64] | None = None
    labels: tuple[str, ...] = ()


def draw(
    regions: NDArray[np.object_],
    owner: NDArray[np.integer],
    size: int,
    tile: int = 1001,
    paper: str | None = None,
    fill: bool = True,
    extras: Extras | None = None,
) -> bytes:
    """PNG of one tile.

    Parameters
    ----------
    regions : (n,) islands in UV units; owner : (n,) what each belongs to (an object, a material...), which gives it its colour
    size : px of the picture; tile : UDIM number; paper : ground colour, None for transparent
    """
    extras = Extras() if extras is None else extras
    ink = 2 if size <= 4096 else 1  # drawn at twice the size and reduced, for clean edges
    image = Image.new("RGBA", (size * ink, size * ink), paper or (0, 0, 0, 0))
    pen = ImageDraw.Draw(image)
    corner = np.array(column_row(tile))
    here = _on_tile(regions, corner)
    if extras.zone > 0:
        for i in here:
            for part in shapely.get_parts(shapely.buffer(regions[i], extras.zone, quad_segs=4)):
                if part.geom_type == "Polygon":
                    pen.polygon(_pixels(part.exterior, corner, size * ink), fill=_faint(colour(int(owner[i]))))
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
    for a, b in (np.zeros((0, 2, 2)) if extras.wires is None else extras.wires) - corner:
        if max(a.min(), b.min()) >= 0 and min(a.max(), b.max()) <= 1:
            pen.line(
                [(a[0] * size * ink, (1 - a[1]) * size * ink), (b[0] * size * ink, (1 - b[1]) * size * ink)], fill="#5b627588", width=1
            )
    for (x, y), text in _labels(regions[here], owner[here], extras.labels, corner):
        font = ImageFont.load_default(max(10, size * ink // 80))
        pen.text(
            (x * size * ink, (1 - y) * size * ink), text, fill="#26324d", anchor="mm", font=font, stroke_width=ink, stroke_fill="#fbf7ee"
        )
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


def _on_tile(regions: NDArray[np.object_], corner: NDArray[np.integer]) -> NDArray[np.int64]:
    """Numbers of the regions whose box reaches into a tile."""
    box = shapely.bounds(regions)
    return np.flatnonzero((box[:, 0] < corner[0] + 1) & (box[:, 2] > corner[0]) & (box[:, 1] < corner[1] + 1) & (box[:, 3] > corner[1]))


def _faint(tint: str) -> tuple[int, int, int, int]:
    r, g, b = (int(tint[k : k + 2], 16) for k in (1, 3, 5))
    return r, g, b, 46


def _labels(
    regions: NDArray[np.object_], owner: NDArray[np.integer], labels: tuple[str, ...], corner: NDArray[np.integer]
) -> list[tuple[tuple[float, float], str]]:
    """Where each owner's name stands: on its largest island of the tile."""
    if not labels:
        return []
    area = shapely.area(regions)
    out = []
    for o in np.unique(owner):
        mine = np.flatnonzero(owner == o)
        point = shapely.point_on_surface(regions[mine[int(np.argmax(area[mine]))]])
        if int(o) < len(labels) and not point.is_empty:
            out.append(((point.x - corner[0], point.y - corner[1]), labels[int(o)]))
    return out


def draw_svg(
    regions: NDArray[np.object_],
    owner: NDArray[np.integer],
    size: int,
    tile: int = 1001,
    paper: str | None = None,
    fill: bool = True,
    extras: Extras | None = None,
) -> bytes:
    """SVG 1.1 of one tile, `size` units wide; parameters as of `draw`. Islands of one owner are one group, so that they can be switched."""
    extras = Extras() if extras is None else extras
    corner = np.array(column_row(tile))
    here = _on_tile(regions, corner)
    out = [f'<svg xmlns="http://www.w3.org/2000/svg" width="{size}" height="{size}" viewBox="0 0 {size} {size}">']
    if paper:
        out.append(f'<rect width="{size}" height="{size}" fill="{paper}"/>')
    width = max(1.0, size / 1024)
    for o in np.unique(owner[here]):
        mine, tint = here[owner[here] == o], colour(int(o))
        name = escape(extras.labels[int(o)], quote=True) if int(o) < len(extras.labels) else str(int(o))
        out.append(f'<g id="owner-{int(o)}" data-name="{name}">')
        if extras.zone > 0:
            zone = shapely.buffer(regions[mine], extras.zone, quad_segs=4)
            out.append(f'<path d="{_path(zone, corner, size)}" fill="{tint}" fill-opacity="0.18" fill-rule="evenodd"/>')
        solid = f'fill="{tint}" fill-opacity="{0.35 if paper is None else 0.6}"' if fill else 'fill="none"'
        path = _path(regions[mine], corner, size)
        out.append(f'<path d="{path}" {solid} fill-rule="evenodd" stroke="{tint}" stroke-width="{width:g}"/></g>')
    if extras.wires is not None and len(extras.wires):
        ends = (extras.wires - corner) * [size, -size] + [0, size]
        lines = "".join(f"M{a[0]:.3f} {a[1]:.3f}L{b[0]:.3f} {b[1]:.3f}" for a, b in ends)
        out.append(f'<path d="{lines}" fill="none" stroke="#5b6275" stroke-opacity="0.5" stroke-width="{0.5 * width:g}"/>')
    for (x, y), text in _labels(regions[here], owner[here], extras.labels, corner):
        at = f'x="{x * size:.1f}" y="{(1 - y) * size:.1f}" font-size="{max(8, size // 80)}"'
        out.append(f'<text {at} text-anchor="middle" font-family="sans-serif" fill="#26324d">{escape(text)}</text>')
    return "\n".join([*out, "</svg>\n"]).encode()


def _path(regions: NDArray[np.object_], corner: NDArray[np.integer], size: int) -> str:
    rings = shapely.get_rings(shapely.get_parts(regions))
    text = []
    for ring in rings:
        xy = shapely.get_coordinates(ring)[:-1] - corner
        text.append("M" + "L".join(f"{u * size:.3f} {(1 - v) * size:.3f}" for u, v in xy) + "Z")
    return "".join(text)
