"""New UVs for the meshes of a scene: which surface is cut and flattened, at which scale, and where its charts lie until they are packed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..errors import QuiltError
from ..model.scene import Floats, Mesh, UvChannel
from ..uv.islands import merged_positions, number_rows
from .charts import Stop, Tell, Wish, allowed, charts_of, judge, outlines
from .topology import Mask, Numbers, Surface, surface_of

LEAST_STRETCH, MOST_STRETCH = 1.02, 4.0


@dataclass(frozen=True)
class Options:
    """stretch : the greater over the smaller singular value that nearly all of the surface stays under
    hard_edges : degrees from which an edge is a seam, None for no such rule
    material_borders : whether faces of different materials are parted
    keep_seams : whether the seams of the UVs that there are stay
    keep_flat : whether flat sides stay exactly flat: corners that could hide within the stretch are cut open then
    """

    stretch: float = 1.25
    hard_edges: float | None = None
    material_borders: bool = False
    keep_seams: bool = False
    keep_flat: bool = True

    @property
    def tip(self) -> float:
        """Radians that the angles around a point inside a chart may lack to a full turn (a cone of that stretch)."""
        return float(2 * np.pi * (1 - self.stretch**-0.5)) if self.keep_flat else float("inf")

    def __post_init__(self) -> None:
        if not LEAST_STRETCH <= self.stretch <= MOST_STRETCH:
            raise QuiltError(f"The allowed stretch is from {LEAST_STRETCH:g} to {MOST_STRETCH:g}.")
        if self.hard_edges is not None and not 0 < self.hard_edges <= 180:
            raise QuiltError("Hard edges are seams from an angle between 0 and 180 degrees on.")


@dataclass(frozen=True)
class Unwrapped:
    """A mesh with new UVs.

    channel : its UVs, at the scale of the mesh (one unit of UV is one unit of length), charts apart from each other
    charts : how many; seam : their inner length; area : of the surface, both in the mesh's units
    under (3,) : share of the area whose greater singular value is under 1.1, 1.25 and 1.5 of the smaller; worst : the greatest such ratio
    l2 : Sander's stretch, 1 for none; unsound : charts that fold or overlap in spite of all
    """

    channel: UvChannel
    charts: int
    seam: float
    area: float
    under: tuple[float, float, float]
    worst: float
    l2: float
    unsound: int


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
    points = mesh.positions if placing is None else mesh.positions @ placing.T
    label = _points(mesh)
    first = np.full(int(label.max(initial=-1)) + 1, 0)
    first[label[::-1]] = np.arange(len(label))[::-1]
    faces = label[mesh.triangles]
    kept = np.flatnonzero(_has_area(points[first], faces))
    if not len(kept):
        raise QuiltError(f"{mesh.name} has no face with an area: there is nothing to unwrap.")
    cell = kept if mesh.polygons is None else mesh.polygons.face_of[kept].astype(np.int64)
    s = surface_of(points[first], faces[kept], cell)
    whole = _in_one_piece(s, cell)
    if len(whole) < len(kept):
        kept, cell = kept[whole], cell[whole]
        s = surface_of(points[first], faces[kept], cell)
    if placing is not None and np.linalg.det(placing) < 0:
        # Seen from its front the surface is the mirror image: as it is in the mesh, so that UVs are not mirrored.
        s = surface_of(s.points * [1, 1, -1], s.faces, cell)
    wish = Wish(options.stretch, _must(s, mesh, kept, options, old, cell), cell, options.tip)
    seam, (c, b, flat) = charts_of(s, wish, stop, tell)
    found = judge(s, c, b, flat, wish)
    with np.errstate(divide="ignore"):
        ratio = np.where(flat.folded, np.inf, flat.greatest / np.maximum(flat.least, 1e-300))
    area = float(s.area.sum())
    laid = _apart(flat.uv, c.chart_of_row, outlines(c, b, flat.uv))
    inner = (s.twin >= 0) & seam
    square = 0.5 * (1 / np.maximum(flat.greatest, 1e-12) ** 2 + 1 / np.maximum(flat.least, 1e-12) ** 2)
    return Unwrapped(
        _channel(mesh, kept, c.rows, laid), c.charts, float(s.length[inner].sum() / 2), area,
        (*(float(s.area[ratio < k].sum() / area) for k in (1.1, 1.25, 1.5)),), float(ratio.max()),  # type: ignore[arg-type]
        float(np.sqrt((square * s.area).sum() / area)), int((~found.sound).sum()),
    )  # fmt: skip


def _in_one_piece(s: Surface, cell: Numbers) -> Numbers:
    """The faces (k,) without those that slivers keep apart from the rest of their polygon: a corner of it can have one place only, so the largest
    piece of each decides."""
    h = np.flatnonzero(s.twin >= 0)
    h = h[cell[h // 3] == cell[s.twin[h] // 3]]
    n = len(cell)
    count, piece = connected_components(coo_matrix((np.ones(len(h), np.int8), (h // 3, s.twin[h] // 3)), shape=(n, n)), directed=False)
    area = np.bincount(piece, s.area, count)
    of = np.zeros(count, np.int64)
    of[piece] = cell
    order = np.lexsort((-area, of))
    best = order[np.r_[True, of[order][1:] != of[order][:-1]]]
    return np.flatnonzero(np.isin(piece, best))


def _points(mesh: Mesh) -> Numbers:
    """A label (V,) for every position: those that only rounding keeps apart share one, unless that would collapse a face."""
    label, exact = merged_positions(mesh), number_rows(mesh.positions)[0]
    t = mesh.triangles
    near = np.stack([label[t[:, k]] == label[t[:, (k + 1) % 3]] for k in range(3)], axis=1)
    same = np.stack([exact[t[:, k]] == exact[t[:, (k + 1) % 3]] for k in range(3)], axis=1)
    small = np.unique(label[t[(near & ~same).any(axis=1)]])
    own = np.isin(label, small)
    out = np.where(own, len(label) + exact, label)
    return np.unique(out, return_inverse=True)[1].reshape(-1).astype(np.int64)


def _has_area(points: Floats, faces: Numbers) -> Mask:
    a, b, c = faces.T
    p = points[faces]
    cross = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    longest = np.linalg.norm(p - np.roll(p, 1, axis=1), axis=2).max(axis=1)
    # A needle this thin has lost its direction to rounding.
    found: Mask = (a != b) & (b != c) & (c != a) & (np.linalg.norm(cross, axis=1) > 1e-10 * longest**2)
    return found


def _must(s: Surface, mesh: Mesh, kept: Numbers, options: Options, old: UvChannel | None, cell: Numbers) -> Mask:
    """(3 F,) half-edges that are seams by the options."""
    h = np.flatnonzero(s.twin >= 0)
    face, other = h // 3, s.twin[h] // 3
    out = np.zeros(len(s.twin), bool)
    if options.hard_edges is not None:
        out[h] |= np.abs(s.bend[h]) >= np.radians(options.hard_edges)
    if options.material_borders:
        out[h] |= mesh.materials[kept[face]] != mesh.materials[kept[other]]
    if options.keep_seams and old is not None:
        rows = old.triangles[kept].reshape(-1)
        uv = np.where((rows >= 0)[:, None], old.uvs[np.maximum(rows, 0)], np.nan)
        t = s.twin[h]
        after_h, after_t = h - h % 3 + (h + 1) % 3, t - t % 3 + (t + 1) % 3
        apart = (np.abs(uv[h] - uv[after_t]) > 1e-6).any(axis=1) | (np.abs(uv[after_h] - uv[t]) > 1e-6).any(axis=1)
        out[h] |= apart & np.isfinite(uv[h]).all(axis=1) & np.isfinite(uv[t]).all(axis=1)
    return out & allowed(Wish(options.stretch, out, cell), s)


def _apart(uv: Floats, chart: Numbers, regions: object) -> Floats:
    """UVs with every chart turned to its least box and set on shelves, a little apart from the next."""
    shapes = np.asarray(regions, object)
    out = uv.copy()
    boxes = np.zeros((len(shapes), 2))
    for k, shape in enumerate(shapes):
        mine = chart == k
        corners = shapely.get_coordinates(shapely.minimum_rotated_rectangle(shape)) if not shapely.is_empty(shape) else np.zeros((0, 2))
        if len(corners) >= 4:
            sides = np.diff(corners[:3], axis=0)
            along = sides[int(np.argmax(np.linalg.norm(sides, axis=1)))]
            angle = -np.arctan2(along[1], along[0])
            turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
            out[mine] = out[mine] @ turn.T
        out[mine] -= out[mine].min(axis=0)
        boxes[k] = out[mine].max(axis=0)
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


def _channel(mesh: Mesh, kept: Numbers, rows: Numbers, uv: Floats) -> UvChannel:
    """The rows of all triangles of a mesh, those without area too: they lie where their neighbours do, or in one point."""
    corner = mesh.triangles.reshape(-1) if mesh.polygons is None else mesh.polygons.corners
    of_triangle = np.arange(mesh.triangles.size).reshape(-1, 3) if mesh.polygons is None else mesh.polygons.triangles
    row = np.full(len(corner), -1, np.int64)
    row[of_triangle[kept]] = rows
    polygon = np.arange(len(mesh.triangles)) if mesh.polygons is None else mesh.polygons.face_of
    owner = np.full(len(corner), -1, np.int64)
    owner[of_triangle] = polygon[:, None]
    members: dict[int, list[int]] = {}
    bare = np.flatnonzero((row < 0) & (owner >= 0))
    for c in np.flatnonzero(np.isin(owner, owner[bare])).tolist():
        members.setdefault(int(owner[c]), []).append(c)
    for c in bare.tolist():
        known = [k for k in members[int(owner[c])] if row[k] >= 0]
        # The nearest corner of the polygon; a polygon without any area lies in one point.
        far = np.linalg.norm(mesh.positions[corner[known]] - mesh.positions[corner[c]], axis=1)
        row[c] = -2 - row[known[int(np.argmin(far))]] if known else -2
    row[row < -1] = -2 - row[row < -1]
    # A row of one position only, as everywhere: vertices that normals keep apart have a row each.
    pairs, back = np.unique(np.column_stack([row, corner]), axis=0, return_inverse=True)
    new = np.full(len(corner), -1, np.int64)
    new[:] = back.reshape(-1)
    return UvChannel(uv[pairs[:, 0]], new[of_triangle].astype(np.int32))
