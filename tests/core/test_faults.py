"""Faults against arithmetic, closed forms, and layouts made with known faults."""

from __future__ import annotations

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.faults.fault import Fault, Limits, target_of
from quilt_core.faults.findings import Findings, find
from quilt_core.faults.listing import listing
from quilt_core.measure.proof import prove
from quilt_core.model.tiles import Grid
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse
from quilt_core.uv.edges import mesh_faults

from ..shapes import PLANE, grid_obj

Box = tuple[float, float, float, float]


def squares(boxes: list[Box], size: float = 1.0, flip: frozenset[int] = frozenset()) -> bytes:
    """Loose square metres whose islands are the given UV boxes; those in `flip` mirrored."""
    lines = []
    for k, (u0, v0, u1, v1) in enumerate(boxes):
        if k in flip:
            u0, u1 = u1, u0
        x = 2 * size * k
        lines += [f"v {x} 0 0", f"v {x + size} 0 0", f"v {x + size} {size} 0", f"v {x} {size} 0"]
        lines += [f"vt {u0} {v0}", f"vt {u1} {v0}", f"vt {u1} {v1}", f"vt {u0} {v1}"]
        lines.append("f " + " ".join(f"{4 * k + c}/{4 * k + c}" for c in (1, 2, 3, 4)))
    return "\n".join(lines).encode()


def pieces_of(data: bytes) -> list[MeshIslands]:
    return [p for p in analyse(formats.read(data, "a.obj"), 0) if p is not None]


def limits_of(map_px: int, padding_px: float, margin_px: float, columns: int = 1, rows: int = 1, **more: object) -> Limits:
    return Limits(Grid(map_px, columns, rows), padding_px, margin_px, **more)  # type: ignore[arg-type]


def faults(data: bytes, **limits: object) -> dict[str, Fault]:
    limits = {"map_px": 1000, "padding_px": 10.0, "margin_px": 5.0, **limits}
    return {f.kind: f for f in listing(find(pieces_of(data)), limits_of(**limits))}  # type: ignore[arg-type]


def test_a_clean_layout_has_no_faults() -> None:
    assert faults(squares([(0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.7, 0.7)])) == {}


def test_overlap_in_texels_at_its_place() -> None:
    """Arithmetic: boxes that share 0.1 x 0.2 share 100 x 200 texels of 1000."""
    data = squares([(0.1, 0.1, 0.4, 0.4), (0.3, 0.2, 0.6, 0.5)])
    twice = prove(pieces_of(data), None, 1000, (1, 1)).overlap_px
    found = faults(data, twice_px=twice)["overlap"]
    assert found.count == 1 and found.heavy == 3 and sorted(found.islands) == [0, 1]
    assert found.values[0] == pytest.approx(100 * 200)
    (u, v) = found.places[0]
    assert 0.3 <= u <= 0.4 and 0.2 <= v <= 0.4
    assert found.title == "1 pair of islands overlaps" and found.detail == "2.0 % of the map is written twice"


def test_twins_are_no_overlap() -> None:
    found = faults(squares([(0.1, 0.1, 0.4, 0.4), (0.1, 0.1, 0.4, 0.4), (0.1, 0.1, 0.4, 0.39)]))
    assert found["twins"].count == 1 and set(found["twins"].islands) == {0, 1}
    assert found["overlap"].count == 2 and found["twins"].heavy == 3


def test_gaps_and_margins_in_px() -> None:
    """Arithmetic: 0.006 of 1000 px are 6 px; 0.003 from the border are 3 px."""
    found = faults(squares([(0.003, 0.1, 0.3, 0.3), (0.306, 0.1, 0.5, 0.3), (0.6, 0.6, 0.7, 0.7)]))
    assert found["gap"].count == 1 and found["gap"].values[0] == pytest.approx(6) and "6.00 px" in found["gap"].detail
    assert found["gap"].places[0] == pytest.approx([0.303, found["gap"].places[0][1]])
    assert found["margin"].count == 1 and list(found["margin"].islands) == [0]
    assert "gap" not in faults(squares([(0.1, 0.1, 0.3, 0.3), (0.306, 0.1, 0.5, 0.3)]), padding_px=6.0)


def test_every_tile_says_where_it_is_narrowest() -> None:
    """Arithmetic at 1000 px (1002: 500): gaps of 0.02 and 0.1, margins of 0.05 and 0.01."""
    boxes = [(0.05, 0.1, 0.4, 0.5), (0.42, 0.1, 0.6, 0.5), (0.7, 0.1, 0.9, 0.5), (1.2, 0.1, 1.5, 0.99), (1.6, 0.1, 1.8, 0.5)]
    piece = analyse(formats.read(squares(boxes), "a.obj"), 0)[0]
    assert piece is not None
    found = prove([piece], None, 1000, (2, 1), tile_px={1002: 500}).tiles
    assert found[1001].gap_px == pytest.approx(20) and found[1001].pair == (0, 1)
    assert found[1001].margin_px == pytest.approx(50) and found[1001].outermost == 0
    assert found[1002].gap_px == pytest.approx(50) and found[1002].pair == (3, 4)
    assert found[1002].margin_px == pytest.approx(5) and found[1002].outermost == 3
    part = prove([piece], None, 1000, (2, 1), only=np.array([False, True, True, True, False])).tiles
    assert part[1001].pair == (1, 2) and part[1002].pair == (-1, -1)
    over = prove([analyse(formats.read(squares([*boxes, (0.3, 0.3, 0.5, 0.4)]), "a.obj"), 0)[0]], None, 1000, (2, 1)).tiles  # type: ignore[list-item]
    assert over[1001].gap_px == 0 and 5 in over[1001].pair and over[1002].gap_px == pytest.approx(100)


def test_islands_that_touch_have_no_gap() -> None:
    found = faults(squares([(0.1, 0.1, 0.3, 0.3), (0.3, 0.1, 0.5, 0.3)]))
    assert found["gap"].values[0] == 0 and "overlap" not in found


def test_outside_astride_and_nowhere() -> None:
    """UDIM (common practice; MaterialX documents it): columns 0 to 9, rows from 0 upward."""
    boxes = [(0.1, 0.1, 0.2, 0.2), (0.9, 0.4, 1.1, 0.6), (3.1, 2.1, 3.3, 2.3), (-0.9, 0.1, -0.7, 0.3), (10.1, 0.1, 10.3, 0.3)]
    found = faults(squares(boxes))
    assert list(found["astride"].islands) == [1] and sorted(found["outside"].islands) == [2, 3, 4]
    assert found["outside"].islands[0] == 4, "the farthest comes first"
    wide = faults(squares(boxes), columns=10, rows=3)
    assert sorted(wide["outside"].islands) == [3, 4]


def test_flipped_islands_and_turned_triangles() -> None:
    found = faults(squares([(0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.7, 0.7)], flip=frozenset({1})))
    assert list(found["flipped"].islands) == [1] and found["flipped"].repair == "flip"
    # A square of two triangles, one folded over onto the other.
    fold = b"v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0.1 0.1\nvt 0.5 0.1\nvt 0.5 0.5\nvt 0.45 0.12\nf 1/1 2/2 3/3\nf 1/1 3/3 4/4\n"
    folded = faults(fold)
    assert folded["turned"].count == 1 and folded["self"].count == 1


def test_degenerate_triangles_on_both_sides() -> None:
    flat_uv = PLANE.replace(b"vt 1 1\nvt 0 1", b"vt 0.5 0\nvt 0 0")
    assert faults(flat_uv)["zero_uv"].count == 1
    flat_world = PLANE + b"v 2 0 0\nf 1/1 2/2 5/3\n"  # three positions on a line
    assert faults(flat_world)["zero_world"].detail == "1 triangle"


@pytest.mark.reference("Stretch of sheared and scaled squares", "Sander et al. 2001, closed forms")
@pytest.mark.parametrize(("a", "b", "k"), [(1, 1, 0), (2, 1, 0), (4, 1, 0), (1, 1, 1.5), (3, 2, 0.5)])
def test_stretch_against_closed_forms(a: float, b: float, k: float) -> None:
    """A unit UV square on the parallelogram (a, 0), (k, b): the map has J = [[a, k], [0, b]], so G^2 + g^2 = |J|^2 and
    G g = ab; L2 and Linf by Sander et al. 2001, section 3, times sqrt(1 / ab)."""
    data = f"v 0 0 0\nv {a} 0 0\nv {a + k} {b} 0\nv {k} {b} 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 4/4\n".encode()
    f = find(pieces_of(data))
    square, area = a * a + k * k + b * b, a * b
    greatest = np.sqrt(0.5 * (square + np.sqrt(square**2 - 4 * area**2)))
    assert f.l2[0] == pytest.approx(np.sqrt(0.5 * square / area))
    assert f.linf[0] == pytest.approx(greatest / np.sqrt(area))
    assert f.angle[0] == pytest.approx(0.5 * square / area)
    assert f.distortion[0] == pytest.approx(1)


def test_density_outside_the_band_with_weights_and_limits() -> None:
    """Arithmetic: boxes of 0.1, 0.2 and 0.4 on a square metre at 1000 px are 100, 200 and 400 px/m."""
    data = squares([(0.1, 0.1, 0.2, 0.2), (0.3, 0.3, 0.5, 0.5), (0.55, 0.55, 0.95, 0.95)])
    found = faults(data, target=200.0)
    assert list(found["starved"].islands) == [0] and list(found["lavish"].islands) == [2]
    assert "2 times too blurred" in found["starved"].detail and "2048 px" in found["starved"].remedy
    meant = faults(data, target=200.0, weight=np.array([0.5, 1.0, 2.0]))
    assert "starved" not in meant and "lavish" not in meant
    team = faults(data, target=200.0, weight=np.array([0.5, 1.0, 2.0]), least=150.0, greatest=390.0)
    assert list(team["under_limit"].islands) == [0] and list(team["over_limit"].islands) == [2]
    assert "starved" not in team and "lavish" not in team, "the limits are no part of the band"
    assert "1.5 times too blurred" in team["under_limit"].detail and "1.03 times too sharp" in team["over_limit"].detail
    assert faults(data, greatest=100.0)["over_limit"].count == 2 and faults(data, greatest=400.0).get("over_limit") is None
    assert faults(data, target=200.0, band=101.0).keys() == set()
    assert target_of(find(pieces_of(data)), Limits(Grid(1000), 10, 5)) == pytest.approx(200)


def test_texels_are_told_in_plain_numbers() -> None:
    """It said "4e+02 texels"."""
    data = squares([(0.1, 0.1, 0.2, 0.2), (0.15, 0.15, 0.25, 0.25)])
    assert faults(data, twice_px=412.0)["overlap"].detail == "410 texels are written twice"


def test_mesh_faults() -> None:
    # Three faces at one edge; one of two neighbours wound the other way.
    fan = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 -1 0\nv 0 0 1\nf 1 2 3\nf 2 1 4\nf 1 2 5\n"
    mesh = formats.read(fan, "a.obj").meshes[0]
    assert mesh_faults(mesh).crowded_edges == 1 and mesh_faults(mesh).crowded.all()
    wound = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 -1 0\nf 1 2 3\nf 1 2 4\n"
    assert mesh_faults(formats.read(wound, "a.obj").meshes[0]).against_edges == 1
    good = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 -1 0\nf 1 2 3\nf 2 1 4\n"
    assert mesh_faults(formats.read(good, "a.obj").meshes[0]).against_edges == 0


def test_nothing_and_heaps() -> None:
    nothing = find([])
    assert listing(nothing, Limits(Grid(1000), 10, 5)) == []
    assert isinstance(nothing, Findings) and nothing.box.shape == (0, 4)
    heap = find(pieces_of(grid_obj(60)))
    kinds = {f.kind: f.count for f in listing(heap, Limits(Grid(1000), 10, 5))}
    assert kinds["twins"] == 60 * 59 // 2 and "overlap" not in kinds and "gap" not in kinds


def test_the_map_size_changes_numbers_and_never_the_findings() -> None:
    data = squares([(0.1, 0.1, 0.3, 0.3), (0.306, 0.1, 0.5, 0.3)])
    found = find(pieces_of(data), [np.tile(IDENTITY, (2, 1))])
    px = [listing(found, Limits(Grid(m), 1e3, 0))[0].values[0] for m in (1000, 2000)]
    assert px[1] == pytest.approx(2 * px[0])
