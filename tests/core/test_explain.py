"""What limits a layout: hints are measured, so the trial can be repeated and must come out as told."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import shapely

from quilt_core import formats
from quilt_core.arrange.sheet import SheetRules, pack_sheet
from quilt_core.edit.moves import boxes, centres, turned
from quilt_core.edit.repairs import even, flip_back
from quilt_core.errors import QuiltError
from quilt_core.measure.proof import flipped, prove
from quilt_core.pack import Recipe, Rules, explain, pack
from quilt_core.pack.explain import halves, limiting
from quilt_core.uv.analysis import IDENTITY, analyse
from quilt_core.uv.density import densities

from .test_faults import squares

BAR = np.array([shapely.box(0, 0, 12, 0.2)] + [shapely.box(0, 0, 0.8, 0.8)] * 12, object)
RECIPE = Recipe(512, 4, 2, passes=20)


def test_a_long_bar_is_named_and_turning_or_cutting_it_gains() -> None:
    """Arithmetic: turned by 45 degrees a bar may be up to sqrt(2) times as long as the side, cut in two up to twice."""
    found = explain(BAR, RECIPE)
    gains = {h.kind: h for h in found.hints}
    assert found.long == [0] and gains["turn"].islands == [0] and gains["cut"].islands == [0]
    assert 1.15 < gains["turn"].gain <= np.sqrt(2) and 1.4 < gains["cut"].gain <= 2
    assert [h.gain for h in found.hints] == sorted((h.gain for h in found.hints), reverse=True)


def test_a_hint_comes_out_as_told() -> None:
    hint = next(h for h in explain(BAR, RECIPE).hints if h.kind == "turn")
    free = Rules(rotate=tuple("free" if i in hint.islands else "90" for i in range(len(BAR))))
    assert pack(BAR, RECIPE, rules=free).best.common / pack(BAR, RECIPE).best.common == pytest.approx(hint.gain)
    narrow = next(h for h in explain(np.array([shapely.box(0, 0, 1, 1)] * 25, object), RECIPE).hints if h.kind == "padding")
    assert narrow.value == 2 and narrow.gain > 1.01


def test_stopping_and_what_cannot_be_packed() -> None:
    calls: list[int] = []
    assert explain(BAR, RECIPE, stop=lambda: len(calls) > 0, tell=lambda done, of: calls.append(done)).hints == []
    with pytest.raises(QuiltError):
        explain(np.array([shapely.box(0, 0, 1, 1)] * 400, object), replace(RECIPE, padding_px=100, passes=2))


def test_halves_and_limits() -> None:
    ring = shapely.Point(0, 0).buffer(2).difference(shapely.Point(0, 0).buffer(1))
    for shape in (shapely.box(0, 0, 5, 1), shapely.box(0, 0, 1, 5), ring):
        parts = halves(shape)
        assert len(parts) == 2 and sum(p.area for p in parts) == pytest.approx(shape.area)
    assert limiting(np.array([shapely.box(0, 0, 9, 1), shapely.box(0, 0, 5, 5)], object), 0.1) == ([0], [1])


def test_held_islands_of_a_sheet_stay_and_weights_hold_for_the_rest() -> None:
    data = squares([(0.05, 0.05, 0.25, 0.25), (0.3, 0.3, 0.5, 0.5), (0.6, 0.6, 0.9, 0.9), (0.1, 0.6, 0.4, 0.9)])
    pieces = [p for p in analyse(formats.read(data, "a.obj"), 0) if p is not None]
    present = np.tile([0.0, 1.0, 1.0, 0.0, 0.0], (4, 1))
    held = np.array([True, False, False, False])
    recipe = Recipe(512, 4, 2, passes=16)
    weight = np.array([1.0, 1.0, 0.5, 1.0])
    packed = pack_sheet(pieces, recipe, weight=weight, rules=SheetRules(("90", "none", "90", "90"), held), present=present)
    table = packed.transforms[0]
    assert np.array_equal(table[0], present[0]) and table[1, 0] == 0
    d = densities(pieces[0].islands.area * table[:, 2] ** 2, pieces[0].world_area, 512)
    assert d[2] / d[1] == pytest.approx(0.5) and d[3] / d[1] == pytest.approx(1)
    proof = prove(pieces, packed.transforms, 512)
    assert proof.ok and proof.gap_px is not None and proof.gap_px >= 4 - 1e-3
    present[0, 3:] = 0.9
    with pytest.raises(QuiltError, match="held islands lie outside"):
        pack_sheet(pieces, recipe, rules=SheetRules(None, held), present=present)


def test_what_was_flipped_back_straightened_or_evened_stays_so_when_packed() -> None:
    data = squares([(0.1, 0.1, 0.3, 0.3), (0.5, 0.5, 0.7, 0.7), (0.1, 0.6, 0.4, 0.9)], flip=frozenset({0}))
    pieces = [p for p in analyse(formats.read(data, "a.obj"), 0) if p is not None]
    everything = np.ones(3, bool)
    present = flip_back(pieces[0], np.tile(IDENTITY, (3, 1)), everything)
    present = turned(present, centres(boxes(pieces[0], present)), np.array([0.3, 0.0, -0.2]))
    table = pack_sheet(pieces, Recipe(512, 4, 2, "none", passes=16), present=present).transforms[0]
    assert not flipped(pieces[0], table).any()
    assert np.allclose(table[:, 0], present[:, 0]), "an island that may not turn keeps the turn that it has"
    present = even(pieces[0], present, np.array([True, False, False]), 400.0, 512)
    kept = pack_sheet(pieces, Recipe(512, 4, 2, "90", passes=16), keep_ratios=True, present=present).transforms[0]
    assert np.allclose(kept[:, 2] / kept[0, 2], present[:, 2] / present[0, 2]), "present ratios, not those of the file"
    assert prove(pieces, [kept], 512).ok
