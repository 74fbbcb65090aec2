"""A job file as text: its schema, what is wrong with one in words, and which mesh files its patterns mean."""

from __future__ import annotations

import random
import re
from pathlib import Path

import pytest

from quilt_core.errors import FileError, QuiltError
from quilt_server.jobfile import text
from quilt_server.jobfile.model import JobFile
from quilt_server.jobfile.schema import published
from quilt_server.jobfile.setting import settings_of_job
from quilt_server.jobfile.taking import fitting, found_files
from tests.kit.processes import ROOT

from .test_job_files import FILES, folder

__all__ = ["folder"]
pytestmark = pytest.mark.django_db


def test_the_published_schema_is_what_is_read() -> None:
    assert (ROOT / "docs" / "job.schema.json").read_text() == published(), "python -m quilt_server.jobfile.schema > docs/job.schema.json"


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("job = 1\n[recipe]\nmap = 3", "recipe knows no 'map'; did you mean 'map_px'?"),
        ('job = 1\n[[rules]]\nobjekts = ["a"]\nweight = 2', "rules[1] knows no 'objekts'; did you mean 'objects'?"),
        ('job = 1\nrecipies = {}', "its top knows no 'recipies'; did you mean 'recipes'?"),
        ('job = 1\n[[steps]]\ndo = "unrap"', "steps[1] has do = 'unrap', which is no step; did you mean 'unwrap'?"),
        ('job = 1\n[[steps]]\ndo = "unwrap"\nstrech = 1.3', "steps[1] knows no 'strech'; did you mean 'stretch'?"),
        ('job = 1\n[delivery]\ntemplate = "png"', "delivery knows no 'template'; did you mean 'templates'?"),
        ('job = 1\n[delivery.images]\nfil = "blank"', "delivery.images knows no 'fil'; did you mean 'fill'?"),
        ('job = 1\n[recipe]\nmap_px = "big"', "recipe.map_px is not what it should be"),
        ("job = 2", "it is of version 2"),
        ("recipe = {}", "Write job = 1 at its top"),
        ("job = ", "it cannot be read as a job file"),
        ("", "Write job = 1 at its top"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_job_file_is_told_with_its_place(body: str, words: str) -> None:
    with pytest.raises(FileError, match=r"a\.toml") as e:
        text.read(body.encode(), "a.toml")
    assert words in str(e.value)


def test_damaged_job_files_end_in_words() -> None:
    """Seeded: bytes of a good one changed, cut out and doubled, lines swapped; each is a job or is refused with its name."""
    found = re.search(r"```toml\n(.*?)```", (ROOT / "docs" / "jobs.md").read_text(), re.DOTALL)
    assert found is not None
    good, told = found[1].encode(), 0
    for case in range(400):
        chance = random.Random(case)
        body = bytearray(good)
        for _ in range(chance.randint(1, 4)):
            at, size = chance.randrange(len(body)), chance.randint(1, 40)
            kind = chance.randrange(4)
            if kind == 0:
                body[at] = chance.randrange(256)
            elif kind == 1:
                del body[at : at + size]
            elif kind == 2:
                body[at:at] = body[at : at + size]
            else:
                body[at:at] = chance.choice([b"nan", b"-1", b"1e999", b"[[[[", b"= {}", b"\xff", b'"', b"999999999999999999999"])
        try:
            settings_of_job(text.read(bytes(body), "a.toml"))
        except FileError as e:
            told += 1
            assert str(e).startswith("a.toml")
        except QuiltError:
            told += 1
    assert 200 < told < 400


def test_patterns_find_files_in_their_order_and_never_outside(folder: Path) -> None:
    (folder / "out").mkdir()
    (folder / "out" / "crate.obj").write_bytes(FILES["crate.obj"])

    def found(*patterns: str) -> list[str]:
        return found_files(JobFile(input={"files": list(patterns)}), folder, folder / "out")

    assert found("**/*") == ["crate.obj", "props/lid [old].obj"]
    assert found("props/*.obj", "*.obj") == ["props/lid [old].obj", "crate.obj"]
    for bad in ("../*.obj", "/etc/*", "*.glb", "out/*"):
        with pytest.raises(FileError, match=r"out of the folder|no mesh file"):
            found(bad)


def test_patterns_of_many_folders_take_no_time() -> None:
    deep = "/".join("abcdefghij" * 4)
    names = [f"{deep}/crate.obj", "crate.obj", "props/crate.obj"]
    assert fitting(JobFile(input={"files": ["/".join(["**"] * 40 + ["crate.obj"])]}), names) == sorted(names)
    assert fitting(JobFile(input={"files": ["*/crate.*"]}), names) == ["props/crate.obj"]
    with pytest.raises(FileError, match="none came along"):
        fitting(JobFile(input={"files": ["/".join(["**", "a"] * 30)]}), names)


def test_the_job_file_of_the_documentation_is_one() -> None:
    found = re.search(r"```toml\n(.*?)```", (ROOT / "docs" / "jobs.md").read_text(), re.DOTALL)
    assert found is not None
    asked = text.read(found[1].encode(), "docs.toml")
    assert [s["name"] for s in settings_of_job(asked)["sheets"]] == ["Hull", "Ropes"] and len(asked.steps) == 2
