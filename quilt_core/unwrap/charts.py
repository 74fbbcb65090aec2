"""Where a surface is cut: charts that lie flat within an allowed stretch, with seams where they hurt least.

Cells (polygons, which are never cut) are merged while their normals fit a cone; what does not lie flat is slit or split; then charts are joined for as long as
they still lie flat, each union tried by really flattening it. Sources, from memory: merging by the gain of a functional (Koepfler, Lopez and
Morel 1994); the cone as a proxy (Julius, Kraevoy and Sheffer 2005); the constants were measured in a study (`docs/mending.md`).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components, dijkstra

from ..errors import Cancelled
from ..model.scene import Floats
from .flatten import Flat, flatten
from .topology import Borders, Cut, Mask, Numbers, Surface, after, borders, cut

NEARLY_ALL, ALL = 0.97, 0.997  # shares of a chart's area that keep to the stretch, and to twice as much
_FINAL = 0.94  # the first share, once the charts are decided
_SHARP = (np.radians(17.5), np.radians(35.0))  # between these an edge becomes a good place for a seam
_FOLDED = np.radians(150)  # two-sided sheets: always seams
_CONE, _CONE_LATER = 0.18, 0.75  # least eigenvalue of the normals' covariance above which a union is not tried
_SHARED = 0.1  # of the smaller perimeter: below, a union gains little
_HULL = 0.5  # area over hull below which a union would be hard to pack
_DEFECT = 0.3  # radians: about such a point a piece does not lie flat
_ROUNDS = 14
_COARSE, _MOST_WAYS = (1.0, 6.0), 20_000  # first guesses that are tried, and up to how many faces
_PASSES = 30  # of making seams shorter

Stop = Callable[[], bool]
Tell = Callable[[str], None]


@dataclass(frozen=True)
class Wish:
    """stretch : the greater over the smaller singular value that nearly all of the surface stays under
    must : (3 F,) half-edges that are seams whatever it costs; cell (F,) : polygon of every face
    tip : radians that the angles around a point inside a chart may lack to a full turn: with less, flat sides stay flat
    """

    stretch: float
    must: Mask
    cell: Numbers
    tip: float = np.inf


@dataclass(frozen=True)
class Judged:
    """Of the charts of a cut (n,): whether each may stay as it is, whether it has no fold and no overlap, and its area over its hull's."""

    good: Mask
    sound: Mask
    hull: Floats


def seam_cost(s: Surface) -> Floats:
    """What a seam costs on each half-edge (3 F,): its length, less at sharp edges, most of all at concave ones."""
    sharp = np.clip((np.abs(s.bend) - _SHARP[0]) / (_SHARP[1] - _SHARP[0]), 0.0, 1.0)
    return s.length * np.maximum(1.0 - 0.7 * sharp - 0.1 * sharp * (s.bend < 0), 0.05)


def allowed_edges(s: Surface, cell: Numbers) -> Mask:
    """(3 F,) half-edges that may be seams: no polygon is cut."""
    inside = s.twin >= 0
    inside[inside] = cell[np.flatnonzero(inside) // 3] == cell[s.twin[inside] // 3]
    return ~inside


def part_of(s: Surface, which: Numbers) -> tuple[Surface, Numbers]:
    """The surface of some faces (k,), and the half-edges of the whole that its own stand for."""
    number = np.full(len(s.faces), -1)
    number[which] = np.arange(len(which))
    h = (3 * which[:, None] + np.arange(3)).reshape(-1)
    twin = s.twin[h]
    other = np.where(twin >= 0, number[np.maximum(twin, 0) // 3], -1)
    twin = np.where(other >= 0, 3 * other + twin % 3, -1)
    points, faces = np.unique(s.faces[which], return_inverse=True)
    part = replace(
        s, points=s.points[points], faces=faces.reshape(-1, 3), twin=twin, normal=s.normal[which], area=s.area[which], length=s.length[h], bend=s.bend[h]
    )  # fmt: skip
    return part, h


def laid(s: Surface, seam: Mask, iterations: int, stop: Stop, stretch: float = np.inf) -> tuple[Cut, Borders, Flat]:
    """A surface cut and flattened.

    Raises
    ------
    Cancelled : it was stopped
    """
    if stop():
        raise Cancelled("The unwrapping was stopped. Everything is as it was.")
    c = cut(s, seam)
    b = borders(s, c, seam)
    # Charts that will not keep to the stretch are not laid to the end.
    return c, b, flatten(s, c, b, iterations, None, stop, 1.1 * 0.5 * (stretch**2 + stretch**-2))


def judge(s: Surface, c: Cut, b: Borders, f: Flat, wish: Wish, share: float = NEARLY_ALL) -> Judged:
    """Which charts may stay as they are."""
    stretch = wish.stretch
    with np.errstate(divide="ignore", invalid="ignore"):
        worst = np.maximum(f.greatest, 1 / np.maximum(f.least, 1e-300))
    area = np.maximum(np.bincount(c.chart, s.area, c.charts), 1e-300)
    near = np.bincount(c.chart, s.area * (worst <= stretch), c.charts) / area
    far = np.bincount(c.chart, s.area * (worst <= 2 * stretch), c.charts) / area
    tiny = area < 1e-7 * s.area.sum()
    whole = (np.bincount(c.chart, f.folded, c.charts) == 0) & (b.loops > 0) & (b.genus == 0)
    regions = outlines(c, b, f.uv)
    # Borders that do not cross are not enough: a hole may be turned inside out. Then the triangles have more area than the region.
    p = f.uv[c.rows]
    a, d = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    covered = np.bincount(c.chart, 0.5 * (a[:, 0] * d[:, 1] - a[:, 1] * d[:, 0]), c.charts)
    once = np.abs(shapely.area(regions) - covered) <= 1e-9 * covered
    sound = whole & once & shapely.is_valid(regions)
    hull = shapely.area(regions) / np.maximum(shapely.area(shapely.convex_hull(regions)), 1e-300)
    flat = np.bincount(c.chart_of_row, np.abs(_lacking(s, c, b)) > wish.tip, c.charts) == 0
    return Judged(sound & (((near >= share) & (far >= ALL) & flat) | tiny), sound, hull)


def _lacking(s: Surface, c: Cut, b: Borders) -> Floats:
    """What the angles around each row (W,) inside a chart lack to a full turn; 0 at its borders."""
    out: Floats = np.asarray(2 * np.pi - np.bincount(c.rows.reshape(-1), corner_angles(s).reshape(-1), c.count), np.float64)
    out[c.rows.reshape(-1)[b.edges]] = 0.0
    return out


def outlines(c: Cut, b: Borders, uv: Floats) -> NDArray[np.object_]:
    """The region (n,) of every chart by its border loops, the longest one outside; empty where it has none."""
    out = np.full(c.charts, shapely.Polygon(), object)
    row = c.rows.reshape(-1)
    rings: list[list[Floats]] = [[] for _ in range(c.charts)]
    for k, chart in enumerate(b.chart.tolist()):
        at = row[b.edges[b.first[k] : b.first[k + 1]]]
        if len(at) >= 3:
            rings[chart].append(uv[at])
    for chart, found in enumerate(rings):
        if found:
            sizes = [float(np.prod(np.ptp(r, axis=0))) for r in found]
            first = int(np.argmax(sizes))
            out[chart] = shapely.Polygon(found[first], [r for k, r in enumerate(found) if k != first])
    return out


def _covariances(moments: Floats, means: Floats, area: Floats) -> Floats:
    """(n, 3, 3) of normals, from sums of their products and of themselves."""
    a = np.maximum(area, 1e-300)[:, None]
    mean = means / a
    return moments / a[:, :, None] - mean[:, :, None] * mean[:, None, :]


def regions_of(s: Surface, wish: Wish, coarse: float = 1.0) -> Numbers:
    """A first label (F,) for every face: cells merged while the misfit to a cone that a union costs is less than the seam that it saves."""
    cells, label = np.unique(wish.cell, return_inverse=True)
    n = len(cells)
    h = np.flatnonzero((s.twin > np.arange(len(s.twin))) & ~wish.must)
    a, b = label[h // 3], label[s.twin[h] // 3]
    cost = seam_cost(s)[h]
    keep = a != b
    a, b, cost = a[keep], b[keep], cost[keep]
    area = np.bincount(label, s.area, n)
    means = np.stack([np.bincount(label, s.area * s.normal[:, k], n) for k in range(3)], axis=1)
    moments = np.stack([np.bincount(label, s.area * s.normal[:, i] * s.normal[:, j], n) for i in range(3) for j in range(3)], axis=1)
    of = np.arange(n)  # region of every cell
    last = 0.02 * coarse * (wish.stretch - 1) * np.sqrt(s.area.sum())

    def misfit(mom: Floats, mean: Floats, size: Floats) -> Floats:
        found = _covariances(mom.reshape(-1, 3, 3), mean, size)
        values = np.linalg.eigvalsh(found)
        return size * (np.maximum(values[:, 0], 0.0) + 0.05 * np.maximum(values.sum(axis=1), 0.0))

    for level in range(12, -1, -1):
        limit = last / 2**level
        while len(a):
            low, high = np.minimum(a, b), np.maximum(a, b)
            pairs, slot = np.unique(low * n + high, return_inverse=True)
            shared = np.bincount(slot, cost)
            i, j = pairs // n, pairs % n
            growth = (
                misfit(moments[i] + moments[j], means[i] + means[j], area[i] + area[j])
                - misfit(moments[i], means[i], area[i])
                - misfit(moments[j], means[j], area[j])
            )
            score = growth / np.maximum(shared, 1e-300)
            # Pairs that are the best of both are merged at once; ties by number, so that there always is one.
            best = np.full(n, np.inf)
            np.minimum.at(best, i, score)
            np.minimum.at(best, j, score)
            mutual = np.flatnonzero((score <= best[i]) & (score <= best[j]) & (score < limit))
            taken = np.zeros(n, bool)
            chosen = []
            for k in mutual.tolist():
                if not taken[i[k]] and not taken[j[k]]:
                    taken[i[k]] = taken[j[k]] = True
                    chosen.append(k)
            if not chosen:
                break
            into = np.arange(n)
            into[j[chosen]] = i[chosen]
            for sums in (area, means, moments):
                np.add.at(sums, i[chosen], sums[j[chosen]])
                sums[j[chosen]] = 0
            of = into[of]
            a, b = into[a], into[b]
            keep = a != b
            a, b, cost = a[keep], b[keep], cost[keep]
    return of[label]


def seams_between(s: Surface, label: Numbers, must: Mask) -> Mask:
    """(3 F,) half-edges between faces of different labels, and those that must be."""
    inner = s.twin >= 0
    out = must.copy()
    h = np.flatnonzero(inner)
    out[h] |= label[h // 3] != label[s.twin[h] // 3]
    return out


def _slit(s: Surface, faces: Numbers, seam: Mask, may: Mask, cost: Floats) -> bool:
    """Cut a chart of several borders from its longest one to the nearest other one, along edges that may be seams; whether that was done."""
    part, h = part_of(s, faces)
    own = seam[h]
    c = cut(part, own)
    if c.charts != 1:
        return False
    b = borders(part, c, own)
    if len(b.chart) < 2:
        return False
    lengths = np.add.reduceat(part.length[b.edges], b.first[:-1])
    row = c.rows.reshape(-1)
    outer = int(np.argmax(lengths))
    use = np.flatnonzero(may[h] & ~own & (part.twin >= 0))
    ends = row[use], row[after(use)]
    graph = csr_matrix((np.maximum(cost[h[use]], 1e-12), ends), shape=(c.count, c.count))
    graph = graph.maximum(graph.T)
    begin = np.unique(row[b.edges[b.first[outer] : b.first[outer + 1]]])
    far, before, _ = dijkstra(graph, directed=False, indices=begin, min_only=True, return_predecessors=True)
    goal = np.unique(np.concatenate([row[b.edges[b.first[k] : b.first[k + 1]]] for k in range(len(lengths)) if k != outer]))
    if not np.isfinite(far[goal]).any():
        return False
    at = int(goal[np.argmin(far[goal])])
    steps = set()
    while before[at] >= 0:
        steps.add((at, int(before[at])))
        at = int(before[at])
    keys = {(int(x), int(y)): int(k) for k, x, y in zip(use, *ends, strict=True)}
    done = False
    for x, y in steps:
        for key in ((x, y), (y, x)):
            if key in keys:
                k = keys[key]
                seam[h[k]] = True
                seam[s.twin[h[k]]] = True
                done = True
    return done


def _halves(s: Surface, faces: Numbers, wish: Wish, must: Mask) -> Numbers:
    """Two labels (k,) for the faces of a chart, each half as alike in place and direction as can be, by ways along the surface."""
    cells, cell = np.unique(wish.cell[faces], return_inverse=True)
    n = len(cells)
    if n < 2:
        return np.zeros(len(faces), np.int64)
    area = np.maximum(np.bincount(cell, s.area[faces], n), 1e-300)
    middle = s.points[s.faces[faces]].mean(axis=1)
    size = np.sqrt(s.area[faces].sum())
    at = np.stack([np.bincount(cell, s.area[faces] * middle[:, k], n) for k in range(3)], axis=1) / area[:, None] / size
    normal = np.stack([np.bincount(cell, s.area[faces] * s.normal[faces][:, k], n) for k in range(3)], axis=1) / area[:, None]
    part, _ = part_of(s, faces)
    h = np.flatnonzero(part.twin > np.arange(len(part.twin)))
    i, j = cell[h // 3], cell[part.twin[h] // 3]
    keep = (i != j) & ~must[(3 * faces[:, None] + np.arange(3)).reshape(-1)[h]]
    i, j = i[keep], j[keep]
    if not len(i):
        return cell % 2
    step = np.linalg.norm(at[i] - at[j], axis=1) + np.linalg.norm(normal[i] - normal[j], axis=1) + 1e-9
    graph = coo_matrix((step, (i, j)), shape=(n, n)).tocsr()
    graph = graph.maximum(graph.T)
    parts, of = connected_components(graph, directed=False)
    if parts > 1:
        return of[cell].astype(np.int64)
    one = int(np.argmax(dijkstra(graph, directed=False, indices=0)))
    two = int(np.argmax(dijkstra(graph, directed=False, indices=one)))
    side = np.zeros(n, bool)
    for _ in range(3):
        far = dijkstra(graph, directed=False, indices=[one, two])
        side = far[1] < far[0]
        if side.all() or not side.any():
            break
        one, two = (int(_central(at, normal, area, m)) for m in (~side, side))
        if one == two:
            break
    if side.all() or not side.any():
        side = np.arange(n) >= n // 2
    return side[cell].astype(np.int64)


def _central(at: Floats, normal: Floats, area: Floats, mine: Mask) -> np.intp:
    """The cell nearest to the middle of some of them, in place and direction."""
    w = area[mine][:, None]
    both = np.hstack([at, normal])
    mean = (both[mine] * w).sum(axis=0) / w.sum()
    return np.flatnonzero(mine)[np.argmin(((both[mine] - mean) ** 2).sum(axis=1))]


def divided(s: Surface, seam: Mask, wish: Wish, stop: Stop, share: float = NEARLY_ALL, iterations: int = 8) -> Mask:
    """Seams under which every chart lies flat: what does not is slit, and split where that did not help."""
    seam, may, cost = seam.copy(), allowed_edges(s, wish.cell), seam_cost(s)
    pending = np.arange(len(s.faces))
    slitted: set[int] = set()
    for turn in range(_ROUNDS + 8):
        part, h = part_of(s, pending)
        c, b, f = laid(part, seam[h], iterations if turn < _ROUNDS else 20, stop, wish.stretch)
        found = judge(part, c, b, f, wish, share)
        if found.good.all():
            return seam
        left = []
        for chart in np.flatnonzero(~found.good).tolist():
            faces = pending[c.chart == chart]
            left.append(faces)
            key = int(faces[0])
            if b.loops[chart] > 1 and b.genus[chart] == 0 and key not in slitted and _slit(s, faces, seam, may, cost):
                slitted.add(key)
                continue
            halves = np.full(len(s.faces), -1)
            halves[faces] = _halves(s, faces, wish, wish.must)
            inside = (3 * faces[:, None] + np.arange(3)).reshape(-1)
            twin = s.twin[inside]
            other = halves[np.maximum(twin, 0) // 3]
            between = (twin >= 0) & (other >= 0) & (other != halves[inside // 3])
            seam[inside[between]] = True
        pending = np.concatenate(left)
    return seam


def joined(s: Surface, seam: Mask, wish: Wish, stop: Stop, cone: float, tell: Tell) -> Mask:
    """Charts united for as long as they still lie flat, those that share the costliest seams first; each union is tried by flattening it.

    Two charts that share several runs of seam (the halves of a tube) are tried along all of them first, then along the costliest alone.
    """
    seam, cost = seam.copy(), seam_cost(s)
    failed: dict[tuple[int, int], int] = {}
    names = np.full(len(s.faces), -1)
    fresh = len(s.faces)
    for turn in range(60):
        c = cut(s, seam)
        # A chart keeps its name while nothing joins it, so that a union that failed is not tried again.
        first = np.full(c.charts, -1)
        first[c.chart[::-1]] = np.arange(len(s.faces))[::-1]
        if turn == 0:
            names = first[c.chart]
        pairs = _unions(s, c, seam, cost, wish, cone, names[first], failed)
        if not pairs:
            return seam
        tell(f"Joining charts: {c.charts} so far")
        mine = np.full(c.charts, -1)
        for k, pair in enumerate(pairs):
            mine[list(pair)] = k
        h = np.flatnonzero((s.twin >= 0) & seam & ~wish.must)
        x, y = c.chart[h // 3], c.chart[s.twin[h] // 3]
        h = h[(x != y) & (mine[x] >= 0) & (mine[x] == mine[y])]
        of = mine[c.chart[h // 3]]
        keys = [_key(int(names[first[i]]), int(names[first[j]])) for i, j in pairs]
        again = np.array([failed.get(key, 0) for key in keys]) > 0
        open_ = np.ones(len(h), bool)
        for k in np.flatnonzero(again).tolist():
            own = np.flatnonzero(of == k)
            open_[own] = _costliest_run(s, h[own], cost)
        trial = seam.copy()
        trial[h[open_]] = False
        faces = np.flatnonzero(mine[c.chart] >= 0)
        part, half = part_of(s, faces)
        pc, pb, pf = laid(part, trial[half], 10, stop, wish.stretch)
        found = judge(part, pc, pb, pf, wish)
        worth = found.good & (found.hull >= _HULL)
        of_chart = np.full(pc.charts, -1)
        of_chart[pc.chart] = mine[c.chart[faces]]
        for chart, k in enumerate(of_chart.tolist()):
            if worth[chart]:
                own_faces = np.isin(c.chart, pairs[k])
                names[own_faces] = fresh
                fresh += 1
                inside = (3 * np.flatnonzero(own_faces)[:, None] + np.arange(3)).reshape(-1)
                seam[inside] = trial[inside]
            else:
                runs = 1 if again[k] else straight_runs(s, h[of == k])[0]
                failed[keys[k]] = 2 if runs < 2 else 1
    return seam


def corner_angles(s: Surface) -> Floats:
    """Angles (F, 3) of the faces at their corners."""
    p = s.points[s.faces]
    angle = np.zeros((len(p), 3))
    for k in range(3):
        a, b = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        angle[:, k] = np.arctan2(np.linalg.norm(np.cross(a, b), axis=1), (a * b).sum(axis=1))
    return angle


def defects(s: Surface) -> Floats:
    """What the angles around each point (V,) lack to a full turn; 0 at borders."""
    out: Floats = np.asarray(2 * np.pi - np.bincount(s.faces.reshape(-1), corner_angles(s).reshape(-1), len(s.points)), np.float64)
    edge = s.twin < 0
    out[s.start[edge]] = out[s.end[edge]] = 0.0
    return out


def _key(a: int, b: int) -> tuple[int, int]:
    return (a, b) if a < b else (b, a)


def straight_runs(s: Surface, h: Numbers) -> tuple[int, Numbers]:
    """How many runs half-edges form that hang together at their points, and the run (k,) of each. Points that no flat piece can have inside end a run."""
    ends = np.concatenate([s.start[h], s.end[h]])
    tip = np.abs(defects(s))[ends] > _DEFECT
    # At such a point every half-edge has an end of its own.
    ends = np.where(tip, len(s.points) + np.arange(len(ends)), ends)
    points, at = np.unique(ends, return_inverse=True)
    a, b = at.reshape(2, -1)
    count, label = connected_components(coo_matrix((np.ones(len(h)), (a, b)), shape=(len(points), len(points))), directed=False)
    return int(count), label[a].astype(np.int64)


def _costliest_run(s: Surface, h: Numbers, cost: Floats) -> Mask:
    """Which (k,) of some half-edges belong to the run of most cost."""
    count, run = straight_runs(s, h)
    return np.asarray(run == int(np.argmax(np.bincount(run, cost[h], count))))


def smoothed(s: Surface, seam: Mask, wish: Wish, stop: Stop) -> Mask:
    """Seams between charts made shorter and cheaper: cells at a border go over to the chart that they share more of it with. Charts that would no longer lie
    flat take their cells back."""
    cost = seam_cost(s)
    cells, cell = np.unique(wish.cell, return_inverse=True)
    c = cut(s, seam)
    label = np.zeros(len(cells), np.int64)
    label[cell] = c.chart
    h = np.flatnonzero(s.twin >= 0)
    h = h[cell[h // 3] != cell[s.twin[h] // 3]]
    a, b = cell[h // 3], cell[s.twin[h] // 3]
    # Slits and seams that must be stay where they are.
    fixed = (seam[h] & (label[a] == label[b])) | wish.must[h]
    still = np.zeros(len(cells), bool)
    still[a[fixed]] = True
    start = label.copy()
    for _ in range(_PASSES):
        before = label.copy()
        for parity in (0, 1):
            label = _moved(label, a, b, cost[h], still, parity)
        if np.array_equal(before, label):
            break
    bad: set[int] = set()
    for _ in range(6):
        changed = label != start
        if not changed.any():
            return seam
        revert = changed & (np.isin(label, list(bad)) | np.isin(start, list(bad)))
        label[revert] = start[revert]
        trial = seam.copy()
        between = label[a] != label[b]
        free = ~fixed
        trial[h[free]] = between[free] | (seam[h[free]] & (start[a[free]] == start[b[free]]))
        touched = np.unique(np.concatenate([label[label != start], start[label != start]]))
        if not len(touched):
            return seam
        faces = np.flatnonzero(np.isin(label[cell], touched))
        part, half = part_of(s, faces)
        pc, pb, pf = laid(part, trial[half], 10, stop, wish.stretch)
        found = judge(part, pc, pb, pf, wish)
        of = np.full(pc.charts, -1)
        of[pc.chart] = label[cell[faces]]
        # A chart that fell apart is as bad as one that does not lie flat.
        twice = np.bincount(of, minlength=c.charts)[of] > 1
        worse = set(of[~found.good | twice].tolist())
        if not worse:
            return trial
        bad |= worse
    return seam


def _moved(label: Numbers, a: Numbers, b: Numbers, cost: Floats, still: Mask, parity: int) -> Numbers:
    """Labels (n,) after cells of one parity went over where that makes seams cheaper; `a`, `b` are the cells of every half-edge between two."""
    n, top = len(label), int(label.max()) + 1
    near = np.flatnonzero(label[a] != label[b])
    border = np.zeros(n, bool)
    border[a[near]] = True
    use = np.flatnonzero(border[a])
    key, slot = np.unique(a[use] * top + label[b[use]], return_inverse=True)
    shared = np.bincount(slot, cost[use])
    mine, other = key // top, key % top
    own = np.zeros(n)
    same = other == label[mine]
    own[mine[same]] = shared[same]
    gain = np.where(same, -np.inf, shared - own[mine])
    best = np.full(n, 1e-12)
    np.maximum.at(best, mine, gain)
    # Neighbours never go at once: of two that would, the one of lesser gain waits.
    go = np.flatnonzero((gain >= best[mine]) & (gain > 1e-12) & ~still[mine] & (mine % 2 == parity))
    want = np.zeros(n)
    want[mine[go]] = gain[go]
    rival = np.zeros(n)
    np.maximum.at(rival, a, want[b])
    out = label.copy()
    sure = go[want[mine[go]] > rival[mine[go]]]
    out[mine[sure]] = other[sure]
    return out


def _unions(
    s: Surface, c: Cut, seam: Mask, cost: Floats, wish: Wish, cone: float, names: Numbers, failed: dict[tuple[int, int], int]
) -> list[tuple[int, int]]:
    """Pairs of charts that are worth a try, no chart twice, the best first."""
    h = np.flatnonzero((s.twin > np.arange(len(s.twin))) & seam & ~wish.must)
    x, y = c.chart[h // 3], c.chart[s.twin[h] // 3]
    keep = x != y
    h, x, y = h[keep], np.minimum(x, y)[keep], np.maximum(x, y)[keep]
    if not len(h):
        return []
    pairs, slot = np.unique(x * c.charts + y, return_inverse=True)
    i, j = pairs // c.charts, pairs % c.charts
    shared, length = np.bincount(slot, cost[h]), np.bincount(slot, s.length[h])
    edge = np.flatnonzero((s.twin < 0) | seam)
    around = np.bincount(c.chart[edge // 3], s.length[edge], c.charts)
    least = np.minimum(around[i], around[j])
    area = np.bincount(c.chart, s.area, c.charts)
    means = np.stack([np.bincount(c.chart, s.area * s.normal[:, k], c.charts) for k in range(3)], axis=1)
    moments = np.stack(
        [np.bincount(c.chart, s.area * s.normal[:, p] * s.normal[:, q], c.charts) for p in range(3) for q in range(3)], axis=1
    )
    spread = np.linalg.eigvalsh(_covariances((moments[i] + moments[j]).reshape(-1, 3, 3), means[i] + means[j], area[i] + area[j]))[:, 0]
    score = shared / np.maximum(least, 1e-300) - 0.5 * spread / 0.12
    out: list[tuple[int, int]] = []
    taken = np.zeros(c.charts, bool)
    for k in np.argsort(-score, kind="stable").tolist():
        a, b = int(i[k]), int(j[k])
        if taken[a] or taken[b] or length[k] < _SHARED * least[k] or spread[k] > cone:
            continue
        if failed.get(_key(int(names[a]), int(names[b])), 0) > 1:
            continue
        taken[a] = taken[b] = True
        out.append((a, b))
    return out


def charts_of(s: Surface, wish: Wish, stop: Stop = lambda: False, tell: Tell = lambda _: None) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """The seams (3 F,) under which a surface lies flat, within the stretch that is wished; and how it lies then.

    Several first guesses are tried; the one whose seams cost least is taken.

    Raises
    ------
    Cancelled : it was stopped
    """
    may = allowed_edges(s, wish.cell)
    must = (wish.must | ((np.abs(s.bend) > _FOLDED) & (s.twin >= 0))) & may
    wish = replace(wish, must=must)
    ways = _COARSE if len(s.faces) <= _MOST_WAYS else _COARSE[:1]
    found = [_one_way(s, wish, coarse, stop, tell) for coarse in ways]
    cost = seam_cost(s)
    dear = [float(cost[seam].sum() / 2) + 0.1 * float(np.sqrt(s.area.sum())) * done[0].charts for seam, done in found]
    return found[int(np.argmin(dear))]


def _one_way(s: Surface, wish: Wish, coarse: float, stop: Stop, tell: Tell) -> tuple[Mask, tuple[Cut, Borders, Flat]]:
    """Charts from one first guess, the coarser the fewer regions it begins with."""
    tell("Looking for charts")
    seam = divided(s, seams_between(s, regions_of(s, wish, coarse), wish.must), wish, stop)
    for cone in (_CONE, _CONE_LATER):
        seam = smoothed(s, seam, wish, stop)
        seam = joined(s, seam, wish, stop, cone, tell)
    seam = smoothed(s, seam, wish, stop)
    tell("Laying the charts flat")
    done = laid(s, seam, 25, stop)
    if judge(s, *done, wish, _FINAL).good.all():
        return seam, done
    seam = divided(s, seam, wish, stop, _FINAL, 25)
    return seam, laid(s, seam, 25, stop)
