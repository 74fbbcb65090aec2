"""What is computed for all charts at once is what a look at each of them gives."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import shapely

from quilt_core import formats
from quilt_core.unwrap.chains import chains
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.parts import outlines
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
