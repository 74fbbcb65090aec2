"""Small files that ask for much: read within the bounds that are promised, or refused in words. Each in a child with exactly these bounds."""

from __future__ import annotations

import io
import os
import time

import pytest

from quilt_cli.child import READING, Bounds, Limit, Opened, bounded
from quilt_core import formats
from quilt_core.errors import FileError, QuiltError
from quilt_core.formats.pictures import shown
from quilt_server.archives import Most, unzipped

from .bombs import BOMBS, wide_png, zeros


@pytest.mark.parametrize("name", BOMBS)
def test_a_small_file_takes_little_or_is_refused(name: str) -> None:
    file, data, beside = BOMBS[name]()

    def work(limit: Limit) -> int:
        return len(formats.read(data, file, 1.0, Opened(beside, limit, len(data))).objects)

    try:
        assert bounded(work, file, len(data)) > 0
    except FileError as e:
        assert e.file and e.what and "cannot be read (" not in str(e), "an error that is not ours"


def test_a_child_that_takes_more_memory_than_it_may_ends_in_words() -> None:
    with pytest.raises(FileError, match=r"greedy.obj: reading it takes more than 200 MB"):
        bounded(lambda _: len(bytearray(300 << 20)), "greedy.obj", 100)
    assert bounded(lambda _: len(bytearray(100 << 20)), "modest.obj", 100) == 100 << 20


def test_a_child_that_takes_more_time_than_it_may_ends_in_words() -> None:
    def spin(_: Limit) -> int:
        while True:
            pass

    with pytest.raises(FileError, match="more time than a sound file"):
        bounded(spin, "slow.obj", 0, Bounds(seconds=0.3))


def test_a_child_that_crashes_ends_in_words() -> None:
    with pytest.raises(FileError, match=r"torn\.usdc: it is damaged"):
        bounded(lambda _: os.abort(), "torn.usdc", 0)
    with pytest.raises(FileError, match=r"it cannot be read \(ZeroDivisionError\)"):
        bounded(lambda _: 1 // 0, "odd.glb", 0)


def test_what_a_child_says_comes_through() -> None:
    def refuse(_: Limit) -> None:
        raise FileError("a.obj", "it is upside down", "line 3", "Turn it.")

    with pytest.raises(FileError) as e:
        bounded(refuse, "a.obj", 0)
    assert (e.value.file, e.value.what, e.value.where, e.value.remedy) == ("a.obj", "it is upside down", "line 3", "Turn it.")
    begin = time.monotonic()
    with pytest.raises(QuiltError, match="Stopped"):
        bounded(lambda _: time.sleep(60), "a.obj", 0, READING, lambda: True)
    assert time.monotonic() - begin < 30


def test_a_zip_of_zeros_is_refused_before_it_is_opened() -> None:
    data, kept = zeros(400), []
    assert len(data) < 1 << 20

    def keep(parts: object) -> int:
        kept.append(sum(len(p) for p in parts))  # type: ignore[attr-defined]
        return kept[-1]

    with pytest.raises(FileError, match="400 MB of almost nothing"):
        unzipped("z.zip", io.BytesIO(data), Most(1 << 31, 1 << 30, 100), keep)
    with pytest.raises(FileError, match="a file has 100 MB at most"):
        unzipped("z.zip", io.BytesIO(data), Most(1 << 31, 100 << 20, 100), keep)
    with pytest.raises(FileError, match="1 are taken at once"):
        unzipped("z.zip", io.BytesIO(data), Most(1 << 31, 1 << 30, 1), keep)
    assert not kept


def test_a_wide_picture_is_refused_by_its_pixels() -> None:
    data = wide_png(13_300)
    assert len(data) < 1 << 20
    with pytest.raises(FileError, match="13300 x 13300 px, more than is taken"):
        shown(data, 512, 100_000_000)
