"""Wider gaps between materials, going on from a layout, shapes that are alike, and newer versions of a file."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.arrange.sheet import SheetRules, pack_sheet
from quilt_core.errors import QuiltError
from quilt_core.measure.proof import prove
from quilt_core.pack import Recipe
from quilt_core.uv.analysis import analyse
from quilt_core.uv.twins import alike
from quilt_core.versions.replace import compare

from .test_faults import pieces_of, squares
from .test_sheets import loose, placed


def least_gaps(laid: np.ndarray, kind: np.ndarray, px: int) -> tuple[float, float]:
    """The least distance in px between islands of one kind, and between islands of different kinds (shapely, all pairs)."""
    i, j = np.triu_indices(len(laid), 1)
    d = shapely.distance(laid[i], laid[j]) * px
    same = kind[i] == kind[j]
    return float(d[same].min()), float(d[~same].min())


@pytest.mark.parametrize("bunched", [False, True])
def test_materials_keep_a_wider_gap(bunched: bool) -> None:
    pieces = pieces_of(squares(loose(24)))
    kind = np.arange(24) % 3
    bunch = np.where(np.arange(24) < 6, 0, -1) if bunched else None
    rules = SheetRules(kind=kind, apart_px=12.0, bunch=bunch)
    packed = pack_sheet(pieces, Recipe(512, 4, 2, seconds=2, passes=6), rules=rules)
    assert prove(pieces, packed.transforms, 512, (1, 1)).ok
    same, different = least_gaps(placed(pieces, packed.transforms), kind, 512)
    assert different >= 12 - 0.02 and same >= 4 - 1e-3
    none = pack_sheet(pieces, Recipe(512, 4, 2, passes=2), rules=SheetRules(kind=kind, apart_px=3.0))
    assert least_gaps(placed(pieces, none.transforms), kind, 512)[1] == pytest.approx(4, abs=0.5), "less than the padding asks for nothing"


def test_a_search_goes_on_from_the_layout_as_it_is() -> None:
    rng = np.random.default_rng(5)
    pieces = pieces_of(squares([(0.0, 0.0, float(w), float(h)) for w, h in rng.uniform(0.02, 0.2, (40, 2))]))
    recipe = Recipe(512, 4, 2, passes=12)
    first = pack_sheet(pieces, recipe)
    old = np.concatenate(first.transforms)
    # However short it goes on, what there was is the least that comes out.
    again = pack_sheet(pieces, Recipe(512, 4, 2, passes=1), rules=SheetRules(go_on=True), present=old)
    assert again.result.best.common >= first.result.best.common * (1 - 1e-6)
    cold = pack_sheet(pieces, Recipe(512, 4, 2, passes=1))
    assert again.result.best.common > cold.result.best.common
    longer = pack_sheet(pieces, Recipe(512, 4, 2, passes=30), rules=SheetRules(go_on=True), present=old)
    assert longer.result.best.common >= again.result.best.common * (1 - 1e-6) and prove(pieces, longer.transforms, 512, (1, 1)).ok
    small = old.copy()
    small[3, 2] *= 0.5
    with pytest.raises(QuiltError, match="cannot go on"):
        pack_sheet(pieces, recipe, rules=SheetRules(go_on=True), present=small)
    # A layout that breaks the gaps is no start.
    old[0, 3] += 0.3
    broken = pack_sheet(pieces, Recipe(512, 4, 2, passes=2), rules=SheetRules(go_on=True), present=old)
    assert prove(pieces, broken.transforms, 512, (1, 1)).ok


def test_around_held_islands_the_layout_as_it_is_counts() -> None:
    rng = np.random.default_rng(7)
    pieces = pieces_of(squares([(0.0, 0.0, float(w), float(h)) for w, h in rng.uniform(0.02, 0.25, (40, 2))]))
    first = pack_sheet(pieces, Recipe(512, 4, 2, passes=60))
    old, held = np.concatenate(first.transforms), np.arange(40) % 5 == 0
    again = pack_sheet(pieces, Recipe(512, 4, 2, passes=1), rules=SheetRules(held=held), present=old)
    table = np.concatenate(again.transforms)
    assert (table[:, 2] >= old[:, 2] * (1 - 1e-6)).all() and prove(pieces, again.transforms, 512, (1, 1)).ok
    assert np.array_equal(table[held], old[held])
    # Islands that were scaled since, or a padding that the layout does not keep: packed anew around the held ones.
    small = old.copy()
    small[1, 2] *= 0.5
    for present, padding in ((small, 4), (old, 9)):
        new = pack_sheet(pieces, Recipe(512, padding, 2, passes=4), rules=SheetRules(held=held), present=present)
        found = prove(pieces, new.transforms, 512, (1, 1))
        assert found.overlap_pairs == 0 and np.array_equal(np.concatenate(new.transforms)[held], old[held])
        free = ~held
        boxes = placed(pieces, new.transforms)
        assert shapely.distance(boxes[free][:, None], boxes[held][None, :]).min() * 512 >= padding - 1e-3


L = shapely.Polygon([(0, 0), (3, 0), (3, 1), (1, 1), (1, 4), (0, 4)])


def moved(region: shapely.Geometry, angle: float, scale: float, mirror: float, u: float, v: float) -> shapely.Geometry:
    c, s = scale * np.cos(angle), scale * np.sin(angle)
    return shapely.transform(
        region, lambda xy: np.column_stack([c * mirror * xy[:, 0] - s * xy[:, 1] + u, s * mirror * xy[:, 0] + c * xy[:, 1] + v])
    )


@settings(deadline=None, max_examples=40)
@given(st.floats(0, 6.28), st.floats(0.1, 5), st.sampled_from([1.0, -1.0]), st.floats(-5, 5), st.floats(-5, 5))
def test_one_shape_is_known_in_any_place_turn_and_size(angle: float, scale: float, mirror: float, u: float, v: float) -> None:
    regions = np.array(
        [L, moved(L, angle, scale, mirror, u, v), shapely.box(0, 0, 2, 3), moved(shapely.Point(0, 0).buffer(1), angle, scale, 1, u, v)]
    )
    first, onto = alike(regions, mirrored=True)
    assert first.tolist() == [0, 0, 2, 3]
    laid = moved(regions[1], onto[1, 0], onto[1, 2], onto[1, 1], onto[1, 3], onto[1, 4])
    assert shapely.area(shapely.symmetric_difference(laid, L)) < 0.02 * L.area
    plain, _ = alike(regions, mirrored=False)
    assert plain[1] == (0 if mirror > 0 else 1)


def test_near_shapes_are_not_alike() -> None:
    boxes = np.array(
        [
            shapely.box(0, 0, 1, 1),
            shapely.box(0, 0, 1, 1.2),
            shapely.box(3, 3, 5, 5),
            shapely.box(0, 0, 1, 1).difference(shapely.box(0.4, 0.4, 0.6, 0.6)),
        ]
    )
    assert alike(boxes)[0].tolist() == [0, 1, 0, 3]
    assert alike(np.array([shapely.Polygon()], object))[0].tolist() == [0]


def scene_of(*parts: tuple[str, float]) -> tuple:
    """Objects of two squares each; the second square's UVs are as large as given."""
    out, v = [], 0
    for name, size in parts:
        out.append(f"o {name}")
        for k, s in enumerate((0.1, size)):
            out += [f"v {k} 0 0", f"v {k + 0.5} 0 0", f"v {k + 0.5} 1 0", f"v {k} 1 0"]
            out += [f"vt {x} {y}" for x, y in ((0.5 * k, 0), (0.5 * k + s, 0), (0.5 * k + s, s), (0.5 * k, s))]
            out.append("f " + " ".join(f"{v + i}/{v + i}" for i in (1, 2, 3, 4)))
            v += 4
    scene = formats.read("\n".join(out).encode(), "a.obj")
    return scene, analyse(scene, 0)


def test_a_newer_version_is_matched_by_name_and_shape() -> None:
    old = scene_of(("crane", 0.2), ("punt", 0.3), ("sack", 0.25), ("oar", 0.15))
    new = scene_of(("punt", 0.3), ("crane", 0.4), ("bag", 0.25), ("lamp", 0.35))
    found = compare(*old, *new)
    assert found.same == ["punt", "bag"] and found.new == ["lamp"] and found.gone == ["oar"]
    assert [(c.name, c.same, c.changed, c.new, c.gone) for c in found.changed] == [("crane", 1, 1, 0, 0)]
    assert found.objects == {0: 1, 1: 0, 2: 2}
    assert found.islands[(0, 1)].tolist() == [0, -1] and found.islands[(1, 0)].tolist() == [0, 1]


def test_the_order_of_faces_and_corners_changes_nothing() -> None:
    data = squares([(0.1, 0.1, 0.3, 0.2), (0.5, 0.5, 0.6, 0.9)]).decode()
    rest = [line for line in data.splitlines() if not line.startswith("f ")]

    def with_faces(*faces: str) -> tuple:
        scene = formats.read("\n".join([*rest, *(f"f {f}" for f in faces)]).encode(), "a.obj")
        return scene, analyse(scene, 0)

    cut = with_faces("1/1 2/2 3/3", "1/1 3/3 4/4", "5/5 6/6 7/7", "5/5 7/7 8/8")
    turned = with_faces("7/7 8/8 5/5", "6/6 7/7 5/5", "3/3 1/1 2/2", "4/4 1/1 3/3")
    found = compare(*cut, *turned)
    assert found.same == ["a"] and not (found.changed or found.new or found.gone)
    other = with_faces("1/1 2/2 4/4", "2/2 3/3 4/4", "5/5 6/6 7/7", "5/5 7/7 8/8")
    seen = compare(*cut, *other)
    assert [(c.name, c.same, c.changed) for c in seen.changed] == [("a", 1, 1)], "a square along its other diagonal has other triangles"
