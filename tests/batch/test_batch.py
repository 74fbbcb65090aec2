"""One job over many assets on a cluster of this machine's processes: workers are killed on the way, a broken asset fails alone, nothing is made twice."""

from __future__ import annotations

import csv
import json
import os
import random
import signal
import subprocess
import sys
import threading
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

import pytest

from quilt_core.errors import FileError
from quilt_server.jobfile import batch, places
from quilt_server.jobfile.assets import assets_of
from quilt_server.jobfile.places import Here
from tests.core.test_faults import squares
from tests.kit.processes import ROOT

# What somebody else on the machine would try.
FOREIGN = """
import sys
from distributed import Client
if __name__ == "__main__":
    Client(sys.argv[1], timeout="5s").submit(print, 1).result(timeout=5)
    print("it ran")
"""
JOB = {"job": 1, "recipe": {"map_px": 256, "passes": 4, "padding_px": 3.0}, "check": {"density_least": 30.0}}


@pytest.fixture(scope="module")
def library(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Ten assets in two folders, one of them broken; one finds its library of materials above itself."""
    top = tmp_path_factory.mktemp("library")
    chance = random.Random(4)
    for n in range(9):
        boxes = [
            (x := chance.uniform(0, 0.6), y := chance.uniform(0, 0.6), x + chance.uniform(0.05, 0.3), y + chance.uniform(0.05, 0.3))
            for _ in range(6 + 3 * n)
        ]
        path = top / ("boats" if n % 2 else "quay") / f"part{n}.obj"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(b"mtllib ../paint.mtl\nusemtl wood\n" + squares(boxes, size=1.0 + n))
    (top / "paint.mtl").write_text("newmtl wood\nKd 0.5 0.4 0.3\n")
    (top / "boats" / "torn.glb").write_bytes(b"glTF\x02\x00\x00\x00")
    return top


def orders(library: Path, out: Path, force: bool = False) -> list[dict[str, Any]]:
    top, paths = places.library(str(library), Here(out))
    return [batch.order_of(a, JOB, top, Here(out), force) for a in assets_of(paths, "file")]


def bytes_of(out: Path) -> dict[str, bytes]:
    """All that was put out, but for how long it took."""
    return {p.relative_to(out).as_posix(): p.read_bytes() for p in out.rglob("*") if p.is_file() and p.name not in ("run.json",)}


def test_a_library_is_done_the_same_by_one_and_by_two_whose_workers_are_killed(library: Path, tmp_path: Path) -> None:
    with batch.cluster(None, 1) as client:
        with urllib.request.urlopen(client.dashboard_link) as shown:
            assert b"bokeh" in shown.read().lower(), "the engine's own page shows the work"
        alone = batch.run(client, orders(library, tmp_path / "one"), lambda *_: None)
    assert [r["state"] for r in alone].count("done") == 9
    torn = next(r for r in alone if r["name"].endswith("torn.glb"))
    assert torn["state"] == "failed" and "torn.glb" in torn["why"] and not (tmp_path / "one" / "boats" / "torn.glb").exists()
    killed: list[int] = []
    with batch.cluster(None, 2) as client:
        over = threading.Event()

        def kill() -> None:
            while not over.wait(4.0) and len(killed) < 3:
                pids = list(client.run(os.getpid).values())
                if pids:
                    killed.append(pids[0])
                    os.kill(pids[0], signal.SIGKILL)

        killer = threading.Thread(target=kill)
        killer.start()
        rows = batch.run(client, orders(library, tmp_path / "two"), lambda *_: None)
        over.set()
        killer.join()
    Here(tmp_path / "two").sweep()
    assert killed
    assert [(r["name"], r["state"], r.get("coverage")) for r in rows] == [(r["name"], r["state"], r.get("coverage")) for r in alone]
    assert bytes_of(tmp_path / "two") == bytes_of(tmp_path / "one")


def test_an_engine_of_its_own_takes_work_from_nobody_else() -> None:
    """A scheduler runs whatever it is sent, and its port is open to every account of the machine."""
    with batch.cluster(None, 1, page=False) as client:
        address, page = client.scheduler.address, client.dashboard_link.rpartition("/")[0]
        for foreign in (address, address.replace("tls://", "tcp://")):
            told = subprocess.run([sys.executable, "-c", FOREIGN, foreign], capture_output=True, text=True, timeout=120)
            assert told.returncode == 1 and "it ran" not in told.stdout, told
        for path in ("/status", "/json/counts.json", "/info/main/workers.html"):
            with pytest.raises(urllib.error.HTTPError, match="404"):
                urllib.request.urlopen(page + path)
        assert client.submit(pow, 2, 5).result() == 32, "its own client is served"


def test_a_second_run_makes_only_what_changed(library: Path, tmp_path: Path) -> None:
    with batch.cluster(None, 1) as client:
        first = batch.run(client, orders(library, tmp_path)[:3], lambda *_: None)
        before = (tmp_path / first[1]["name"] / "run.json").read_bytes()
        (tmp_path / first[2]["name"] / "sheet.png").unlink()
        again = batch.run(client, orders(library, tmp_path)[:3], lambda *_: None)
    assert [r["state"] for r in first[:3]].count("failed") == 0
    assert [r["state"] for r in again] == ["unchanged", "unchanged", "done"]
    assert (tmp_path / first[1]["name"] / "run.json").read_bytes() == before


def quilt(*args: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "quilt_cli", *map(str, args)], capture_output=True, text=True, cwd=ROOT, timeout=300)


def test_the_command_line_does_folders_as_one_and_sums_up(library: Path, tmp_path: Path) -> None:
    (tmp_path / "quay.toml").write_text("job = 1\n[recipe]\nmap_px = 256\npasses = 3\n[check]\ndensity_least = 30.0\n")
    (tmp_path / "list.txt").write_text("# of the quay\nquay/part0.obj\nquay/part2.obj\nboats/part1.obj\n")
    (tmp_path / "quay").symlink_to(library / "quay")
    found = quilt(
        "batch", library / "quay", "--out", tmp_path / "out", "--job", tmp_path / "quay.toml", "--group", "folder", "--workers", 1, "--json"
    )
    assert found.returncode == 0, found.stderr
    told = json.loads(found.stdout)
    assert [a["name"] for a in told["assets"]] == ["all"] and told["workers"] == 1 and told["assets"][0]["state"] == "done"
    assert {p.name for p in (tmp_path / "out" / "all").glob("*.obj")} == {p.name for p in (library / "quay").glob("*.obj")}
    page = (tmp_path / "out" / "batch.html").read_text()
    assert "1 assets" in page and 'src="all/sheet.png"' in page and "<script" not in page
    rows = list(csv.DictReader((tmp_path / "out" / "batch.csv").open()))
    assert rows[0]["name"] == "all" and float(rows[0]["coverage"]) == told["assets"][0]["coverage"]


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (("none",), "no such folder or list"),
        ((".", "--out", "."), "among the mesh files"),
        ((".", "--group", "("), "is no regular expression"),
        (("quay/../list.txt",), "line 2"),
        ((".", "--set", "recipe.mapp=3"), "did you mean 'map_px'"),
        ((".", "--job", "quay.toml", "--map", "512"), "--map holds where there is no job file"),
        ((".", "--workers", "1", "--scheduler", "tcp://127.0.0.1:1"), "No scheduler answers"),
    ],
)
def test_what_cannot_be_done_is_told_in_a_line(library: Path, tmp_path: Path, args: tuple[str, ...], words: str) -> None:
    (library / "list.txt").write_text("quay/part0.obj\nquay/gone.obj\n")
    where, *more = args
    out = () if "--out" in more else ("--out", tmp_path / "o")
    found = quilt("batch", library / where, *(library if m == "." else m for m in more), *out)
    assert found.returncode == 2 and words in found.stderr, found.stderr
    assert len(found.stderr.strip().splitlines()) == 1


def test_assets_by_file_folder_pattern_and_list(library: Path, tmp_path: Path) -> None:
    def names(group: str, where: Path = library) -> dict[str, int]:
        return {a.name: len(a.files) for a in assets_of(places.library(str(where), Here(tmp_path))[1], group)}

    assert (
        len(names("file")) == 10 and names("folder") == {"boats": 5, "quay": 5} and names(r"(part)\d") == {"part": 9, "boats/torn.glb": 1}
    )
    (library / "some.txt").write_text("quay/part0.obj\nboats/part1.obj\n")
    assert names("file", library / "some.txt") == {"boats/part1.obj": 1, "quay/part0.obj": 1}
    # What lies among the results is no asset.
    assert len(places.library(str(library), Here(library / "quay"))[1]) == 5
    assert names("folder", library / "boats") == {"all": 5}


@pytest.mark.parametrize("group", [r"(\.)", "(/)", r"(\.\.)", "(.*)$", "^(.new-)", "(x{150}|.*)"])
def test_a_pattern_gives_every_asset_a_folder_of_its_own_or_is_refused(group: str) -> None:
    paths = [".new-a/b.obj", "../x.obj", f"{'y' * 220}/x.obj", "a//b.obj", "a/\x01.obj"]
    for path in paths:
        try:
            (asset,) = assets_of([path], group)
        except FileError as e:
            assert "cannot be the name of a folder" in str(e)
        else:
            parts = asset.name.split("/")
            assert not {"", ".", ".."} & set(parts) and not any(p.startswith(".new-") for p in parts)
            assert asset.name.isprintable() and max(map(len, parts)) <= 200


def test_results_of_one_asset_never_lie_inside_those_of_another() -> None:
    paths = ["x.obj", "all/y.obj", "a/1.obj", "a/b/2.obj", "a/b/c/3.obj", "a (its own files)/4.obj", "d/5.obj"]
    for group in ("folder", "file", r"^(.*)/", r"^([^/]*)"):
        found = assets_of(paths, group)
        names = [a.name for a in found]
        assert len(set(names)) == len(names) and sum(len(a.files) for a in found) == len(paths)
        assert not [(a, b) for a in names for b in names if b.startswith(f"{a}/")], names
    assert {a.name for a in assets_of(paths[3:4], "folder")} == {"a/b"}, "a name is another one only where it has to be"


@pytest.mark.parametrize("group", ["(a+)+$", "(a|aa)+$", "(.*)*x", r"((a*)*)*b"])
def test_a_pattern_takes_time_with_the_length_of_a_path_whatever_it_is(group: str) -> None:
    """RE2's promise; Python's own engine needs 2^n steps for the first of these."""
    assert len(assets_of([f"{'a' * 100}{k}b!/m.obj" for k in range(50)], group)) >= 1


def test_a_pattern_that_looks_around_is_refused_in_words() -> None:
    for group in ("(?=a)b", r"(a)\1", "(" * 5, "(?P<x>a"):
        with pytest.raises(FileError, match="no regular expression that is taken"):
            assets_of(["a/b.obj"], group)


def test_folders_in_folders_keep_their_results_when_done_again(tmp_path: Path) -> None:
    """The list said that they are there, and the disk had lost them: the folder of one was put in the place of both."""
    top, out = tmp_path / "kit", tmp_path / "o"
    for path in ("quay/a.obj", "quay/inner/b.obj"):
        (top / path).parent.mkdir(parents=True, exist_ok=True)
        (top / path).write_bytes(squares([(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]))
    for force in ((), ("--force",)):
        done = quilt("batch", top, "--group", "folder", "--out", out, "--workers", "1", "--passes", "1", "--map", "256", "--json", *force)
        assert done.returncode == 0, done.stderr
        rows = json.loads(done.stdout)["assets"]
        assert len(rows) == 2 and all((out / row["name"] / "run.json").is_file() for row in rows), rows
