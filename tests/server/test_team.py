"""An installation that a team shares: who is not signed in gets nothing, everything belongs to somebody, and whoever changes something is named."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from quilt_server import signing
from quilt_server.api import api
from quilt_server.batches.models import Asset, Batch
from quilt_server.jobs.worker import run_one
from quilt_server.projects.models import Job, Snapshot

from .test_namesakes import flat, mtl, obj

pytestmark = pytest.mark.django_db(transaction=True)
PASSWORD = "a long blue thread"


@pytest.fixture(autouse=True)
def team(settings: Any) -> Iterator[None]:
    settings.QUILT_TEAM = True
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    signing.attempts.failed.clear()
    yield


class Person:
    """Somebody at a browser of their own, signed in or not."""

    def __init__(self, name: str = "", sign_in: bool = True) -> None:
        self.client = Client(headers={"x-quilt": "1"}, enforce_csrf_checks=True)
        self.ask("GET", "/api/session")
        if name:
            User.objects.create_user(name, password=PASSWORD)
        if name and sign_in:
            assert self.ask("POST", "/api/sign-in", {"name": name, "password": PASSWORD})[0] == 200

    def ask(self, method: str, path: str, body: Any = None, **more: Any) -> tuple[int, Any]:
        token = self.client.cookies.get("csrftoken")
        headers = {"x-csrftoken": token.value} if token else {}
        if body is not None and not more:
            more = {"data": json.dumps(body), "content_type": "application/json"}
        answer = (
            self.client.generic(method, path, headers=headers, **more)
            if "files" not in more
            else self.client.post(path, more["files"], headers=headers)
        )
        data = b"".join(answer.streaming_content) if answer.streaming else answer.content
        return answer.status_code, json.loads(data) if "json" in answer.get("Content-Type", "") else data

    def done(self, job: dict) -> dict:
        Job.objects.filter(pk=job["id"]).update(state="running")
        run_one(job["id"])
        return self.ask("GET", f"/api/jobs/{job['id']}")[1]

    def project(self, picture: bytes = b"") -> int:
        number = self.ask("POST", "/api/projects", {"name": "Quay"})[1]["id"]
        files = {
            "crate.obj": obj([(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]),
            "paint.mtl": mtl("wood.png"),
            "wood.png": picture or flat(7),
        }
        body = {"files": [SimpleUploadedFile(n, b) for n, b in files.items()], "paths": list(files)}
        status, job = self.ask("POST", f"/api/projects/{number}/files", files=body)
        assert status == 200 and self.done(job)["state"] == "done"
        return int(number)

    def state(self, project: int) -> dict:
        return self.ask("GET", f"/api/projects/{project}")[1]

    def change(self, project: int, base: int | None = None, **settings: Any) -> tuple[int, Any]:
        now = self.state(project)
        body = {"base": base or now["snapshot"], "settings": {**now["settings"], "seconds": 0.3, "map_px": 256, **settings}}
        return self.ask("POST", f"/api/projects/{project}/change", body)

    def run(self, project: int, kind: str, **params: Any) -> dict:
        status, job = self.ask(
            "POST", f"/api/projects/{project}/jobs", {"kind": kind, "base": self.state(project)["snapshot"], "params": params}
        )
        assert status == 200, job
        done = self.done(job)
        assert done["state"] == "done", done
        return done


@pytest.fixture
def mira() -> Person:
    return Person("mira")


@pytest.fixture
def tomas() -> Person:
    return Person("tomas")


def paths(project: int, mira: Person) -> list[tuple[str, str]]:
    """Every address of the API, with the numbers of one project in it."""
    delivered = mira.run(project, "deliver", templates="none")["id"]
    baked = mira.run(project, "bake", px=64, rays=4)["id"]
    kept = mira.run(project, "save")["id"]
    state = mira.state(project)
    batch = Batch.objects.create(name="Kit", state="done", owner=User.objects.get(username="mira"))
    asset = Asset.objects.create(batch=batch, name="crate.obj", state="failed", rank=0)
    (file,) = state["files"]
    (image,) = {sha for m in file["materials"] for sha in m["images"].values()}
    out = []
    routes = [
        (f"/api/{path.lstrip('/')}", o.methods)
        for _, r in api._routers
        for path, view in r.path_operations.items()
        for o in view.operations
    ]
    for path, methods in routes:
        job = {"baked": baked, "saved": kept}.get(next((k for k in ("baked", "saved") if k in path), ""), delivered)
        for name, value in (
            ("project_id", project), ("job_id", job), ("layout_id", state["layout"]), ("file_id", file["id"]), ("channel", 0), ("sha", image), ("number", 0),
            ("sheet", 1), ("tile", 1001), ("batch_id", batch.pk), ("asset_id", asset.pk), ("kind", "occlusion"), ("ending", "csv"),
        ):  # fmt: skip
            path = path.replace("{" + name + "}", str(value))
        assert "{" not in path, path
        out += [(m, path) for m in methods]
    assert len(out) > 40
    return out


OPEN = {"/api/session", "/api/sign-in"}
OF_NOBODY = {
    "/api/events",
    "/api/formats",
    "/api/library",
    "/api/batches",
    "/api/projects",
    "/api/jobs",
    "/api/open",
    "/api/sign-out",
} | OPEN


def test_who_is_not_signed_in_gets_nothing_and_a_stranger_sees_nothing_of_others(mira: Person, tomas: Person) -> None:
    project = mira.project()
    mira.change(project)
    mira.run(project, "pack")
    mira.run(project, "deliver")  # which the walk does too: what it measures is kept with the layout
    before = mira.state(project)
    nobody = Person()
    shown = 0
    for method, path in paths(project, mira):
        if path not in OPEN:
            assert nobody.ask(method, path, {})[0] == 401, (method, path)
        if path not in OF_NOBODY:
            assert tomas.ask(method, path, {})[0] in (404, 422), (method, path)
            shown += method == "GET" and mira.ask(method, path)[0] == 200
    assert shown > 12, "the same addresses show its owner what is there"
    assert (
        tomas.ask("GET", "/api/projects")[1] == [] and tomas.ask("GET", "/api/jobs")[1] == [] and tomas.ask("GET", "/api/batches")[1] == []
    )
    assert {k: v for k, v in mira.state(project).items() if k != "job"} == {k: v for k, v in before.items() if k != "job"}


def test_a_project_is_shared_to_look_at_then_to_change_then_no_more(mira: Person, tomas: Person) -> None:
    project = mira.project()
    people = f"/api/projects/{project}/people"
    assert mira.ask("GET", people)[1] == {"owner": "mira", "mine": True, "shared": [], "others": ["tomas"]}
    mira.ask("POST", people, {"name": "tomas", "how": "look"})
    assert [(p["owner"], p["may_change"]) for p in tomas.ask("GET", "/api/projects")[1]] == [("mira", False)]
    assert tomas.state(project)["may_change"] is False
    for path, body in (
        (f"/api/projects/{project}/plan", {"sheet": 1}),
        (f"/api/projects/{project}/suggest", {"sheets": [1], "by": "object"}),
    ):
        assert tomas.ask("POST", path, body)[0] == 200, "looking asks for figures too"
    status, told = tomas.change(project)
    assert status == 403 and "mira can let you change it" in told["detail"]
    assert tomas.ask("POST", people, {"name": "mira", "how": "look"})[0] == 403
    mira.ask("POST", people, {"name": "tomas", "how": "change"})
    assert tomas.change(project)[0] == 200
    for method, path in (("DELETE", ""), ("POST", "/purge"), ("POST", "/people")):
        status, told = tomas.ask(method, f"/api/projects/{project}{path}", {"name": "tomas", "how": "none"})
        assert status == 403 and "belongs to mira" in told["detail"], (method, path, told)
    assert mira.ask("POST", people, {"name": "tomas", "how": "none"})[1]["shared"] == []
    assert tomas.ask("GET", f"/api/projects/{project}")[0] == 404
    assert mira.ask("POST", people, {"name": "nobody", "how": "look"})[0] == 422


def test_changes_say_who_made_them_and_a_conflict_says_it_too(mira: Person, tomas: Person) -> None:
    project = mira.project()
    mira.ask("POST", f"/api/projects/{project}/people", {"name": "tomas", "how": "change"})
    old = mira.state(project)["snapshot"]
    assert tomas.change(project, padding_px=3.0)[0] == 200
    now = mira.ask("GET", f"/api/projects/{project}/now")[1]
    assert now["author"] == "tomas" and "padding" in now["label"] and now["snapshot"] != old
    status, told = mira.change(project, base=old)
    assert status == 409 and told["detail"].startswith("tomas changed this project meanwhile")
    tomas.run(project, "pack")
    assert mira.state(project)["author"] == "tomas", "what a job makes is made by who asked for it"
    assert set(Snapshot.objects.filter(project=project).exclude(author=None).values_list("author__username", flat=True)) == {
        "mira",
        "tomas",
    }
    status, started = tomas.ask(
        "POST", f"/api/projects/{project}/jobs", {"kind": "pack", "base": mira.state(project)["snapshot"], "params": {}}
    )
    assert status == 200
    status, told = mira.ask(
        "POST", f"/api/projects/{project}/jobs", {"kind": "pack", "base": mira.state(project)["snapshot"], "params": {}}
    )
    assert status == 409 and told["detail"].startswith("tomas has work done")
    work = mira.ask("GET", f"/api/projects/{project}/now")[1]["work"]
    assert work == {"id": started["id"], "author": "tomas", "text": "Waiting for the worker", "part": None}
    Job.objects.filter(pk=started["id"]).update(progress={"text": "Packing Sheet", "seconds": 3.0, "of": 12.0})
    work = mira.ask("GET", f"/api/projects/{project}/now")[1]["work"]
    assert (work["text"], work["part"]) == ("Packing Sheet", 0.25)
    assert [p.ask("GET", f"/api/jobs/{started['id']}")[1]["mine"] for p in (tomas, mira)] == [True, False]


def test_who_may_look_at_a_project_may_have_a_copy_of_their_own(mira: Person, tomas: Person) -> None:
    project = mira.project()
    mira.change(project)
    assert tomas.ask("POST", f"/api/projects/{project}/copy")[0] == 404, "what is not shared cannot be copied either"
    mira.ask("POST", f"/api/projects/{project}/people", {"name": "tomas", "how": "look"})
    status, made = tomas.ask("POST", f"/api/projects/{project}/copy")
    assert status == 200 and (made["owner"], made["may_change"]) == ("tomas", True)
    before = mira.state(project)
    assert tomas.change(made["id"])[0] == 200 and mira.state(project) == before
    assert mira.ask("GET", f"/api/projects/{made['id']}")[0] == 404, "it is his alone"
    mira.ask("POST", f"/api/projects/{project}/people", {"name": "tomas", "how": "none"})
    assert tomas.state(made["id"])["files"], "and stays his"


def test_a_hash_opens_nothing_of_others(mira: Person, tomas: Person) -> None:
    project = mira.project()
    (image,) = {sha for f in mira.state(project)["files"] for m in f["materials"] for sha in m["images"].values()}
    assert mira.ask("GET", f"/api/pictures/{image}")[0] == 200
    assert tomas.ask("GET", f"/api/pictures/{image}")[0] == 404
    plain = tomas.project(flat(99))
    named = {"pictures": {"1:1001": {"sha": image, "name": "wood.png"}}}
    status, told = tomas.change(plain, **named)
    assert status == 422 and "not brought in" in told["detail"], "a setting that names it opens nothing either"
    assert tomas.ask("GET", f"/api/pictures/{image}")[0] == 404
    answer = tomas.ask("POST", f"/api/projects/{plain}/pictures", files={"file": SimpleUploadedFile("mine.png", flat(3))})
    assert answer[0] == 200 and tomas.change(plain, pictures={"1:1001": {"sha": answer[1]["sha"], "name": "mine.png"}})[0] == 200
    own = tomas.project()  # with the same picture in it
    assert tomas.ask("GET", f"/api/pictures/{image}")[0] == 200, "the same picture, brought in by himself"
    assert own != project


def test_wrong_passwords_are_throttled_by_name_and_by_address(mira: Person) -> None:
    stranger = Person()
    for _ in range(signing.MOST_OF_NAME):
        status, told = stranger.ask("POST", "/api/sign-in", {"name": "Mira", "password": "wrong wrong wrong"})
        assert status == 403 and "do not go together" in told["detail"]
    assert stranger.ask("POST", "/api/sign-in", {"name": "mira", "password": PASSWORD})[0] == 429
    for k in range(signing.MOST_OF_ADDRESS):
        status, _ = stranger.ask("POST", "/api/sign-in", {"name": f"nobody{k}", "password": "x"})
    assert status == 429
    assert mira.ask("GET", "/api/projects")[0] == 200, "who is in stays in"


def test_a_change_needs_the_token_of_its_page_and_cookies_keep_to_themselves(mira: Person) -> None:
    answer = mira.client.post("/api/projects", json.dumps({"name": "x"}), content_type="application/json")
    assert answer.status_code == 403 and "Load it again" in answer.json()["detail"]
    session = mira.client.cookies["sessionid"]
    assert session["httponly"] and session["samesite"] == "Strict"
    old = session.value
    assert mira.ask("POST", "/api/sign-out", {})[0] == 200
    mira.client.cookies["sessionid"] = old
    assert mira.ask("GET", "/api/projects")[0] == 401, "a session that was signed out is none"


def test_nobody_signs_in_on_a_machine_of_ones_own(settings: Any) -> None:
    settings.QUILT_TEAM = False
    own = Client(headers={"x-quilt": "1"})
    assert own.get("/api/session").json() == {"team": False, "user": None}
    assert own.get("/api/projects").status_code == 200
    assert own.post("/api/sign-in", json.dumps({"name": "a", "password": "b"}), content_type="application/json").status_code == 404
    assert "csrftoken" not in own.cookies


def test_the_command_makes_accounts_and_a_start_for_others_needs_one(tmp_path: Path) -> None:
    import os
    import subprocess
    import sys

    root = Path(__file__).resolve().parents[2]
    env = {k: v for k, v in os.environ.items() if k not in ("QUILT_DATA", "DJANGO_SETTINGS_MODULE")} | {"PYTHONPATH": str(root)}

    def quilt(*words: str, say: str = "") -> tuple[int, str]:
        done = subprocess.run(
            [sys.executable, "-m", "quilt_cli", *words],
            input=say,
            cwd=root,
            env=env,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
        return done.returncode, done.stdout + done.stderr

    data = str(tmp_path / "data")
    code, said = quilt("start", "--host", "0.0.0.0", "--port", "1", "--data", data)
    assert code == 2 and "no account yet" in said and "user add" in said
    assert quilt("user", "add", "mira", "--data", data, say="short\n")[0] == 2
    assert quilt("user", "add", "no way", "--data", data, say=f"{PASSWORD}\n")[0] == 2
    assert quilt("user", "add", "mira", "--data", data, say=f"{PASSWORD}\n") == (0, "mira can sign in with it.\n")
    code, said = quilt("user", "add", "Mira", "--data", data, say=f"{PASSWORD}\n")
    assert code == 2 and "already" in said
    assert quilt("user", "list", "--data", data) == (0, "mira\n")
    assert quilt("user", "remove", "mira", "--data", data)[0] == 0
    assert quilt("user", "list", "--data", data) == (0, "")
