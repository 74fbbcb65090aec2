"""A job as a file: a project saved as one, read again, and done without a browser, with the same bytes."""

from __future__ import annotations

import io
import json
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from demo.quay import small_set
from quilt_core.errors import QuiltError
from quilt_core.pack.shapes import ANGLES
from quilt_server.jobfile import text
from quilt_server.jobfile.engine import Done, Engine
from quilt_server.jobfile.model import STEPS, JobFile, NamedRecipe, Recipe, Sheet
from quilt_server.jobfile.saving import job_of
from quilt_server.jobfile.setting import ruled, settings_of_job
from quilt_server.jobfile.taking import found_files
from quilt_server.jobfile.who import People
from quilt_server.jobs.kinds import ALL
from quilt_server.projects.models import Project, Snapshot
from quilt_server.projects.sheets import FIRST, IN_RECIPE
from quilt_server.projects.state import RECIPE, settings_of
from tests.core.test_faults import squares
from tests.kit.processes import ROOT

from .test_api import Browser
from .test_namesakes import bring
from .test_sheets import job, settle_settings, sheet

pytestmark = pytest.mark.django_db(transaction=True)
BOXES = [(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9), (0.1, 0.6, 0.2, 0.7), (0.3, 0.6, 0.4, 0.9)]
FILES = {"crate.obj": b"o crate\n" + squares(BOXES), "props/lid [old].obj": b"o lid\n" + squares(BOXES[:2], flip=frozenset({1}))}


@pytest.fixture
def browser() -> Browser:
    b = Browser()
    bring(b, *FILES.items())
    return b


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    for name, body in FILES.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(body)
    return tmp_path


def project_of(browser: Browser) -> Project:
    return Project.objects.get(pk=browser.project)


def done_again(browser: Browser, folder: Path) -> Done:
    """The project's job from its text, done with the files of a folder."""
    again = text.read(text.written(job_of(project_of(browser)).job), "a.toml")
    return Engine(again, folder).run(found_files(again, folder))


def delivered(browser: Browser, **order: object) -> dict[str, bytes]:
    done = job(browser, "deliver", **order)
    assert done["state"] == "done", done["error"]
    archive = zipfile.ZipFile(io.BytesIO(browser.client.get(f"/api/jobs/{done['id']}/output").getvalue()))
    return {n: archive.read(n) for n in archive.namelist()}


def same_bytes(found: dict[str, bytes], wanted: dict[str, bytes]) -> None:
    """All files are the same, the reports too."""
    assert set(found) == set(wanted)
    assert [n for n in wanted if found[n] != wanted[n]] == []


def test_a_job_holds_what_a_recipe_and_a_sheet_hold() -> None:
    """No setting may be forgotten here when one comes in there."""
    assert set(Recipe.model_fields) == {"map_px", *IN_RECIPE} and set(NamedRecipe.model_fields) == set(IN_RECIPE)
    assert set(Sheet.model_fields) == set(FIRST)
    usual = settings_of_job(JobFile())
    assert {k: usual[k] for k in RECIPE} == RECIPE
    for kind in STEPS:
        assert ALL[kind].asked is not None


KEYS = st.sampled_from(["0/0", "1/0", "0:0", "0:1", "0:2", "0:3", "1:0", "1:1"])
GAPS = st.floats(0, 12, allow_nan=False).filter(lambda x: x == 0 or x > 0.001)


@st.composite
def decided(draw: st.DrawFn) -> dict:
    """Settings of a project with two files, by their places, that can work."""
    numbers = draw(st.lists(st.integers(1, 9), min_size=1, max_size=3, unique=True))
    recipes = draw(
        st.dictionaries(
            st.sampled_from(["Fine", "Rough ] one"]), st.fixed_dictionaries({"padding_px": GAPS, "rotate": st.sampled_from(list(ANGLES))})
        )
    )
    sheets = [
        sheet(n, name=f"Sheet {n}" if n % 2 else f'"Hull" {n}', recipe=draw(st.sampled_from(["", *recipes])), columns=draw(st.integers(1, 3)), tile_px={"1001": draw(st.sampled_from([64, 512]))},
              channel=draw(st.none() | st.integers(0, 7)))
        for n in numbers
    ]  # fmt: skip
    return {
        "map_px": draw(st.sampled_from([128, 1024])), "padding_px": draw(GAPS), "margin_px": draw(GAPS), "passes": draw(st.none() | st.integers(1, 99)),
        "seed": draw(st.integers(0, 9)), "hold": draw(st.booleans()), "density": draw(st.floats(1, 5000)), "band": draw(st.floats(0, 99)),
        "density_least": draw(st.none() | st.floats(1, 10)), "recipes": {k: v for k, v in recipes.items()}, "sheets": sheets,
        "weights": draw(st.dictionaries(KEYS, st.sampled_from([0.5, 2.0, 3.25]))), "rotations": draw(st.dictionaries(KEYS, st.sampled_from(list(ANGLES)))),
        "sheet_of": draw(st.dictionaries(KEYS, st.sampled_from(numbers))), "tile_of": draw(st.dictionaries(KEYS, st.sampled_from([1001, 1002]))),
        "held": draw(st.lists(KEYS, unique=True)), "twins": draw(st.lists(st.just(["0:0", "1:0"]) | st.just(["0:1", "0:2"]), unique_by=tuple)),
        "bunches": draw(st.lists(st.just({"name": "Oars", "members": ["0:1", "1/0"], "strict": True}), max_size=1)),
        "links": draw(st.lists(st.just({"members": ["0/0", "1/0"], "onto": False}), max_size=1)), "bunch_objects": draw(st.sampled_from(["", "loose"])),
        "apart_px": draw(st.sampled_from([0.0, 8.0])), "channel_out": draw(st.integers(0, 3)), "channel_names": draw(st.dictionaries(st.sampled_from(["0", "1"]), st.just("light"))),
        "left_out": draw(st.lists(st.sampled_from(["0/0", "1/0"]), unique=True)),
    }  # fmt: skip


def with_numbers(value: object, files: list[int]) -> object:
    """Keys with the numbers of files in place of their places."""
    if isinstance(value, dict):
        return {with_numbers(k, files): with_numbers(v, files) for k, v in value.items()}
    if isinstance(value, list):
        return [with_numbers(v, files) for v in value]
    if isinstance(value, str) and value[:1].isdigit() and value[1:2] in ("/", ":"):
        return f"{files[int(value[0])]}{value[1:]}"
    return value


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(wanted=decided())
def test_a_project_its_file_and_the_settings_of_that_are_one(browser: Browser, wanted: dict) -> None:
    project = project_of(browser)
    assert project.head is not None
    files = sorted(project.head.files)
    wanted = {
        k: with_numbers(v, files)
        if k in ("weights", "rotations", "sheet_of", "tile_of", "held", "twins", "bunches", "links", "left_out")
        else v
        for k, v in wanted.items()
    }
    left_out = wanted.pop("left_out")
    whole = RECIPE | wanted
    whole["recipes"] = {k: {n: whole[n] for n in IN_RECIPE} | v for k, v in wanted["recipes"].items()}
    Snapshot.objects.filter(pk=project.head_id).update(settings=whole, left_out=left_out)
    saved = job_of(project_of(browser)).job
    for ending in (".toml", ".json"):
        again = text.read(text.written(saved, ending), f"a{ending}")
        assert again == saved
        found = ruled(again, People(project_of(browser).head), settings_of_job(again), frozenset(), islands=True)
        assert found.notes == []
        for k, v in settings_of(project_of(browser).head).items():
            got = found.settings[k]
            v = [FIRST | s for s in v] if k == "sheets" else v
            assert (sorted(got) == sorted(v)) if k == "held" else plain(got) == plain(v), k
        assert sorted(found.left_out) == sorted(left_out)


def plain(value: object) -> object:
    """Groups without the order of their members."""
    if isinstance(value, dict):
        return {k: sorted(v) if k == "members" else plain(v) for k, v in value.items()}
    if isinstance(value, list) and value and isinstance(value[0], list):
        return [sorted(v) for v in value]
    return [plain(v) for v in value] if isinstance(value, list) else value


def test_the_job_of_a_project_gives_the_same_bytes(browser: Browser, folder: Path) -> None:
    """Unwrapped, cut, two sheets with tiles of their own size, rules, twins, mirrored back, packed by passes, moved by hand, delivered."""
    files = [f["id"] for f in browser.state()["files"]]
    job(browser, "unwrap", objects=[f"{files[0]}/0"])
    assert [f["id"] for f in browser.state()["files"]] != files
    crate, lid = (next(o for o in browser.state()["objects"] if o["name"] == n) for n in ("crate", "lid"))
    browser.change(
        settings={
            **browser.state()["settings"],
            **{
                "map_px": 256,
                "padding_px": 2.0,
                "margin_px": 1.0,
                "passes": 6,
                "seed": 4,
                "weights": {f"{crate['file']}:1": 2.0, lid["key"]: 1.5},
                "rotations": {lid["key"]: "none"},
            },
        }
    )
    settle_settings(
        browser,
        sheets=[sheet(1, name="Wood"), sheet(2, name="Lids", columns=2, tile_px={"1002": 128})],
        sheet_of={lid["key"]: 2},
        twins=[[f"{crate['file']}:0", f"{crate['file']}:2"]],
    )
    assert job(browser, "mend", action="flip")["result"]["changed"] == 1
    assert job(browser, "pack", sheets=[1, 2])["state"] == "done"
    job(browser, "mend", action="move", rows={str(crate["file"]): [[3, 0.0, 1, 1.0, 0.0009765625, 0.0]]}, label="A little")
    wanted = delivered(browser, templates="svg", images={"fill": "object", "tiles": "1001-1002"})
    found = done_again(browser, folder)
    same_bytes(found.files, wanted)
    assert found.notes == [] and [s["do"] for s in found.steps] == ["unwrap", "mend", "pack", "mend", "deliver"]
    report = json.loads(found.files["report.json"])
    assert report["sheets"]["Lids"]["tiles"][0]["gap_at"][0].startswith("props/lid [old].obj:") and report["settings"]["sheet_of"] == {
        "props/lid [old].obj/0": 2
    }


def test_what_was_picked_by_hand_holds_for_the_same_file_only(browser: Browser, folder: Path) -> None:
    crate = next(o for o in browser.state()["objects"] if o["name"] == "crate")
    job(browser, "seams", operation="relax", islands={str(crate["file"]): [0]})
    file = next(o for o in browser.state()["objects"] if o["name"] == "crate")["file"]
    browser.change(settings={**browser.state()["settings"], "map_px": 128, "passes": 2, "padding_px": 1.0, "held": [f"{file}:1"]})
    saved = job_of(project_of(browser)).job
    assert list(saved.input.seen) == ["crate.obj"]
    same = Engine(saved, folder).run(found_files(saved, folder))
    assert same.notes == []
    (folder / "crate.obj").write_bytes(FILES["crate.obj"] + b"\n# another one\n")
    other = Engine(saved, folder).run(found_files(saved, folder))
    assert [n.partition(" ")[0] for n in other.notes] == ["steps[1],", "rules[1]"] and other.figures["islands"] == 6


def test_a_try_that_was_kept_is_packed_by_its_own_values(browser: Browser, folder: Path) -> None:
    browser.change(settings={**browser.state()["settings"], "map_px": 256, "passes": 3, "padding_px": 2.0, "margin_px": 1.0})
    assert job(browser, "pack", variants=[{"padding_px": 3.0}, {"rotate": "none", "seed": 5}])["state"] == "done"
    first = browser.state()["tries"][0]["id"]
    job(browser, "keep", layout=first)
    saved = job_of(project_of(browser)).job
    assert [s.model_dump(exclude_unset=True) for s in saved.steps] == [
        {"do": "pack", "sheets": ["Sheet 1"], "variants": [{"padding_px": 3.0}]}
    ]
    same_bytes(done_again(browser, folder).files, delivered(browser))


def test_a_copy_and_a_forgotten_history_keep_what_was_done(browser: Browser, folder: Path) -> None:
    crate = next(o for o in browser.state()["objects"] if o["name"] == "crate")
    job(browser, "unwrap", objects=[crate["key"]])
    copy = Browser()
    copy.project = browser.post(f"/api/projects/{browser.project}/copy", {})["id"]
    browser.change(settings={**browser.state()["settings"], "history": 1})
    for band in range(1, 9):
        browser.change(settings={**browser.state()["settings"], "band": float(band)})
        job(browser, "bleed")
    assert Snapshot.objects.filter(project=browser.project).count() < 9
    for b in (browser, copy):
        assert [(s.do, s.objects) for s in job_of(project_of(b)).job.steps] == [("unwrap", ["crate"])]


GOOD = "job = 1\n[recipe]\nmap_px = 128\npasses = 2\npadding_px = 1\n"


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ("rotate = \"7\"", "rotation '7'"),
        ("padding_px = 90", "padding"),
        ('[[rules]]\nsheet = "None"\n', "rules[1] names the sheet 'None': there are Sheet 1"),
        ('[[rules]]\nobjects = ["crate"]\n', "rules[1] says nothing"),
        ('[[rules]]\nislands = [1]\nleft_out = true\n', "whole objects are left out"),
        ('[[steps]]\ndo = "unwrap"\nobjects = ["boat*"]\n', "No object is called boat*"),
        ('[[steps]]\ndo = "pack"\nsheets = ["Hull"]\n', "There is no sheet 'Hull'"),
    ],
)  # fmt: skip
def test_a_job_that_cannot_be_done_says_why(folder: Path, more: str, words: str) -> None:
    asked = text.read((GOOD.replace("padding_px = 1\n", "") + more).encode(), "a.toml")
    with pytest.raises(QuiltError) as e:
        Engine(asked, folder).run(found_files(asked, folder))
    assert words in str(e.value)


def test_a_saved_project_whose_work_is_nonsense_is_saved_as_a_job_without_it(browser: Browser, folder: Path) -> None:
    head = project_of(browser).head
    assert head is not None
    head.work = [
        {"do": "unwrap", "objects": ["crate.obj/0"], "stretch": "much"},
        {"do": "dance"},
        {"do": "pack", "sheets": [1]},
        {"do": "unwrap", "objects": ["gone.obj/7"]},
    ]
    head.save()
    saved = job_of(project_of(browser))
    assert len(saved.notes) >= 1 and Engine(saved.job, folder).run(found_files(saved.job, folder)).figures["islands"] == 6


def test_rules_by_material_and_later_rules(folder: Path) -> None:
    """Of two rules for the same the later one holds; an island's own holds over its object's."""
    body = b"usemtl oak\n" + FILES["crate.obj"].replace(b"f 13", b"usemtl tin\nf 13")
    (folder / "crate.obj").write_bytes(body)
    asked = text.read(
        (GOOD + '[[rules]]\nweight = 2\n[[rules]]\nmaterials = ["tin"]\nweight = 3\n[[rules]]\nobjects = ["l*"]\nweight = 4\n').encode(),
        "a.toml",
    )
    engine = Engine(asked, folder)
    engine.run(found_files(asked, folder))
    people, weights = People(engine.head), settings_of(engine.head)["weights"]
    crate, lid = (people.numbers[n] for n in sorted(FILES))
    assert weights == {f"{crate}/0": 2.0, f"{crate}:3": 3.0, f"{lid}/0": 4.0}


def opened(files: dict[str, bytes], expect: str = "done") -> tuple[Browser, dict]:
    """A new project from a job file that came along with its meshes."""
    b = Browser()
    body = {"files": [SimpleUploadedFile(n.rsplit("/", 1)[-1], v) for n, v in files.items()], "paths": list(files)}
    answer = b.client.post("/api/open-job", body)
    assert answer.status_code == 200, answer.content
    b.project = answer.json()["project"]
    done = b.work(answer.json()["job"])
    assert done["state"] == expect, done
    return b, done


def test_a_job_file_opens_as_a_project_in_the_browser(browser: Browser) -> None:
    browser.change(
        settings={
            **browser.state()["settings"],
            "map_px": 256,
            "passes": 3,
            "padding_px": 2.0,
            "margin_px": 1.0,
            "weights": {browser.state()["objects"][0]["key"]: 2.0},
        }
    )
    job(browser, "pack")
    told = browser.client.get(f"/api/projects/{browser.project}/job-file").json()
    assert told["name"] == "Test.toml" and told["notes"] == []
    other, done = opened(
        {"kit/Test.toml": told["text"].encode(), **{f"kit/{n}": v for n, v in FILES.items()}, "kit/more.obj": FILES["crate.obj"]}
    )
    assert done["result"]["notes"] == [] and [f["name"] for f in other.state()["files"]] == list(FILES) and other.state()["name"] == "Test"
    same_bytes(delivered(other), delivered(browser))
    again = other.client.get(f"/api/projects/{other.project}/job-file").json()
    assert again["text"] == told["text"]


@pytest.mark.parametrize(
    ("files", "words"),
    [
        ({"a.obj": FILES["crate.obj"]}, "There is no job file among these"),
        ({"a.toml": b"job = 1", "b.toml": b"job = 1"}, "There are several job files"),
        ({"a.toml": b"job = 1", "a.txt": b""}, "none came along"),
        ({"a.toml": b"job = 1\n[recipe]\nmapp = 1", "a.obj": FILES["crate.obj"]}, "did you mean 'map_px'"),
        ({"a.toml": b"job = 1\n[[steps]]\ndo = 'pack'\nsheets = ['x']", "a.obj": FILES["crate.obj"]}, "There is no sheet 'x'"),
        ({"a.toml": b"job = 1", "a.obj": b"f 1 2 3"}, "a.obj"),
    ],
)
def test_a_job_that_cannot_be_opened_leaves_an_empty_project(files: dict[str, bytes], words: str) -> None:
    b, done = opened(files, "failed")
    assert words in done["error"] and b.state()["snapshot"] is None


def quilt(*args: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "quilt_cli", *args], capture_output=True, text=True, cwd=ROOT, timeout=300)


def test_the_command_line_does_a_job_and_makes_only_what_is_stale(folder: Path) -> None:
    (folder / "quay.toml").write_text(GOOD)
    command = ("run", str(folder / "quay.toml"), "--out", str(folder / "out"), "--json")
    first = quilt(*command)
    assert first.returncode in (0, 1), first.stderr
    report = json.loads(first.stdout)
    assert report["state"] == "done" and set(report["read"]) == set(FILES) and (folder / "out" / "props" / "lid [old].obj").exists()
    bytes_of = {p: (folder / "out" / p).read_bytes() for p in report["files"]}
    assert json.loads(quilt(*command).stdout)["state"] == "unchanged"
    again = json.loads(quilt(*command, "--force").stdout)
    assert again["state"] == "done" and {p: (folder / "out" / p).read_bytes() for p in again["files"]} == bytes_of
    other = json.loads(quilt(*command, "--set", "recipe.map_px=256", "--set", "delivery.templates=none").stdout)
    assert other["state"] == "done" and not list((folder / "out").glob("template*"))
    (folder / "crate.obj").write_bytes(FILES["crate.obj"] + b"\n# newer\n")
    assert json.loads(quilt(*command, "--set", "recipe.map_px=256", "--set", "delivery.templates=none").stdout)["state"] == "done"


def test_the_command_line_says_what_is_wrong(folder: Path) -> None:
    (folder / "quay.toml").write_text(GOOD)
    for args, code, words in (
        (("--set", "recipe.mapp=3"), 2, "recipe knows no 'mapp'; did you mean 'map_px'? Mend"),
        (("--set", "nothing"), 2, "is no key=value"),
        (("--in", str(folder / "none")), 2, "there is no such folder"),
        (("--out", str(folder)), 2, "the results would lie among the mesh files"),
        (("--set", "recipe.hold=true", "--set", "recipe.density=1000000"), 3, "do not fit"),
    ):
        found = quilt("run", str(folder / "quay.toml"), *args)
        assert found.returncode == code and words in found.stderr, (found.returncode, found.stderr)
        assert len(found.stderr.strip().splitlines()) == 1


def test_the_demo_from_the_browser_to_a_file_and_back(tmp_path: Path) -> None:
    """Its textures, its library of materials and its carried paint come along from the folder."""
    files = small_set()
    for name, body in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(body)
    b = Browser()
    bring(b, *files.items())
    b.change(settings={**b.state()["settings"], "map_px": 256, "padding_px": 1.0, "margin_px": 1.0, "passes": 3})
    job(b, "pack")
    wanted = delivered(b, paint=True, per_sheet=True, format="glb")
    again = done_again(b, tmp_path)
    same_bytes(again.files, wanted)
    assert {n for n in again.read if n.endswith(".png")} == {n for n in files if n.endswith(".png")}
