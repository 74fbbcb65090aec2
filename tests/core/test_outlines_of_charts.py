"""What is computed for all charts at once is what a look at each of them gives."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import shapely
from scipy.sparse import coo_matrix

from quilt_core import formats
from quilt_core.unwrap.chains import chains
from quilt_core.unwrap.charts import _is_crumpled
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.parting import source_side
from quilt_core.unwrap.parts import outlines
from quilt_core.unwrap.shorter import small_source_side
from quilt_core.unwrap.skin import skin_of
from quilt_core.unwrap.topology import borders, cut
from tests.shapes import kit


def test_chains_are_those_that_a_walk_finds() -> None:
    chance = np.random.default_rng(5)
    for n in (0, 1, 7, 300):
        to = chance.permutation(n)
        to[chance.random(n) < 0.1] = -1
        order, first = chains(to)
        seen: set[int] = set()
        walked = []
        for begin in range(n):
            chain, at = [], begin
            while at >= 0 and at not in seen:
                seen.add(at)
                chain.append(at)
                at = int(to[at])
            if chain:
                walked.append(chain)
        assert [order[a:b].tolist() for a, b in pairwise(first)] == walked


def test_outlines_of_many_charts_with_holes_are_those_of_each() -> None:
    """A plate with holes cut into strips: shells and holes by shapely's own constructor, one chart after the other."""
    mesh = formats.read(kit(), "kit.obj").meshes[0]
    skin = skin_of(mesh, None)
    s, chance = skin.surface, np.random.default_rng(2)
    for share in (0.0, 0.3, 1.0):
        seam = np.zeros(len(s.twin), bool)
        some = np.flatnonzero((s.twin >= 0) & (chance.random(len(s.twin)) < share))
        seam[some] = seam[s.twin[some]] = True
        c = cut(s, seam)
        b = borders(s, c, seam)
        uv = chance.random((c.count, 2))
        row = c.rows.reshape(-1)
        found = outlines(c, b, uv)
        for chart in range(c.charts):
            rings = [uv[row[b.edges[b.first[k] : b.first[k + 1]]]] for k in np.flatnonzero(b.chart == chart)]
            rings = [r for r in rings if len(r) >= 3]
            sizes = [float(np.prod(np.ptp(r, axis=0))) for r in rings]
            shell = int(np.argmax(sizes)) if rings else 0
            want = shapely.Polygon(rings[shell], [r for k, r in enumerate(rings) if k != shell]) if rings else shapely.Polygon()
            assert shapely.equals_identical(found[chart], want)


def test_pages_on_one_edge_are_charts_of_their_own_at_once() -> None:
    """50,000 pages took a minute; here are some of them, all apart and none stretched."""
    n = 3000
    at = 2 * np.pi * np.arange(n) / n
    lines = ["v 0 0 0", "v 0 0 1", *(f"v {np.cos(a):.6f} {np.sin(a):.6f} 0.5" for a in at), *(f"f 1 2 {k + 3}" for k in range(n))]
    made = unwrap(formats.read("\n".join(lines).encode(), "book.obj").meshes[0], Options(1.25))
    assert made.charts == n
    uv = made.channel.uvs[made.channel.triangles]
    boxes = shapely.box(*uv.min(axis=1).T, *uv.max(axis=1).T)
    assert len(shapely.STRtree(boxes).query(boxes, "overlaps")[0]) == 0


def crumpled(rings: int, seed: int) -> bytes:
    """A ball whose points lie at random heights: tips and saddles side by side all over."""
    chance, around = np.random.default_rng(seed), 2 * rings
    lines = []
    for i in range(rings):
        for j in range(around):
            tilt, turn, far = np.pi * (i + 0.5) / rings, 2 * np.pi * j / around, 1 + 0.3 * chance.random()
            at = far * np.array([np.sin(tilt) * np.cos(turn), np.sin(tilt) * np.sin(turn), np.cos(tilt)])
            lines.append("v {:.6f} {:.6f} {:.6f}".format(*at))
    for i in range(rings - 1):
        for j in range(around):
            a, b = i * around + j, i * around + (j + 1) % around
            lines += [f"f {a + 1} {a + around + 1} {b + around + 1}", f"f {a + 1} {b + around + 1} {b + 1}"]
    return "\n".join(lines).encode()


def test_a_crumpled_surface_is_laid_flat_plainly_and_lies_free() -> None:
    """It took a minute: hundreds of unions were tried that never lie flat. The result is judged by shapely, on the triangles."""
    mesh = formats.read(crumpled(18, 1), "ball.obj").meshes[0]
    assert _is_crumpled(skin_of(mesh, None).surface)
    made = unwrap(mesh, Options(1.25))
    uv = made.channel.uvs[made.channel.triangles]
    (a, b), (c, d) = (uv[:, 1] - uv[:, 0]).T, (uv[:, 2] - uv[:, 0]).T
    area = 0.5 * (a * d - b * c)
    assert (area > 0).all() or (area < 0).all(), "nothing is folded"
    union = shapely.union_all(shapely.polygons(uv))
    assert abs(union.area - np.abs(area).sum()) < 1e-9 * union.area, "nothing lies double"


def test_boxes_and_balls_are_not_crumpled() -> None:
    import trimesh

    for shape in (trimesh.creation.box(), trimesh.creation.icosphere(4), trimesh.creation.torus(1.0, 0.3), trimesh.creation.capsule()):
        mesh = formats.read(trimesh.exchange.obj.export_obj(shape).encode(), "shape.obj").meshes[0]
        assert not _is_crumpled(skin_of(mesh, None).surface)


def test_the_small_least_cut_is_the_one_of_scipy() -> None:
    """Nodes on the source's side, of random networks, against scipy's maximum flow: they are the same whatever flow is found."""
    chance = np.random.default_rng(0)
    for _ in range(500):
        n, m = int(chance.integers(2, 12)), int(chance.integers(0, 30))
        start, end = chance.integers(0, n, (2, m))
        weight = chance.integers(1, 9, m).astype(np.int32)
        use = start != end
        i, j = np.r_[start[use], end[use]], np.r_[end[use], start[use]]
        both = np.r_[weight[use], weight[use]]
        network = coo_matrix((both, (i, j)), shape=(n, n)).tocsr().astype(np.int32)
        assert (small_source_side(i, j, both, n) == source_side(network, 0, 1)).all()
