"""The UVs of one surface for another that lies close to it but has other triangles: its seams become ways along the other's edges, and each corner lies where
the nearest place of the surface does."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from ..model.components import components
from ..model.scene import Floats
from ..uv.areas import signed_areas
from .match import Match
from .parts import allowed_edges, seam_cost
from .pieces import Piece, piece_of, placed, unsound
from .placing import sampled
from .simpler import Simpler, drawn, row_normals
from .skin import Laying, Skin
from .topology import Cut, Mask, Numbers, Surface, cut

_SAMPLES = 150_000  # places of a surface by which the nearest face is found
_LOOKED = 12  # of them
_AGAINST = 0.5  # of the diagonal: how much farther away a face counts that looks the other way
_INTO = 0.2  # of the way from a corner to the middle of its face: there it is looked which island is meant
_RIM = 0.05  # of the diagonal: so near to a border what was on one is on it
_ALONG = 12  # places of an edge of the border
_CRUMB = 0.05  # of the largest piece of its island
_BEYOND = 3.0  # times the size of a face: so far its UVs go on where a corner is beyond it
_LEAN = 0.02  # of the diagonal: how far apart points count that look the other way
_SMOOTH = 6  # rounds in which a face takes the island that most of its border is to


@dataclass(frozen=True)
class Near:
    """For places (n, 3) the nearest faces (n,) of a surface, and how far away they are."""

    face: Numbers
    away: Floats


class Places:
    """The places of a surface, to be asked for the nearest one that looks the same way."""

    def __init__(self, s: Surface, faces: Numbers) -> None:
        self.s, self.faces = s, faces
        self.size = max(float(np.linalg.norm(np.ptp(s.points, axis=0))), 1e-300)
        self.of, places = sampled(s, faces, _SAMPLES)
        self.tree = cKDTree(places)

    def nearest(self, at: Floats, looking: Floats) -> Near:
        """The nearest faces to places (n, 3) that look one way (n, 3)."""
        near = self.tree.query(at, k=min(_LOOKED, len(self.of)))[1].reshape(len(at), -1)
        face = self.of[near]
        n, k = face.shape
        away = distances(self.s.points[self.s.faces[face.reshape(-1)]], np.repeat(at, k, axis=0)).reshape(n, k)
        turned = 1 - (self.s.normal[face] * looking[:, None]).sum(axis=2)
        best = np.argmin(away + _AGAINST * self.size * np.maximum(turned - 0.3, 0), axis=1)
        row = np.arange(n)
        return Near(face[row, best], away[row, best])


def distances(triangles: Floats, at: Floats) -> Floats:
    """How far points (n, 3) are from triangles (n, 3, 3) (Ericson 2005, Real-Time Collision Detection, from memory)."""
    inner = _barycentric(triangles, at)
    over: Mask = np.asarray((inner >= 0).all(axis=1), bool)
    out = np.full(len(at), np.inf)
    out[over] = np.linalg.norm((triangles * inner[:, :, None]).sum(axis=1) - at, axis=1)[over]
    for k in range(3):
        p, d = triangles[:, k], triangles[:, (k + 1) % 3] - triangles[:, k]
        t = np.clip(((at - p) * d).sum(axis=1) / np.maximum((d * d).sum(axis=1), 1e-300), 0, 1)
        out = np.where(over, out, np.minimum(out, np.linalg.norm(p + t[:, None] * d - at, axis=1)))
    return out


def _barycentric(triangles: Floats, at: Floats) -> Floats:
    """Barycentric coordinates (n, 3) of the feet of points on the planes of triangles (n, 3, 3)."""
    e, f, d = triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0], at - triangles[:, 0]
    ee, ef, ff = (e * e).sum(axis=1), (e * f).sum(axis=1), (f * f).sum(axis=1)
    de, df = (d * e).sum(axis=1), (d * f).sum(axis=1)
    under = np.maximum(ee * ff - ef * ef, 1e-300)
    v, w = (ff * de - ef * df) / under, (ee * df - ef * de) / under
    return np.stack([1 - v - w, v, w], axis=1)


@dataclass(frozen=True)
class Carried:
    """laying : how the second surface lies; away (F,) : how far the middles of its faces are from the first, as a share of the diagonal; anew : how many
    of its islands were laid flat anew, since they would have folded."""

    laying: Laying
    away: Floats
    anew: int


def carried(source: Skin, lies: Laying, skin: Skin, match: Match) -> Carried:
    """Lay a surface as another one lies that is close to it, as `match` places it. Corners that are matched get what theirs have, exactly.

    Parameters
    ----------
    lies : without UVs for none of its faces
    """
    one, two = source.surface, _placed(skin.surface, match)
    places = Places(one, np.flatnonzero(lies.island >= 0))
    middle = two.points[two.faces].mean(axis=1)
    near = places.nearest(middle, two.normal)
    known = match.known
    label = lies.island[np.where(known, match.corner[:, 0] // 3, near.face)]
    seam = _seams(one, lies, two, skin, places)
    label, seam = _agreed(two, label, seam, known, _known_seams(lies, two, match))
    c = cut(two, seam)
    uv = _corners(one, lies, two, c, label, match)
    anew = 0
    out = np.full((len(two.faces), 3, 2), np.nan)
    for faces in c.members:
        out[faces], again = _laid(skin.surface, faces, seam, uv[faces])
        anew += again
    away = np.where(known, 0.0, near.away) / places.size
    return Carried(Laying(out, seam, label), away, anew)


def _placed(s: Surface, match: Match) -> Surface:
    """A surface where it lies on the other one."""
    p = match.placing
    scale = float(np.cbrt(abs(np.linalg.det(p.turn))))
    return replace(s, points=p(s.points), normal=s.normal @ p.turn.T / scale, length=s.length * scale, area=s.area * scale**2)


def _seams(one: Surface, lies: Laying, two: Surface, skin: Skin, places: Places) -> Mask:
    """(3 F,) half-edges of the second on the ways that the seams of the first take on it."""
    c = cut(two, np.zeros(len(two.twin), bool))
    lean = _LEAN * places.size
    there = np.column_stack([two.points[c.point], lean * row_normals(c.rows, two, c.count)])
    here = np.column_stack([one.points, lean * row_normals(one.faces, one, len(one.points))])
    row = cKDTree(there).query(here)[1]
    rim, edge = np.flatnonzero(two.twin < 0), np.unique(one.start[one.twin < 0])
    if len(rim) and len(edge):
        # What is on a border comes onto the border, where there is one; its edges may be long.
        begin, end = c.rows.reshape(-1)[rim], np.roll(c.rows, -1, axis=1).reshape(-1)[rim]
        t = np.linspace(0, 1, _ALONG)[:, None, None]
        away, at = cKDTree(((1 - t) * there[begin] + t * there[end]).reshape(-1, 6)).query(here[edge])
        of = at % len(rim)
        nearer = np.where(at // len(rim) < _ALONG / 2, begin[of], end[of])
        row[edge] = np.where(away < _RIM * places.size, nearer, row[edge])
    small = Simpler(one, c, np.asarray(row, np.int64))
    may = allowed_edges(two, skin.cell)
    return drawn(two, seam_cost(two), may, small, lies.seam & (one.twin >= 0))


def seams_of(lies: Laying, match: Match) -> Mask:
    """(3 F,) half-edges of the second surface that are seams of the first."""
    return np.asarray((match.side >= 0) & lies.seam[match.side])


def _known_seams(lies: Laying, two: Surface, match: Match) -> tuple[Mask, Mask]:
    """(3 F,) half-edges of which both faces are matched, and those of them that are seams in the first."""
    h = np.flatnonzero(two.twin >= 0)
    both = np.zeros(len(two.twin), bool)
    both[h] = match.known[h // 3] & match.known[two.twin[h] // 3]
    seam = np.zeros(len(two.twin), bool)
    h = np.flatnonzero(both)
    seam[h] = seams_of(lies, match)[h]
    seam[two.twin[h]] |= seam[h]
    return both, seam


def _agreed(two: Surface, label: Numbers, seam: Mask, known: Mask, exact: tuple[Mask, Mask]) -> tuple[Numbers, Mask]:
    """Islands (F,) and seams (3 F,) that say the same: what seams enclose belongs to the island of most of it, and where a way left a gap islands part."""
    both, theirs = exact
    seam = np.where(both, theirs, seam)
    h = np.flatnonzero((two.twin >= 0) & (two.twin > np.arange(len(two.twin))))
    for _ in range(_SMOOTH):
        chart = cut(two, seam).chart
        count = int(label.max(initial=0)) + 1
        pairs, slot = np.unique(chart * count + label, return_inverse=True)
        area = np.bincount(slot.reshape(-1), two.area)
        order = np.lexsort((-area, pairs // count))
        first = np.r_[True, (pairs // count)[order][1:] != (pairs // count)[order][:-1]]
        most = (pairs % count)[order][first]
        whole = area[order][first] > 0.85 * np.bincount(chart, two.area)
        label = np.where(whole[chart] & ~known, most[chart], label)
        label = _smoothed(two, label, known)
    apart = label[h // 3] != label[two.twin[h] // 3]
    seam[h[apart]] = seam[two.twin[h[apart]]] = True
    # Inside an island the ways that lead nowhere stay: they are its slits.
    return _healed(two, label, seam, both)


def _healed(two: Surface, label: Numbers, seam: Mask, sure: Mask) -> tuple[Numbers, Mask]:
    """Islands (F,) and seams (3 F,) without crumbs, where two ways run side by side or leave the island that they are of: a piece that is not the largest of its
    island is joined with its neighbour of the same island, a crumb with any, along one run, so that a slit there stays one."""
    out, label = seam.copy(), label.copy()
    for _ in range(_SMOOTH):
        chart = cut(two, out).chart
        area = np.bincount(chart, two.area)
        of = np.empty(len(area), np.int64)
        of[chart] = label
        order = np.lexsort((-area, of))
        first = np.r_[True, of[order][1:] != of[order][:-1]]
        head = np.empty(int(of.max()) + 1, np.int64)
        head[of[order][first]] = order[first]
        h = np.flatnonzero(out & (two.twin >= 0) & ~sure)
        mine, other = chart[h // 3], chart[two.twin[h] // 3]
        lost = (head[of] != np.arange(len(of))) & (area < _CRUMB * area[head[of]])
        h = h[(mine != other) & (head[of[mine]] != mine) & ((of[mine] == of[other]) | lost[mine])]
        if not len(h):
            break
        done: set[int] = set()
        pieces = np.unique(chart[h // 3])
        for k in pieces[np.argsort(area[pieces], kind="stable")].tolist():
            own = h[chart[h // 3] == k]
            same = of[chart[two.twin[own] // 3]] == of[k]
            run = _longest_run(two, own[same] if same.any() else own, out)
            to = int(np.bincount(chart[two.twin[run] // 3], two.length[run]).argmax())
            if {k, to} & done:
                continue
            done |= {k, to}
            run = run[chart[two.twin[run] // 3] == to]
            out[run] = out[two.twin[run]] = False
            label[chart == k] = of[to]
    return label, out


def _longest_run(two: Surface, h: Numbers, seam: Mask) -> Numbers:
    """The longest of the runs that half-edges (k,) make; a run ends where other seams meet it."""
    every = np.flatnonzero(seam & ((two.twin < 0) | (two.twin > np.arange(len(two.twin)))))
    meets = np.bincount(np.r_[two.start[every], two.end[every]], minlength=len(two.points))
    ends = np.stack([two.start[h], two.end[h]], axis=1)
    through = meets[ends] <= 2
    n = len(h)
    at = np.where(through, n + ends, n + len(two.points) + np.arange(2 * n).reshape(n, 2))
    size = n + len(two.points) + 2 * n
    run = components(size, np.repeat(np.arange(n), 2), at.reshape(-1))[:n]
    return h[run == np.argmax(np.bincount(run, two.length[h]))]


def _smoothed(s: Surface, label: Numbers, known: Mask) -> Numbers:
    """Each face with the island that most of its border is to, where that is longer than what it has with its own."""
    h = np.flatnonzero(s.twin >= 0)
    other = label[s.twin[h] // 3]
    count = int(label.max(initial=0)) + 1
    pairs, slot = np.unique(h // 3 * count + other, return_inverse=True)
    length = np.bincount(slot.reshape(-1), s.length[h])
    face, to = pairs // count, pairs % count
    own = np.zeros(len(label))
    mine = to == label[face]
    own[face[mine]] = length[mine]
    out = label.copy()
    order = np.argsort(length, kind="stable")
    better = order[(length[order] > own[face[order]] * 1.5) & ~known[face[order]]]
    out[face[better]] = to[better]
    return out


def _corners(one: Surface, lies: Laying, two: Surface, c: Cut, label: Numbers, match: Match) -> Floats:
    """UVs (F, 3, 2) of corners: those of the corners that they are, else of the nearest place on their island; one for each row of the cut."""
    out = np.full((len(two.faces), 3, 2), np.nan)
    known = match.known
    out[known] = lies.uv.reshape(-1, 2)[match.corner[known].reshape(-1)].reshape(-1, 3, 2)
    rest = np.flatnonzero(~known)
    for island in np.unique(label[rest]).tolist():
        mine = rest[label[rest] == island]
        places = Places(one, np.flatnonzero(lies.island == island))
        p = two.points[two.faces[mine]]
        inner = (1 - _INTO) * p + _INTO * p.mean(axis=1, keepdims=True)
        found = places.nearest(inner.reshape(-1, 3), np.repeat(two.normal[mine], 3, axis=0))
        # On past the border of the island, whose seam may be jagged here; but no farther than its own faces let guess.
        at = np.clip(_barycentric(one.points[one.faces[found.face]], p.reshape(-1, 3)), -_BEYOND, 1 + _BEYOND)
        at /= at.sum(axis=1, keepdims=True)
        out[mine] = (at[:, :, None] * lies.uv[found.face]).sum(axis=1).reshape(-1, 3, 2)
    sure = np.repeat(known, 3)
    rows, flat = c.rows.reshape(-1), out.reshape(-1, 2)
    weight = np.where(sure, 1.0, 1e-9)
    total = np.bincount(rows, weight, c.count)
    mean = np.stack([np.bincount(rows, weight * flat[:, k], c.count) / total for k in (0, 1)], axis=1)
    return np.where(sure[:, None], flat, mean[rows]).reshape(-1, 3, 2)


def _laid(s: Surface, faces: Numbers, seam: Mask, uv: Floats) -> tuple[Floats, bool]:
    """UVs (k, 3, 2) of a chart as they are, or laid flat anew where they were where these would fold or overlap; and whether it was."""
    piece: Piece = piece_of(s, faces, seam)
    sign = np.array([-1.0 if signed_areas(uv).sum() < 0 else 1.0, 1.0])
    rows = piece.mean(uv * sign)
    if not unsound(piece, rows):
        return uv, False
    found = piece.flat()
    if unsound(piece, found):
        # What cannot lie flat without more seams stays folded, and is told as a fault.
        return uv, False
    return placed(piece, found, uv * sign, np.ones(len(faces), bool))[piece.cut.rows] * sign, True
