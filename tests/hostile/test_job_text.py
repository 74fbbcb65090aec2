"""Job files that are made to take long, or hold what no job has a use for: refused in a line, at once, and not by the web server's own threads."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from quilt_core.errors import FileError
from quilt_server.jobfile import text
from quilt_server.jobfile.checking import MOST_BYTES, checked_apart
from tests.kit.processes import ROOT

DEEP = ".".join("a" * 1 for _ in range(20_000))


@pytest.mark.parametrize(
    "body",
    [
        f"job = 1\n{DEEP} = 1\n",
        f"job = 1\n[{DEEP}]\nx = 1\n",
        "job = 1\n" + ".".join('"="' for _ in range(5000)) + " = 1\n",
        "job = 1\n" + ".".join("'a b'" for _ in range(5000)) + " = 1\n",
        "job = 1\nx = " + "[" * 5000 + "]" * 5000,
        "job = 1\nx = { " + "y = { " * 3000,
    ],
    ids=["dotted", "table", "quoted", "literal", "lists", "tables"],
)
def test_depth_is_bounded_before_it_costs_anything(body: str) -> None:
    """40 kB of dotted keys took 8.6 s, 300 kB a thread for good."""
    begin = time.process_time()
    with pytest.raises(FileError, match="cannot be read as a job file"):
        text.loaded(body.encode(), "deep.toml")
    assert time.process_time() - begin < 2.0, "a bound of another kind than time: it takes milliseconds"


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("name = 2026-12-01", "name is a date or a time"), ("recipe.map_px = 12:30:00", "recipe.map_px is a date"), ("recipe.padding_px = inf", "without end, or none"),
        ("recipe.padding_px = nan", "without end, or none"), ('name = "a\\u0007b"', "characters that cannot be shown"), ("[[steps]]\ndo = 1979-05-27T07:32:00Z", "is a date"),
    ],
)  # fmt: skip
def test_values_that_no_job_has_are_told_with_their_place(line: str, words: str) -> None:
    with pytest.raises(FileError, match="Write text, a number") as told:
        text.loaded(f"job = 1\n{line}\n".encode(), "odd.toml")
    assert words in str(told.value)


def test_names_with_many_dots_are_no_deep_keys() -> None:
    body = 'job = 1\nname = "a.b.c.d.e.f.g.h.i.j.k.l.m.n.o.p.q.r.s.t.u.v.w.x.y.z.a.b.c.d.e.f.g.h.i.j.k"\n'
    assert text.read(body.encode(), "dots.toml").name.startswith("a.b")


def test_a_date_ends_the_command_in_a_line(tmp_path: Path) -> None:
    """It ended in a traceback."""
    (tmp_path / "d.toml").write_text("job = 1\nname = 2026-12-01\n")
    command = [sys.executable, "-m", "quilt_cli", "run", str(tmp_path / "d.toml")]
    done = subprocess.run(command, cwd=ROOT, env={**os.environ, "PYTHONPATH": str(ROOT)}, capture_output=True, text=True, check=False)
    assert done.returncode == 2 and len(done.stderr.strip().splitlines()) == 1 and "is a date" in done.stderr


def test_what_a_request_brings_is_read_elsewhere() -> None:
    assert checked_apart(b'job = 1\nname = "Kit"\n', "kit.toml")["name"] == "Kit"
    with pytest.raises(Exception, match="a key has more than"):
        checked_apart(f"job = 1\n{DEEP} = 1\n".encode(), "deep.toml")
    with pytest.raises(FileError, match="2 MB at most"):
        checked_apart(b"#" * (MOST_BYTES + 1), "large.toml")
