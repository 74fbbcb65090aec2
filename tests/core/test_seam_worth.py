"""What seams are worth: many sewings tried at once say what sewing each by itself comes to."""

from __future__ import annotations

import time

import numpy as np
import pytest

from quilt_core import formats
from quilt_core.errors import Cancelled, QuiltError
from quilt_core.unwrap.flatten import frames
from quilt_core.unwrap.ledger import SeamRun, runs_of, singular, worth
from quilt_core.unwrap.scenes import laying_in
from quilt_core.unwrap.seams import sew
from quilt_core.unwrap.skin import Laying, Skin
from quilt_core.uv.analysis import analyse
from tests.real_files import path


def controller(mesh: int) -> tuple[Skin, Laying]:
    """A mesh of a real controller, as its makers laid it out."""
    file = path("webxr", "hp-mixed-reality/left.glb")
    scene = formats.read(file.read_bytes(), file.name, 1.0, {})
    piece = analyse(scene, 0)[mesh]
    assert piece is not None
    return laying_in(scene, mesh, 0, piece, None)


def under(skin: Skin, laying: Laying, faces: np.ndarray) -> float:
    """The share of some faces' surface that is stretched by less than 1.1."""
    big, small = singular(frames(skin.surface)[faces], laying.uv[faces])
    area = skin.surface.area[faces]
    return float(area[big < 1.1 * small].sum() / area.sum())


@pytest.mark.parametrize("mesh", [5, 6])
def test_seams_tried_together_are_worth_what_each_is_by_itself(mesh: int) -> None:
    """Compared with the sewing that the artist's button does: whether it can be, and what comes over a stretch of 1.1."""
    skin, laying = controller(mesh)
    found = worth(skin, laying)
    assert len(found) >= len(runs_of(skin, laying)) > 10
    for r in found:
        mine = np.flatnonzero(np.isin(laying.island, r.islands))
        try:
            sewn, _ = sew(skin, laying, r.edges)
        except QuiltError as e:
            assert r.why == str(e)
            continue
        grown = under(skin, laying, mine) - under(skin, sewn, mine)
        assert not r.why
        if r.free:
            assert grown <= 0.005 + 1e-6
        else:
            # What clearly costs something is not laid flat to its end, so that its price is about right; never is it called free, or free called dear.
            assert grown > 0.005 or r.stretch[1] > r.stretch[0]
            assert abs(grown - r.grown) < 0.3


def test_seams_stand_in_the_order_of_what_there_is_to_weigh() -> None:
    """First what has a price, the cheapest for its length first; then what cannot be; last what is free."""

    def run(grown: float, length: float, why: str = "") -> SeamRun:
        return SeamRun(np.array([0]), (0, 1), length, 1.0, (1.0, 1.0), grown, why)

    dear, cheap, free, long, never = run(0.4, 1.0), run(0.4, 4.0), run(0.0, 1.0), run(0.0, 2.0), run(float("nan"), 9.0, "it folds")
    assert sorted([free, never, dear, long, cheap], key=lambda r: r.rank) == [cheap, dear, never, long, free]


def test_a_stop_is_heard_while_seams_are_tried() -> None:
    skin, laying = controller(5)
    begin = time.monotonic()
    with pytest.raises(Cancelled):
        worth(skin, laying, stop=lambda: time.monotonic() > begin)
