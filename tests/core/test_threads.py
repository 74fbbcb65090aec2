"""Two computations at once: their results, what they raise, and that a stop is heard by both though only one thread asks."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest
import trimesh

import quilt_core.unwrap.trial as trial
from quilt_core.errors import Cancelled
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.threads import Stop, side_by_side

from .test_unwrap import mesh_of


def test_results_stand_in_the_order_of_the_tasks() -> None:
    def task(k: int) -> object:
        def run(_: Stop) -> int:
            time.sleep(0.01 * ((7 * k) % 5))
            return k

        return run

    assert side_by_side([task(k) for k in range(9)], lambda: False) == list(range(9))  # type: ignore[misc]
    assert side_by_side([], lambda: False) == []


def test_only_the_calling_thread_asks_and_both_hear_the_stop() -> None:
    asked: set[str] = set()
    begun = threading.Barrier(2)
    heard: list[str] = []

    def stop() -> bool:
        asked.add(threading.current_thread().name)
        return True

    def task(ask: Stop) -> None:
        begun.wait(5)
        for _ in range(500):
            if ask():
                heard.append(threading.current_thread().name)
                raise Cancelled("stopped")
            time.sleep(0.01)
        raise AssertionError("nobody said so")

    with pytest.raises(Cancelled):
        side_by_side([task, task], stop)
    assert asked == {threading.current_thread().name} and len(set(heard)) == 2


@pytest.mark.parametrize("fails", [0, 1])
def test_what_either_raises_is_raised_and_the_other_ends(fails: int) -> None:
    begun = threading.Barrier(2)
    stopped: list[int] = []

    def task(number: int) -> object:
        def run(ask: Stop) -> None:
            begun.wait(5)
            if number == fails:
                raise ValueError(f"task {number}")
            for _ in range(500):
                if ask():
                    stopped.append(number)
                    raise Cancelled("stopped")
                time.sleep(0.01)

        return run

    with pytest.raises(ValueError, match=f"task {fails}"):
        side_by_side([task(0), task(1)], lambda: False)  # type: ignore[list-item]
    assert stopped == [1 - fails], "the other did not go on to its end"


def test_charts_lie_the_same_whether_laid_at_once_or_in_groups(monkeypatch: pytest.MonkeyPatch) -> None:
    solid = trimesh.util.concatenate([trimesh.creation.icosphere(2).apply_translation((3 * k, 0, 0)) for k in range(3)])
    made = []
    for group, batch in ((10**6, 10**6), (50, 120)):
        monkeypatch.setattr(trial, "_GROUP", group)
        monkeypatch.setattr(trial, "_BATCH", batch)
        found = unwrap(mesh_of(solid.vertices, solid.faces), Options())
        made.append((found.charts, found.seam, found.under, found.channel.uvs[found.channel.triangles]))
    assert made[0][:2] == pytest.approx(made[1][:2]) and made[0][2] == pytest.approx(made[1][2])
    assert np.allclose(made[0][3], made[1][3], atol=1e-6)
