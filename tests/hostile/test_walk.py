"""Two accounts walk over all kinds of work and all settings with values that nobody means: what is told equals what was accepted, every project opens, undo goes
back bit for bit, and nobody sees what is not theirs."""

from __future__ import annotations

import json
import os
import random
from typing import Any

import pytest

from quilt_server.jobs.every import EVERY
from quilt_server.jobs.worker import run_one
from quilt_server.projects.models import Job, Layout, Project, Snapshot
from quilt_server.schemas.settings import Settings
from tests.server.test_team import Person, mira, team, tomas  # noqa: F401  (fixtures)

from .values import Odd

pytestmark = pytest.mark.django_db(transaction=True)
STEPS = int(os.environ.get("QUILT_WALK", "150"))
# What takes long whatever it is asked for, or is walked elsewhere; and the work that only uploads start.
LEFT = {"bake", "propose", "ready", "unwrap", "explain", "pack", "further", "seams", "deliver"}
# What of a state is its own, whichever snapshot it stands for.
MOVES = ("snapshot", "undo", "redo", "tries", "job", "author", "broken")


def still(state: dict[str, Any]) -> str:
    return json.dumps({k: v for k, v in state.items() if k not in MOVES}, sort_keys=True)


class Walk:
    def __init__(self, people: dict[int, Person], seed: int) -> None:
        self.people, self.chance = people, random.Random(seed)
        self.schema = Settings.model_json_schema()
        self.told = {k: 0 for k in ("taken", "refused", "done", "failed")}

    def keys(self, state: dict[str, Any]) -> list[str]:
        return [o["key"] for o in state["objects"]] + [f"{o['file']}:{o['first_island']}" for o in state["objects"]]

    def step(self) -> None:
        project, person = self.chance.choice(list(self.people.items()))
        stranger = next(p for k, p in self.people.items() if k != project)
        status, before = person.ask("GET", f"/api/projects/{project}")
        assert status == 200 and not before["broken"], "every project opens"
        assert stranger.ask("GET", f"/api/projects/{project}")[0] == 404
        odd = Odd(self.chance, self.keys(before))
        (self.change if self.chance.random() < 0.6 else self.work)(project, person, before, odd)
        after = person.state(project)
        assert still(after) == still(person.state(project)), "told twice, told the same"

    def change(self, project: int, person: Person, before: dict[str, Any], odd: Odd) -> None:
        names = self.chance.sample(sorted(self.schema["properties"]), self.chance.choice([1, 1, 2]))
        asked = before["settings"] | {n: odd.of(self.schema["properties"][n], self.schema) for n in names}
        if self.chance.random() < 0.1:
            asked.pop(self.chance.choice(sorted(asked)))
        status, told = person.ask("POST", f"/api/projects/{project}/change", {"base": before["snapshot"], "settings": asked})
        assert status in (200, 422), (status, names, told)
        self.told["taken" if status == 200 else "refused"] += 1
        if status == 422:
            assert isinstance(told["detail"], str) and told["detail"], "in words"
            assert still(person.state(project)) == still(before)
            return
        assert told["settings"] == Settings(**asked).model_dump(), "what is told equals what was accepted"
        self.back_and_forth(project, person, before, told)

    def back_and_forth(self, project: int, person: Person, before: dict[str, Any], after: dict[str, Any]) -> None:
        assert still(person.ask("POST", f"/api/projects/{project}/undo", {"base": after["snapshot"]})[1]) == still(before)
        again = person.ask("POST", f"/api/projects/{project}/redo", {"base": before["snapshot"]})[1]
        assert still(again) == still(after) and again["snapshot"] == after["snapshot"]

    def work(self, project: int, person: Person, before: dict[str, Any], odd: Odd) -> None:
        kind = self.chance.choice(sorted(k.name for k in EVERY.values() if k.asked is not None and k.name not in LEFT))
        schema = EVERY[kind].asked.model_json_schema()
        params = odd.of({**schema, "required": []}, schema)
        if kind == "settings":
            names = self.chance.sample(("sheets", "sheet_of", "twins", "map_px"), 1)
            params = {"settings": before["settings"] | {n: odd.of(self.schema["properties"][n], self.schema) for n in names}}
        body = {"kind": kind, "base": before["snapshot"], "params": params if isinstance(params, dict) else {}}
        status, job = person.ask("POST", f"/api/projects/{project}/jobs", body)
        assert status in (200, 422), (status, body, job)
        if status == 422:
            self.told["refused"] += 1
            return
        Job.objects.filter(pk=job["id"]).update(state="running")
        run_one(job["id"])
        done = person.ask("GET", f"/api/jobs/{job['id']}")[1]
        assert done["state"] in ("done", "failed") and "Something went wrong" not in done["error"], (body, done["error"])
        self.told[done["state"]] += 1
        after = person.state(project)
        if done["state"] == "failed":
            assert still(after) == still(before), (body, done["error"])
        elif after["snapshot"] != before["snapshot"] and after["undo"] is not None:
            self.back_and_forth(project, person, before, after)


@pytest.mark.parametrize("seed", range(2))
def test_two_walk_everywhere_with_values_that_nobody_means(mira: Person, tomas: Person, seed: int) -> None:  # noqa: F811
    walk = Walk({mira.project(): mira, tomas.project(): tomas}, seed)
    for _ in range(STEPS // 2):
        walk.step()
    print(walk.told)
    assert walk.told["taken"] > 5 and walk.told["refused"] > 10 and walk.told["done"] > 1, walk.told
    assert not Snapshot.objects.filter(broken=True).exists(), "nothing landed that could not be shown"


@pytest.mark.parametrize(
    "wrong",
    [
        {"weights": {"FILE:²": 1.0}}, {"held": ["FILE:²"]}, {"tile_of": {"FILE/²": 1001}}, {"sheet_of": {"FILE:١": 1}}, {"rotations": {"²:1": "90"}},
        {"channel_names": {"²": "a"}}, {"weights": {"FILE:" + "9" * 30: 1.0}}, {"twins": [["FILE:0", "FILE:²"]]}, {"density_least": 1e999}, {"band": float("nan")},
        {"sheets": [{"id": 2**70, "name": "A"}]}, {"map_px": 2**70}, {"seed": 2**70}, {"sheets": [{"id": 1, "name": "A", "tile_px": {"²": 64}}]},
        {"links": [{"members": ["FILE/²", "FILE/0"]}]}, {"bunches": [{"name": "b", "members": ["FILE:²"]}]}, {"pictures": {"1:1001": {"sha": "²", "name": "x"}}},
    ],
)  # fmt: skip
def test_settings_of_a_wrong_form_are_refused_in_words_and_nothing_lands(mira: Person, wrong: dict[str, Any]) -> None:  # noqa: F811
    """The first of these shut a project for ever: the step had landed, and no state could be made of it."""
    project = mira.project()
    before = mira.state(project)
    asked = json.loads(json.dumps(wrong).replace("FILE", str(before["files"][0]["id"])))
    for path, body in (
        ("change", {"base": before["snapshot"], "settings": before["settings"] | asked}),
        ("jobs", {"kind": "settings", "base": before["snapshot"], "params": {"settings": before["settings"] | asked}}),
    ):
        status, told = mira.ask("POST", f"/api/projects/{project}/{path}", body)
        assert status == 422 and isinstance(told["detail"], str), told
    assert mira.state(project) == before


def test_a_project_whose_last_step_cannot_be_shown_opens_at_the_one_before_it(mira: Person) -> None:  # noqa: F811
    """As an older version, or a fault of ours, could have left it."""
    project = mira.project()
    good = mira.change(project, padding_px=3.0)[1]
    middle = mira.change(project, padding_px=4.0)[1]
    mira.change(project, padding_px=5.0)
    for s in Snapshot.objects.filter(pk__in=(middle["snapshot"], mira.state(project)["snapshot"])):
        s.settings = s.settings | {"weights": {"1:²": 2.0}, "band": s.settings["band"] + 1}
        s.created = s.created.replace(microsecond=(s.created.microsecond + 1) % 1_000_000)
        s.save()
    status, told = mira.ask("GET", f"/api/projects/{project}")
    assert status == 200 and still(told) == still(good)
    assert told["snapshot"] == good["snapshot"] and told["broken"].startswith("Change") and told["redo"] is None
    assert mira.ask("POST", f"/api/projects/{project}/redo", {"base": good["snapshot"]})[1]["snapshot"] == good["snapshot"]
    status, told = mira.change(project, padding_px=6.0)
    assert status == 200 and told["broken"] is None and Project.objects.get(pk=project).head_id == told["snapshot"]


@pytest.mark.parametrize(
    "inputs",
    [{"recipe": 3}, {"recipe": {"padding_px": {}}, "tiles": {}, "files": [], "read": [], "islands": 1, "count": "x"}, {"recipe": {"new_rule": 1}, "tiles": {"odd": [1]},
     "files": {}, "read": [], "islands": "", "count": 0}, {"x": 1}, {"recipe": {"rotate": 3, "map_px": "big"}, "tiles": {}, "files": {}, "read": [], "islands": "", "count": 0}],
)  # fmt: skip
def test_a_saved_project_with_forged_inputs_opens_whole_or_is_refused(mira: Person, inputs: dict[str, Any]) -> None:  # noqa: F811
    """It opened as done, and then answered 500 for ever."""
    import hashlib
    import io
    import zipfile

    from django.core.files.uploadedfile import SimpleUploadedFile

    project = mira.project()
    mira.change(project)
    mira.run(project, "pack")
    saved = mira.run(project, "save")
    body = mira.ask("GET", f"/api/jobs/{saved['id']}/saved")[1]
    old = zipfile.ZipFile(io.BytesIO(body))
    parts = {n: old.read(n) for n in old.namelist()}
    tables = json.loads(parts["project.json"])
    assert any(x["inputs"] for x in tables["layouts"]) and tables["fresh"]
    for layout in tables["layouts"]:
        layout["inputs"] = inputs
    tables["fresh"] = {k: [] for k in tables["fresh"]}
    parts["project.json"] = json.dumps(tables).encode()
    manifest = json.loads(parts["manifest.json"])
    for p in manifest["parts"]:
        p["bytes"], p["sha256"] = len(parts[p["path"]]), hashlib.sha256(parts[p["path"]]).hexdigest()
    parts["manifest.json"] = json.dumps(manifest).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as new:
        for name, part in parts.items():
            new.writestr(name, part)
    status, opened = mira.ask("POST", "/api/open", files={"file": SimpleUploadedFile("forged.quilt.zip", out.getvalue())})
    assert status == 200
    Job.objects.filter(pk=opened["job"]["id"]).update(state="running")
    run_one(opened["job"]["id"])
    done = mira.ask("GET", f"/api/jobs/{opened['job']['id']}")[1]
    status, state = mira.ask("GET", f"/api/projects/{opened['project']}")
    if done["state"] == "done":
        assert status == 200 and state["sheets"][0]["stale"], "it is another layout than that of the state"
    else:
        assert done["state"] == "failed" and "forged" in done["error"]
    assert Layout.objects.filter(project=project).exists()
