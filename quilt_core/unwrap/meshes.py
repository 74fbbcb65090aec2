"""New UVs for the meshes of a scene: which surface is cut and flattened, at which scale, and where its charts lie until they are packed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import shapely

from ..errors import QuiltError
from ..model.scene import Floats, Mesh, UvChannel
from .charts import charts_of
from .closing import closed, opened
from .parts import allowed_edges, corners, flat_sides, outlines, part_of
from .skin import Laying, Revised, Skin, bare_laying, laying_of, readable, revised, skin_of
from .threads import Stop
from .topology import Mask, Numbers
from .trial import Tell, Wish, judge

LEAST_STRETCH, MOST_STRETCH = 1.02, 4.0


@dataclass(frozen=True)
class Options:
    """stretch : the greater over the smaller singular value that nearly all of the surface stays under
    hard_edges : degrees from which an edge is a seam, None for no such rule
    material_borders : whether faces of different materials are parted
    keep_seams : whether the seams of the UVs that there are stay
    keep_flat : whether flat sides stay flat: corners that could hide within the stretch are cut open then, and large sides are stretched by less than a tenth
    alike : whether halves that mirror each other are cut alike
    close_holes : whether small holes count as closed: they keep their shape in the plane, and seams and charts go over them. The mesh stays as it is
    """

    stretch: float = 1.25
    hard_edges: float | None = None
    material_borders: bool = False
    keep_seams: bool = False
    keep_flat: bool = True
    alike: bool = True
    close_holes: bool = False

    @property
    def tip(self) -> float:
        """Radians that the angles around a point inside a chart may lack to a full turn (a cone of that stretch)."""
        return float(2 * np.pi * (1 - self.stretch**-0.5))

    def __post_init__(self) -> None:
        if not LEAST_STRETCH <= self.stretch <= MOST_STRETCH:
            raise QuiltError(f"The allowed stretch is from {LEAST_STRETCH:g} to {MOST_STRETCH:g}.")
        if self.hard_edges is not None and not 0 < self.hard_edges <= 180:
            raise QuiltError("Hard edges are seams from an angle between 0 and 180 degrees on.")


@dataclass(frozen=True)
class Unwrapped:
    """A mesh with new UVs.

    revised : its UVs, at the scale of the mesh (one unit of UV is one unit of length), charts apart from each other
    charts : how many; seam : their inner length; area : of the surface, both in the mesh's units
    under (3,) : share of the area whose greater singular value is under 1.1, 1.25 and 1.5 of the smaller; worst : the greatest such ratio
    l2 : Sander's stretch, 1 for none; unsound : charts that fold or overlap in spite of all
    anew : (k,) numbers of the islands that were made
    """

    revised: Revised
    charts: int
    seam: float
    area: float
    under: tuple[float, float, float]
    worst: float
    l2: float
    unsound: int
    anew: Numbers

    @property
    def channel(self) -> UvChannel:
        """The rows of the whole mesh."""
        return self.revised.channel


def unwrap(
    mesh: Mesh,
    options: Options,
    placing: Floats | None = None,
    old: UvChannel | None = None,
    stop: Stop = lambda: False,
    tell: Tell = lambda _: None,
) -> Unwrapped:
    """Make new UVs for a mesh.

    Parameters
    ----------
    placing : (3, 3) from the mesh to the world, whose shape counts; None for the mesh as it is
    old : the UVs whose seams may stay
    stop : asked often; tell : gets what is done in words

    Raises
    ------
    QuiltError : the mesh has no face with an area; Cancelled : it was stopped
    """
    skin = skin_of(mesh, placing)
    return unwrap_faces(skin, bare_laying(skin), np.ones(len(skin.kept), bool), options, old, stop, tell)


def unwrap_faces(
    skin: Skin, laying: Laying, faces: Mask, options: Options, old: UvChannel | None = None, stop: Stop = lambda: False, tell: Tell = lambda _: None
) -> Unwrapped:  # fmt: skip
    """Make new UVs for some faces (F,) of a mesh; all others stay as they lie. The figures are of the new ones. See `unwrap`."""
    which = np.flatnonzero(faces)
    s, h = part_of(skin.surface, which) if len(which) < len(faces) else (skin.surface, np.arange(3 * len(faces)))
    whole, cell = closed(s, skin.cell[which]) if options.close_holes else (s, skin.cell[which])
    if options.keep_flat:
        whole = replace(whole, corner=corners(whole, options.tip), flat=flat_sides(whole))
    must = np.zeros(len(whole.twin), bool)
    must[: len(s.twin)] = _must(skin, options, old)[h]
    wish = Wish(options.stretch, must & (whole.twin >= 0), cell, alike=options.alike)
    seam, done = charts_of(whole, wish, stop, tell)
    found = judge(whole, *done, wish)
    seam = seam[: len(s.twin)]
    c, b, flat = opened(s, seam, done) if len(whole.faces) > len(s.faces) else done
    with np.errstate(divide="ignore"):
        ratio = np.where(flat.folded, np.inf, flat.greatest / np.maximum(flat.least, 1e-300))
    area = float(s.area.sum())
    apart = _apart(flat.uv, c.chart_of_row, outlines(c, b, flat.uv))
    uv, every = laying.uv.copy(), laying.seam.copy()
    uv[which] = readable(skin, apart)[c.rows]
    every[h] = seam
    border = np.flatnonzero(skin.surface.twin >= 0)
    border = border[faces[border // 3] != faces[skin.surface.twin[border] // 3]]
    every[border] = True
    out = revised(skin, Laying(uv, every, laying.island), faces)
    inner = (s.twin >= 0) & seam
    square = 0.5 * (1 / np.maximum(flat.greatest, 1e-12) ** 2 + 1 / np.maximum(flat.least, 1e-12) ** 2)
    return Unwrapped(
        out, c.charts, float(s.length[inner].sum() / 2), area,
        (*(float(s.area[ratio < k].sum() / area) for k in (1.1, 1.25, 1.5)),), float(ratio.max()),  # type: ignore[arg-type]
        float(np.sqrt((square * s.area).sum() / area)), int((~found.sound).sum()), np.unique(out.island[skin.kept[which]]).astype(np.int64),
    )  # fmt: skip


def _must(skin: Skin, options: Options, old: UvChannel | None) -> Mask:
    """(3 F,) half-edges that are seams by the options."""
    s, mesh, kept = skin.surface, skin.mesh, skin.kept
    h = np.flatnonzero(s.twin >= 0)
    face, other = h // 3, s.twin[h] // 3
    out = np.zeros(len(s.twin), bool)
    if options.hard_edges is not None:
        out[h] |= np.abs(s.bend[h]) >= np.radians(options.hard_edges)
    if options.material_borders:
        out[h] |= mesh.materials[kept[face]] != mesh.materials[kept[other]]
    if options.keep_seams and old is not None:
        before = laying_of(skin, old, np.zeros(len(mesh.triangles), np.int64))
        # Where a face had no UVs there was no seam.
        out[h] |= before.seam[h] & ~before.bare[face] & ~before.bare[other]
    return out & allowed_edges(s, skin.cell)


def _apart(uv: Floats, chart: Numbers, regions: object) -> Floats:
    """UVs with every chart turned to its least box and set on shelves, a little apart from the next."""
    shapes = np.asarray(regions, object)
    count = len(shapes)
    at, of = shapely.get_coordinates(shapely.minimum_rotated_rectangle(shapes), return_index=True)
    first = np.searchsorted(of, np.arange(count + 1))
    box = np.flatnonzero(np.diff(first) >= 4)  # those that have one
    sides = np.stack([at[first[box] + k + 1] - at[first[box] + k] for k in range(2)], axis=1)
    along = sides[np.arange(len(box)), np.linalg.norm(sides, axis=2).argmax(axis=1)]
    angle = np.zeros(count)
    angle[box] = -np.arctan2(along[:, 1], along[:, 0])
    c, s = np.cos(angle[chart]), np.sin(angle[chart])
    out = np.column_stack([c * uv[:, 0] - s * uv[:, 1], s * uv[:, 0] + c * uv[:, 1]])
    low, boxes = np.full((count, 2), np.inf), np.zeros((count, 2))
    np.minimum.at(low, chart, out)
    out -= low[chart]
    np.maximum.at(boxes, chart, out)
    corner = shelves(boxes)
    return out + corner[chart]


def shelves(boxes: Floats) -> Floats:
    """Lower left corners (n, 2) for boxes (n, 2) on shelves that fill about a square, each a fiftieth of the middle height from the next."""
    gap = 0.02 * float(np.sqrt((boxes.prod(axis=1)).mean())) if len(boxes) else 0.0
    width = max(float(np.sqrt(((boxes + gap).prod(axis=1)).sum()) * 1.05), float(boxes[:, 0].max(initial=0.0)))
    out = np.zeros_like(boxes)
    x = y = height = 0.0
    for k in np.argsort(-boxes[:, 1], kind="stable").tolist():
        if x > 0 and x + boxes[k, 0] > width:
            x, y, height = 0.0, y + height + gap, 0.0
        out[k] = x, y
        x += float(boxes[k, 0]) + gap
        height = max(height, float(boxes[k, 1]))
    return out
