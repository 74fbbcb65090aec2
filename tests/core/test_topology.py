"""What a set of seams makes of a surface."""

from __future__ import annotations

import numpy as np
import pytest

from quilt_core.unwrap.topology import cut, grouped, surface_of


@pytest.mark.parametrize(("label", "count"), [([], 0), ([], 2), ([0, 0], 1), ([2, 0, 2, 1, 0], 3), ([3, 3, 0], 5)])
def test_where_each_label_stands(label: list[int], count: int) -> None:
    of = np.array(label, np.int64)
    found = grouped(of, count)
    assert [f.tolist() for f in found] == [np.flatnonzero(of == k).tolist() for k in range(count)]


def test_every_face_is_a_member_of_its_chart() -> None:
    points = np.array([[x, y, 0.0] for y in range(3) for x in range(7)])
    quads = [(7 * y + x, 7 * y + x + 1, 7 * y + x + 8, 7 * y + x + 7) for y in range(2) for x in range(6)]
    faces = np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])
    s = surface_of(points, faces)
    # Seams along x = 2 and x = 4: three strips of eight triangles.
    ends = np.stack([s.faces.reshape(-1), np.roll(s.faces, -1, axis=1).reshape(-1)])
    x = s.points[ends][:, :, 0]
    c = cut(s, (x[0] == x[1]) & np.isin(x[0], (2.0, 4.0)))
    assert sorted(len(m) for m in c.members) == [8, 8, 8]
    for k, faces_of in enumerate(c.members):
        assert (c.chart[faces_of] == k).all()
    assert np.array_equal(np.sort(np.concatenate(c.members)), np.arange(len(s.faces)))
