"""Damaged files through the whole chain: read, measured, packed, written, read again. Cases are numbers; `python -m tests.hostile` runs more of them."""

from __future__ import annotations

import pytest

from .chain import GOOD, run

BLOCKS, EACH = 20, 100


@pytest.mark.parametrize("block", range(BLOCKS))
def test_damaged_files_end_in_words_or_in_a_sound_file(block: int) -> None:
    found = [o for o in map(run, range(block * EACH, (block + 1) * EACH)) if o.how not in GOOD]
    assert not found, "\n\n".join(f"case {o.case}, {o.seed}: {o.how}\n{o.words}" for o in found)


# Cases that a longer run found, kept: (number, what was wrong).
FOUND = [
    (633, "a mesh of triangles without any edge"),
    (778, "half a sign in a name of a glTF"),
    (2097, "a picture in a glTF whose bytes are damaged"),
    (17404, "a zip that asks for gigabytes to be unpacked"),
    (101969, "a binary USD layer whose damaged value is only unpacked when it is asked for"),
    (163285, "a glTF whose second mesh, which no node shows, has a list for attributes"),
    (184422, "a usdz with a file that has no name"),
    (362924, "a binary USD layer that lists a prim without a name, over which the library ends the program"),
]


@pytest.mark.parametrize(("case", "what"), FOUND, ids=[str(c) for c, _ in FOUND])
def test_what_was_found_stays_mended(case: int, what: str) -> None:
    outcome = run(case)
    assert outcome.how in GOOD, f"{what}: {outcome.words}"
